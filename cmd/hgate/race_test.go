//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/ledger/store"
	"hiddengate/internal/servers"
	"hiddengate/internal/starter"
)

// Fifty processes that approve, refuse and finish at once keep every rule: as many succeed as there are events, a
// request is decided once, and what is over stays so.
func TestFiftyProcessesRace(t *testing.T) {
	t.Run("SQLite", func(t *testing.T) { race(t, "") })
	t.Run("PostgreSQL", func(t *testing.T) {
		address := servers.Postgres(t)
		require.NoError(t, store.PreparePostgres(t.Context(), address, "", ""))
		race(t, address)
	})
}

func race(t *testing.T, at string) {
	dir := filepath.Join(t.TempDir(), "demo")
	require.NoError(t, starter.Write(starter.Demo(), dir))
	require.NoError(t, starter.WriteKeys(dir))
	state := t.TempDir()
	hgate := func(line string, args ...string) (int, string) {
		c := exec.Command(filepath.Join(bin, "hgate"), append(strings.Fields(line), args...)...)
		c.Dir = dir
		c.Env = append(os.Environ(), "XDG_STATE_HOME="+state, "XDG_CONFIG_HOME="+state, "HGATE_LEDGER="+at)
		out, _ := c.CombinedOutput()
		return c.ProcessState.ExitCode(), string(out)
	}
	by := func(who string) string { return " --by " + who + " --key .keys/" + who }
	for round := range 3 {
		code, out := hgate("request drivers-past-the-limits --for 1h --format json"+by("marek.dvorin"), "--reason", "stuck")
		require.Zero(t, code, out)
		var made struct{ Number int64 }
		require.NoError(t, json.Unmarshal([]byte(out), &made))
		var waiting sync.WaitGroup
		var lock sync.Mutex
		done := map[string]int{}
		for range 50 {
			what := []string{"approve %d" + by("ines.okafor"), "approve %d" + by("vera.stahl"), "finish %d" + by("marek.dvorin"),
				"refuse %d --reason no" + by("ines.okafor")}[rand.IntN(4)]
			waiting.Go(func() {
				code, out := hgate(fmt.Sprintf(what, made.Number))
				lock.Lock()
				defer lock.Unlock()
				if word, _, _ := strings.Cut(what, " "); code == 0 {
					done[word]++
				} else {
					assert.Equal(t, 2, code, out)
				}
			})
		}
		waiting.Wait()
		_, out = hgate("log --format ndjson --kind request. --kind loan.")
		kinds := map[string]int{}
		for line := range strings.Lines(out) {
			var e struct {
				Kind  string
				About int64
			}
			require.NoError(t, json.Unmarshal([]byte(line), &e))
			if e.About == made.Number {
				kinds[e.Kind]++
			}
		}
		assert.Equal(t, map[string]int{"request.approved": done["approve"], "request.refused": done["refuse"],
			"loan.ended": done["finish"]}, map[string]int{"request.approved": kinds["request.approved"],
			"request.refused": kinds["request.refused"], "loan.ended": kinds["loan.ended"]}, "round %d", round)
		assert.LessOrEqual(t, done["approve"], 1, "one approval is enough")
		assert.LessOrEqual(t, done["approve"]+done["refuse"], 1, "who refuses what is approved is too late")
		assert.LessOrEqual(t, done["finish"]+done["refuse"], 1)
		assert.Positive(t, done["approve"]+done["refuse"]+done["finish"])
		code, out = hgate("log verify")
		assert.Zero(t, code, out)
		code, _ = hgate(fmt.Sprintf("finish %d", made.Number) + by("marek.dvorin")) // for the next round
		assert.Contains(t, []int{0, 2}, code)
	}
}
