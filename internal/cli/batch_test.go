package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/evaluation"
	"hiddengate/internal/starter"
)

const benchLines = 100_000

// requests writes n requests about the demo: every person in turn, half a dozen operations, changing contexts.
func requests(n int) []byte {
	people := []string{"ines.okafor", "pia.lindqvist", "hana.kobari", "joao.ferraz", "lucas.amarel", "otto.lind"}
	what := [][2]string{{"table.read", "obsdb:sky/frames-0411"}, {"unit.restart", "north-dish"},
		{"interface.change", "ridge-net:base"}, {"run.restart", "reduce:nightly"},
		{"account.set-password", "obsdb:accounts/lucas.amarel"}, {"content.view", "proposals:cycle-9"},
		{"bill.view", "archive"}}
	var b bytes.Buffer
	for i := range n {
		w := what[i%len(what)]
		fmt.Fprintf(&b,
			`{"subject":{"type":"person","id":%q},"action":{"name":%q},"resource":{"type":"any","id":%q},`+
				`"context":{"time":"2027-12-%02dT%02d:%02d:00-01:00","network":"10.40.%d.%d","mfa":%t}}`+"\n",
			people[i%len(people)], w[0], w[1], 1+i%28, i%24, i%60, i%4, i%250, i%3 > 0)
	}
	return b.Bytes()
}

// bare decodes and encodes the same lines with nothing in between.
func bareRun(in io.Reader, out io.Writer) error {
	lines := bufio.NewReaderSize(in, 64<<10)
	w := bufio.NewWriterSize(out, 64<<10)
	enc := json.NewEncoder(w)
	for {
		line, err := lines.ReadSlice('\n')
		if err == io.EOF {
			return w.Flush()
		}
		var e evaluation.Request
		if err := json.Unmarshal(line, &e); err != nil {
			return err
		}
		if err := enc.Encode(evaluation.Answer{Decision: true, Context: evaluation.About{Outcome: "allow"}}); err != nil {
			return err
		}
	}
}

// BenchmarkBatch times the batch mode against bare decoding and encoding, by turns, and reports the median ratio of
// their times and the most memory that was in use.
func BenchmarkBatch(b *testing.B) {
	dir := b.TempDir() + "/demo"
	require.NoError(b, starter.Write(starter.Demo(), dir))
	a := &app{ctx: context.Background(), dir: dir, format: "text", now: time.Now}
	g, err := a.compiled()
	require.NoError(b, err)
	lines := requests(benchLines)
	var ratios []float64
	var peak uint64
	var took time.Duration
	for b.Loop() {
		start := time.Now()
		require.NoError(b, bareRun(bytes.NewReader(lines), io.Discard))
		yardstick := time.Since(start)
		start = time.Now()
		a.In, a.Out = bytes.NewReader(lines), &watch{peak: &peak}
		require.NoError(b, a.tryBatch(g, "-", false))
		took = time.Since(start)
		ratios = append(ratios, float64(took)/float64(yardstick))
	}
	slices.Sort(ratios)
	b.ReportMetric(ratios[len(ratios)/2], "times-bare")
	b.ReportMetric(benchLines/took.Seconds(), "requests/s")
	b.ReportMetric(float64(peak)/(1<<20), "MiB-in-use")
}

// watch throws away what is written and looks at the heap now and then.
type watch struct {
	peak   *uint64
	writes int
}

func (w *watch) Write(p []byte) (int, error) {
	if w.writes++; w.writes%16 == 0 {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		*w.peak = max(*w.peak, m.HeapInuse)
	}
	return len(p), nil
}

func TestBatchSkipsAnEndlessLine(t *testing.T) {
	dir := t.TempDir() + "/demo"
	require.NoError(t, starter.Write(starter.Demo(), dir))
	one := strings.TrimSpace(string(requests(1)))
	for _, end := range []string{"\n", ""} {
		in := one + "\n" + strings.Repeat("x", maxBatchLine+10) + "\n" + one + end
		var out, problems bytes.Buffer
		code := Run(t.Context(), []string{"-C", dir, "try", "--batch", "-"},
			Streams{In: strings.NewReader(in), Out: &out, Err: &problems}, time.Now)
		require.Equal(t, exitWrong, code)
		answers := strings.Split(strings.TrimSpace(out.String()), "\n")
		require.Len(t, answers, 3)
		require.Contains(t, answers[1], "more than 1048576 bytes")
		require.Equal(t, answers[0], answers[2])
	}
}
