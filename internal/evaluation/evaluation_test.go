package evaluation

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/starter"
)

func demo(t testing.TB) *gate.Gate {
	dir := t.TempDir() + "/demo"
	require.NoError(t, starter.Write(starter.Demo(), dir))
	e, err := policyfile.Load(os.DirFS(dir))
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	return g
}

// separated is an estate in which a session may not have both of a person's roles.
const separated = `hidden-gate: 1
catalogs: {desk: {types: [desk, drawer], operations: {paper.read: {level: view}, paper.sign: {level: change},
      paper.burn: {level: govern}}}}
systems: {desk: {kind: desk, unlisted: judge, resources: {a: {}, b: {}, c: {tags: {old: yes}}}}}
people: {ann: {tags: {team: x}}, bob: {}, cyd: {}}
services: {bot: {owner: ann}}
roles: {writer: {allow: [paper.read, paper.sign]}, burner: {allow: [paper.burn, paper.read]},
      looker: {allow: paper.read}}
grants:
  one: {to: [ann, bob], role: writer, on: "desk:a"}
  two: {to: [ann, bob], role: burner, on: ["desk:b", {tags: {old: yes}}], when: {mfa: true}}
  three: {to: [everyone], role: looker, on: "desk:c", when: {context: {device: managed}}}
separations: {apart: {roles: [writer, burner], within: session}}
`

// FuzzBatch holds the answers of a batch, whose lines stand in one buffer that is written over after each, against
// those of one that is asked once, from memory of its own.
func FuzzBatch(f *testing.F) {
	dir := f.TempDir()
	require.NoError(f, os.WriteFile(dir+"/hidden-gate.yaml", []byte(separated), 0o600))
	e, err := policyfile.Load(os.DirFS(dir))
	require.NoError(f, err)
	fresh := func(t testing.TB) *gate.Gate {
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		return g
	}
	for _, seed := range [][]byte{{0, 0, 0, 0}, {0, 1, 1, 0, 0, 1, 2, 0, 0, 2, 1, 1},
		{1, 0, 0, 3, 0, 0, 1, 2, 0, 2, 2, 1, 1, 1, 1, 1, 2, 2, 3, 3}} {
		f.Add(seed)
	}
	long := make([]byte, 4*200)
	for d, i := rand.New(rand.NewPCG(3, 4)), 0; i < len(long); i++ {
		long[i] = byte(d.Uint32())
	}
	f.Add(long)
	whos := []string{`{"type":"person","id":"ann"}`, `{"type":"person","id":"bob"}`, `{"type":"person","id":"cyd"}`,
		`{"type":"service","id":"bot"}`, `{"type":"anonymous","id":""}`, `{"type":"person","id":"b\u006fb"}`}
	operations := []string{"paper.read", "paper.sign", "paper.burn", "paper.reap"}
	places := []string{"desk", "desk:a", "desk:b", "desk:c", "desk:new", "desk:a/new", "desk:%61", "desk:a/n\u0065w"}
	contexts := []string{`{}`, `{"mfa":true}`, `{"mfa":false,"device":"managed"}`,
		`{"device":"own","time":"2027-12-01T22:00"}`, `{"roles":["writer"]}`, `{"roles":["burner"],"mfa":true}`,
		`{"roles":["writer","burner"]}`}
	f.Fuzz(func(t *testing.T, draws []byte) {
		b := New(fresh(t), Options{Now: clock.Of(time.Date(2027, 12, 1, 10, 0, 0, 0, time.UTC))})
		buffer := make([]byte, 1<<10)
		for ; len(draws) >= 4 && len(draws) <= 4*200; draws = draws[4:] {
			pick := func(i int, of []string) string { return of[int(draws[i])%len(of)] }
			line := `{"subject":` + pick(0, whos) + `,"action":{"name":"` + pick(1, operations) +
				`"},"resource":{"type":"any","id":"` + pick(2, places) + `"},"context":` + pick(3, contexts) + `}`
			n := copy(buffer, line)
			got, _ := b.Append(nil, buffer[:n], nil)
			for i := range buffer[:n] {
				buffer[i] = "paper.burn desk:b ann"[i%21] // what stands there next is another request's
			}
			want, _ := New(fresh(t), b.Options).Append(nil, []byte(line), nil)
			require.Equal(t, string(want), string(got), line)
		}
	})
}

// What a batch answers to many lines in one buffer is what the gate says of each.
func TestLinesInOneBufferAreToldApart(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/hidden-gate.yaml", []byte(separated), 0o600))
	e, err := policyfile.Load(os.DirFS(dir))
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	b := New(g, Options{Now: clock.Of(time.Date(2027, 12, 1, 10, 0, 0, 0, time.UTC))})
	alone := map[string]string{}
	buffer, d := make([]byte, 0, 1<<10), rand.New(rand.NewPCG(1, 2))
	for range 2000 { // what is kept moves as it grows, and only then shows that it has become another's
		who, operation := []string{"ann", "bob", "cyd"}[d.IntN(3)],
			[]string{"paper.read", "paper.sign", "paper.burn"}[d.IntN(3)]
		place := []string{"desk:a", "desk:b", "desk:c", "desk"}[d.IntN(4)]
		line := `{"subject":{"type":"person","id":"` + who + `"},"action":{"name":"` + operation + `"},"resource":{"id":"` +
			place + `"},"context":{"mfa":true}}`
		buffer = append(buffer[:0], line...)
		answer, _ := b.Append(nil, buffer, nil)
		if alone[line] == "" {
			g, err := gate.Compile(e, nil)
			require.NoError(t, err)
			c := g.NewContext()
			c.Time(b.Now)
			c.Flag(estate.FactNamed("mfa"), true)
			want, err := g.Decide(gate.Request{Subject: estate.Principal{ID: who}, Operation: operation, Resource: place,
				Context: c})
			require.NoError(t, err)
			alone[line] = plainAnswers[want]
		}
		require.Equal(t, alone[line], string(answer), line)
	}
}

// A plain line is answered as the ordinary reader would have it.
func TestPlainLinesAreTheOrdinaryAnswers(t *testing.T) {
	b := New(demo(t), Options{Now: clock.Of(time.Now())})
	plain, outcomes := 0, map[string]int{}
	draw := func(t *rapid.T) {
		pick := func(name string, of ...string) string { return rapid.SampledFrom(of).Draw(t, name) }
		line := "{" + strings.Join([]string{
			`"subject":` + pick("subject", `{"type":"person","id":"ines.okafor"}`, `{"id":"lucas.amarel","type":"person"}`,
				`{"type":"person","id":"hana.kobari"}`, `{"type":"service","id":"nightly-reduce"}`, `{"type":"anonymous","id":"x"}`,
				`{"type":"group","id":"x"}`, `{"type":"person","id":"nobody"}`, `{}`),
			pick("what",
				`"action":{"name":"table.read"},"resource":{"type":"table","id":"obsdb:sky/frames-0411"}`,
				`"action":{"name":"table.read"},"resource":{"id":"obsdb:sky"}`,
				`"action":{"name":"table.read"},"resource":{"id":"obsdb:%73ky"}`,
				`"action":{"name":"table.read"},"resource":{"id":"obsdb:a//b"}`,
				`"action":{"name":"unit.restart"},"resource":{"id":"north-dish"}`,
				`"resource":{"id":"reduce:nightly"},"action":{"name":"run.restart"}`,
				`"action":{"name":"no.such"},"resource":{"id":"north-dish"}`,
				`"action":{"name":"table.read","name":"table.drop"},"resource":{"id":"obsdb"}`),
			`"context":{` + strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{
				`"time":"2027-12-01T22:00"`, `"time":"tomorrow"`, `"network":"10.40.3.7"`, `"network":"::ffff:10.40.3.7"`,
				`"network":"fe80::1%eth0"`, `"mfa":true`, `"mfa":false`, `"mfa":"yes"`, `"mfa":null`,
				`"sign-in":"passkey"`, `"sign-in":"smoke"`, `"reason":"late"`, `"reason":""`, `"ticket":true`, `"device":"managed"`,
				`"device":true`, `"device":1`, `"roles":[]`, `"roles":"x"`,
			}), 0, 4).Draw(t, "context"), ",") + "}",
		}, pick("between", ",", " , ")) + "}"
		outcome, ok := b.plain([]byte(line), nil)
		if !ok {
			return
		}
		plain++
		outcomes[outcome.String()]++
		want := b.answer([]byte(line), nil)
		require.Equal(t, want.Context.Outcome, outcome.String(), line)
		text, err := json.Marshal(want)
		require.NoError(t, err)
		require.Equal(t, string(text)+"\n", plainAnswers[outcome], line)
	}
	rapid.Check(t, func(t *rapid.T) {
		for range 50 {
			draw(t)
		}
	})
	require.Positive(t, plain)
	require.Len(t, outcomes, 3, "%v", outcomes)
}

// Readers differ in which of two keys counts, so a request has each but once, and as it is written.
func TestAKeyThatOccursTwiceIsAnError(t *testing.T) {
	b := New(demo(t), Options{Now: clock.Of(time.Date(2027, 12, 1, 10, 0, 0, 0, time.UTC))})
	const who, what, where = `"subject":{"type":"person","id":"ravi.menon"}`, `"action":{"name":"content.view"}`,
		`"resource":{"id":"proposals:cycle-9"}`
	for line, says := range map[string]string{
		"{" + who + "," + what + "," + where +
			"}": "",
		"{" + who + "," + what + "," + where +
			`,"context":{"mfa":true,"device":"managed","list":1}}`: "",
		"{" + who + "," + who + "," + what + "," + where +
			"}": `"subject" occurs twice`,
		"{" + who + "," + what + "," + where +
			`,"context":{"mfa":true,"mfa":false}}`: `"context.mfa" occurs twice`,
		"{" + who + "," + what + "," + where +
			`,"context":{"mfa":true,"MFA":false}}`: `"context.MFA" is written context.mfa`,
		"{" + who + "," + what + "," + where +
			`,"context":{"device":"a","Device":"b"}}`: `"context.Device" occurs twice`,
		"{" + who + "," + what + "," + where +
			`,"context":{"m\u0066a":true,"mfa":false}}`: `"context.mfa" occurs twice`,
		"{" + strings.Replace(who, "subject", "Subject", 1) + "," + what + "," + where +
			"}": `"Subject" is written subject`,
		"{" + who + "," + what +
			`,"resource":{"id":"proposals:cycle-9","id":"proposals:cycle-8"}}`: `"resource.id" occurs twice`,
		"{" + who + "," + what +
			`,"resource":{"id":"proposals:cycle-9","ID":"proposals:cycle-8"}}`: `"resource.ID" is written resource.id`,
		"{" + who + "," + what + "," + where +
			`,"context":{"a":1,"b":1,"c":1,"d":1,"e":1,"f":1,"g":1,"h":1,"i":1,"a":2}}`: `"context.a" occurs twice`,
		"{" + who + "," + what + "," + where +
			`,"more":[{"a":1,"A":2}]}`: `"more.A" occurs twice`,
	} {
		out, failed := b.Append(nil, []byte(line), nil)
		require.Equal(t, says != "", failed, "%s: %s", line, out)
		var answer Answer
		require.NoError(t, json.Unmarshal(out, &answer))
		require.Contains(t, answer.Context.Error, says, line)
	}
}
