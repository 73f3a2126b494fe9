//go:build unix

package store_test

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/servers"
)

// writerVariable makes the test program one that appends to a ledger until it is killed, and tells of each event that
// is kept.
const writerVariable = "HGATE_LEDGER_WRITER"

func TestMain(m *testing.M) {
	if at := os.Getenv(writerVariable); at != "" {
		appendForEver(at)
	}
	os.Exit(m.Run())
}

func openAt(at string) (*store.Store, error) {
	if store.IsPostgres(at) {
		return store.OpenPostgres(context.Background(), at, "")
	}
	return store.OpenFile(context.Background(), at, true)
}

func appendForEver(at string) {
	s, err := openAt(at)
	if err != nil {
		panic(err)
	}
	d := rand.New(rand.NewPCG(uint64(os.Getpid()), 1))
	var last int64
	for {
		var made ledger.Event
		err := s.Update(context.Background(), func(w *store.Writer) error {
			e := request(int64(60 + d.IntN(3600)))
			if last > 0 && d.IntN(2) == 0 {
				e = event([]ledger.Kind{ledger.Approved, ledger.Refused, ledger.Finished}[d.IntN(3)], last,
					ledger.DecisionBody{Why: "x"})
			}
			var err error
			made, err = w.Append(e)
			return err
		})
		if err != nil {
			panic(err)
		}
		if made.Kind == ledger.Requested {
			last = made.Number
		}
		fmt.Printf("%d %s\n", made.Number, made.Hash)
	}
}

// Writers that are killed at any moment lose no event that they told of, double none, and leave an index that follows
// from the events.
func TestKilledWritersLoseNothing(t *testing.T) {
	kills := 500
	if testing.Short() {
		kills = 20
	}
	t.Run("SQLite", func(t *testing.T) {
		killed(t, kills, filepath.Join(t.TempDir(), "ledgers", "one.db"))
	})
	t.Run("PostgreSQL", func(t *testing.T) {
		address := servers.Postgres(t)
		require.NoError(t, store.PreparePostgres(t.Context(), address, "", ""))
		killed(t, kills, address)
	})
}

func killed(t *testing.T, kills int, at string) {
	told := map[string]bool{}
	for range kills {
		c := exec.Command(os.Args[0])
		c.Env = append(os.Environ(), writerVariable+"="+at)
		out, err := c.StdoutPipe()
		require.NoError(t, err)
		c.Stderr = os.Stderr
		require.NoError(t, c.Start())
		lines := bufio.NewScanner(out)
		first := make(chan bool, 1)
		done := make(chan bool)
		go func() {
			for lines.Scan() {
				told[lines.Text()] = true
				select {
				case first <- true:
				default:
				}
			}
			close(done)
		}()
		select {
		case <-first:
			time.Sleep(time.Duration(rand.IntN(8000)) * time.Microsecond)
		case <-time.After(20 * time.Second):
			t.Fatal("the writer writes nothing")
		}
		require.NoError(t, c.Process.Kill())
		<-done
		_ = c.Wait()
	}
	s, err := openAt(at)
	require.NoError(t, err)
	defer s.Close()
	var chain ledger.Chain
	seen := map[string]bool{}
	require.NoError(t, s.View(t.Context(), func(r *store.Reader) error {
		if err := r.Events(store.Filter{}, func(number int64, e ledger.Event, wrong error) bool {
			require.NoError(t, wrong)
			require.NoError(t, chain.Next(number, e))
			seen[fmt.Sprintf("%d %s", e.Number, e.Hash)] = true
			return true
		}); err != nil {
			return err
		}
		stale, err := r.Stale()
		assert.Empty(t, stale)
		return err
	}))
	for line := range told {
		if strings.Count(line, " ") == 1 && len(line) > 64 { // a last line may be cut off
			assert.True(t, seen[line], "%s was told of and is not there", line)
		}
	}
	assert.Greater(t, len(told), kills)
}
