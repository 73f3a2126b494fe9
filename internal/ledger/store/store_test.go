//go:build unix

package store_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"hiddengate/internal/clock"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/servers"
)

// place is a ledger that several stores can be opened of.
type place struct {
	try func(t *testing.T) (*store.Store, error)
	// bare runs a statement on the database without the program; tables have the schema's name before them
	bare func(t *testing.T, statement string, args ...any) error
}

func (p place) open(t *testing.T) *store.Store {
	s, err := p.try(t)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

// everywhere runs a test on each sort of store.
func everywhere(t *testing.T, run func(t *testing.T, p place)) {
	t.Run("SQLite", func(t *testing.T) { run(t, inFile(t)) })
	t.Run("PostgreSQL", func(t *testing.T) { run(t, inPostgres(t)) })
}

func inFile(t *testing.T) place {
	name := filepath.Join(t.TempDir(), "ledgers", "one.db")
	return place{
		try: func(t *testing.T) (*store.Store, error) { return store.OpenFile(t.Context(), name, true) },
		bare: func(t *testing.T, statement string, args ...any) error {
			db, err := sql.Open("sqlite", name)
			require.NoError(t, err)
			defer db.Close()
			statement = strings.ReplaceAll(statement, "hgate.", "")
			for _, trigger := range []string{"events_stay", "events_last"} {
				_, err = db.Exec("DROP TRIGGER IF EXISTS " + trigger)
				require.NoError(t, err)
			}
			_, err = db.Exec(statement, args...)
			return err
		},
	}
}

func inPostgres(t *testing.T) place {
	address := servers.Postgres(t)
	require.NoError(t, store.PreparePostgres(t.Context(), address, "", ""))
	owner, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	t.Cleanup(func() { owner.Close(context.Background()) })
	_, err = owner.Exec(t.Context(), "CREATE ROLE gate LOGIN")
	require.NoError(t, err)
	require.NoError(t, store.PreparePostgres(t.Context(), address, "", "gate")) // again, for the role
	return place{
		try: func(t *testing.T) (*store.Store, error) {
			return store.OpenPostgres(t.Context(), strings.Replace(address, "owner@", "gate@", 1), "")
		},
		bare: func(t *testing.T, statement string, args ...any) error {
			n := 0
			for strings.Contains(statement, "?") {
				n++
				statement = strings.Replace(statement, "?", fmt.Sprintf("$%d", n), 1)
			}
			_, err := owner.Exec(t.Context(), statement, args...)
			return err
		},
	}
}

func event(kind ledger.Kind, about int64, body any) ledger.Event {
	text, err := json.Marshal(body)
	if err != nil {
		panic(err)
	}
	return ledger.Event{Statement: ledger.Statement{Ledger: "here", Time: ledger.Time(clock.Second * 1_800_000_000),
		Actor: "ana", Kind: kind, Body: text}, User: "ana", Host: "summit", Command: "request", About: about}
}

func request(seconds int64) ledger.Event {
	return event(ledger.Requested, 0, ledger.RequestBody{Grant: "g", Seconds: seconds, DecideBy: event("", 0, 0).Time})
}

func put(t *testing.T, s *store.Store, events ...ledger.Event) (out []ledger.Event) {
	require.NoError(t, s.Update(t.Context(), func(w *store.Writer) error {
		out = nil
		if id, err := w.ID(); err != nil || id == "" {
			if err := errors.Join(err, w.Begin("here")); err != nil {
				return err
			}
		}
		for _, e := range events {
			e, err := w.Append(e)
			if err != nil {
				return err
			}
			out = append(out, e)
		}
		return nil
	}))
	return out
}

func all(t *testing.T, s *store.Store) (out []ledger.Event) {
	require.NoError(t, s.View(t.Context(), func(r *store.Reader) error {
		return r.Events(store.Filter{}, func(_ int64, e ledger.Event, wrong error) bool {
			require.NoError(t, wrong)
			out = append(out, e)
			return true
		})
	}))
	return out
}

func TestWhatIsAppendedIsReadByOthers(t *testing.T) {
	everywhere(t, func(t *testing.T, p place) {
		one := p.open(t)
		made := put(
			t,
			one,
			request(60),
			event(ledger.Approved, 1, ledger.DecisionBody{Request: "x"}),
			request(7200),
			event(ledger.PolicyChanged, 0,
				ledger.PolicyBody{Files: []ledger.FileChange{{Name: "a", Is: "1"}, {Name: "b", Is: "2"}}}),
			event(ledger.PolicyFound, 0, ledger.PolicyBody{Files: []ledger.FileChange{{Name: "a", Was: "1", Is: "3"},
				{Name: "b", Was: "2"}}}),
		)
		other := p.open(t)
		assert.Equal(t, made, all(t, other))
		require.NoError(t, other.View(t.Context(), func(r *store.Reader) error {
			id, err := r.ID()
			require.NoError(t, err)
			assert.Equal(t, "here", id)
			head, err := r.Head()
			require.NoError(t, err)
			assert.Equal(t, ledger.Head{Number: 5, Hash: made[4].Hash}, head)
			about, err := r.About(1)
			require.NoError(t, err)
			assert.Equal(t, made[:2], about)
			now := clock.Instant(made[0].Time)
			for at, want := range map[clock.Instant][]int64{now: {1, 3}, now + 60*clock.Second: {3},
				now + 7200*clock.Second: nil} {
				numbers, err := r.Mattering(at)
				require.NoError(t, err)
				assert.Equal(t, want, numbers)
			}
			files, err := r.Files()
			require.NoError(t, err)
			assert.Equal(t, map[string]string{"a": "3"}, files)
			stale, err := r.Stale()
			require.NoError(t, err)
			assert.Empty(t, stale)
			return nil
		}))
	})
}

// Requests for credentials are told from those for loans, and matter as long as what was signed holds.
func TestRequestsAreOfTwoKinds(t *testing.T) {
	everywhere(t, func(t *testing.T, p place) {
		s := p.open(t)
		wanted := request(60)
		wanted.Kind = ledger.Wanted
		made := put(t, s, request(7200), wanted)
		now := clock.Instant(made[0].Time)
		ends := ledger.Time(now + 9000*clock.Second)
		put(t, s, event(ledger.Issued, 2, ledger.IssuedBody{Ends: ends}))
		require.NoError(t, s.View(t.Context(), func(r *store.Reader) error {
			for _, c := range []struct {
				at    clock.Instant
				kinds []ledger.Kind
				want  []int64
			}{
				{now, nil, []int64{1, 2}}, {now, []ledger.Kind{ledger.Requested}, []int64{1}},
				{now, []ledger.Kind{ledger.Wanted}, []int64{2}}, {now + 8000*clock.Second, nil, []int64{2}},
				{now + 9000*clock.Second, nil, nil},
			} {
				got, err := r.Mattering(c.at, c.kinds...)
				require.NoError(t, err)
				assert.Equal(t, c.want, got)
			}
			stale, err := r.Stale()
			assert.Empty(t, stale)
			return err
		}))
	})
}

func TestWhatFailsLeavesNothing(t *testing.T) {
	everywhere(t, func(t *testing.T, p place) {
		s := p.open(t)
		put(t, s, request(60))
		err := s.Update(t.Context(), func(w *store.Writer) error {
			_, err := w.Append(request(1))
			require.NoError(t, err)
			return errors.New("no")
		})
		require.EqualError(t, err, "no")
		assert.Len(t, all(t, s), 1)
	})
}

// Each of many writers reads the head and appends behind it: the chain stays whole, and nothing is lost or doubled.
func TestWritersRace(t *testing.T) {
	everywhere(t, func(t *testing.T, p place) {
		put(t, p.open(t), request(60))
		var waiting sync.WaitGroup
		for range 8 {
			s := p.open(t)
			waiting.Go(func() {
				for range 10 {
					put(t, s, request(60))
				}
			})
		}
		waiting.Wait()
		var chain ledger.Chain
		events := all(t, p.open(t))
		require.Len(t, events, 81)
		for i, e := range events {
			require.NoError(t, chain.Next(int64(i+1), e))
		}
	})
}

func TestTheLedgersOwnAccountChangesNothing(t *testing.T) {
	p := inPostgres(t)
	s := p.open(t)
	put(t, s, request(60))
	for _, statement := range []string{"UPDATE hgate.events SET actor = 'bo'", "DELETE FROM hgate.events",
		"TRUNCATE hgate.events", "UPDATE hgate.requests SET until = 0", "DELETE FROM hgate.files", "DROP TABLE hgate.events",
		"UPDATE hgate.ledger SET value = '9'"} {
		err := p.bare(t, "SET ROLE gate; "+statement)
		require.Error(t, err, statement)
		require.Regexp(t, "permission denied|must be owner", err.Error(), statement)
		require.NoError(t, p.bare(t, "RESET ROLE"))
	}
	assert.Len(t, all(t, s), 1)
}

func TestTablesOfANewerProgramAreRefused(t *testing.T) {
	everywhere(t, func(t *testing.T, p place) {
		p.open(t).Close()
		require.NoError(t, p.bare(t, "UPDATE hgate.ledger SET value = '2' WHERE name = 'version'"))
		_, err := p.try(t)
		require.ErrorIs(t, err, store.ErrNewer)
	})
}

func TestAFileThatOthersCanReadIsNoLedger(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "l")
	name := filepath.Join(folder, "one.db")
	s, err := store.OpenFile(t.Context(), name, true)
	require.NoError(t, err)
	s.Close()
	info, err := os.Stat(name)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, os.Chmod(name, 0o644))
	_, err = store.OpenFile(t.Context(), name, true)
	require.ErrorContains(t, err, "is not taken")
	require.NoError(t, os.Remove(name))
	require.NoError(t, os.Symlink("elsewhere", name))
	_, err = store.OpenFile(t.Context(), name, false)
	require.ErrorContains(t, err, "is no file")
}

func TestEventsAreFiltered(t *testing.T) {
	everywhere(t, func(t *testing.T, p place) {
		s := p.open(t)
		bo := event(ledger.Approved, 1, ledger.DecisionBody{})
		bo.Actor, bo.Time = "bo", bo.Time+ledger.Time(clock.Hour)
		made := put(t, s, request(60), bo, event(ledger.PolicyFound, 0, ledger.PolicyBody{}),
			event(ledger.ReviewOpened, 0, ledger.ReviewBody{}), event(ledger.Imported, 0, ledger.ImportedBody{}))
		at := clock.Instant(made[0].Time)
		for _, c := range []struct {
			filter store.Filter
			want   []int64
		}{
			{store.Filter{}, []int64{1, 2, 3, 4, 5}}, {store.Filter{After: 3}, []int64{4, 5}},
			{store.Filter{Actor: "bo"}, []int64{2}}, {store.Filter{Actor: "nobody"}, nil},
			{store.Filter{Kinds: []string{"request."}}, []int64{1, 2}},
			{store.Filter{Kinds: []string{"request.made"}}, []int64{1}},
			{store.Filter{Kinds: []string{"review.", "policy.found"}}, []int64{3, 4}},
			{store.Filter{Kinds: []string{"request"}}, nil},
			{store.Filter{From: at + 1}, []int64{2}}, {store.Filter{Until: at + 1}, []int64{1, 3, 4, 5}},
			{store.Filter{Actor: "ana", Kinds: []string{"request."}, Until: at + 1}, []int64{1}},
		} {
			var got, back []int64
			require.NoError(t, s.View(t.Context(), func(r *store.Reader) error {
				if err := r.Events(c.filter, func(n int64, _ ledger.Event, wrong error) bool {
					require.NoError(t, wrong)
					got = append(got, n)
					return true
				}); err != nil {
					return err
				}
				for before := int64(100); ; {
					page, err := r.Newest(c.filter, before, 2)
					if err != nil || len(page) == 0 {
						return err
					}
					for _, e := range page {
						before = e.Number
						back = append([]int64{e.Number}, back...)
					}
				}
			}))
			assert.Equal(t, c.want, got, "%+v", c.filter)
			assert.Equal(t, c.want, back, "%+v, from the end", c.filter)
		}
		require.NoError(t, s.View(t.Context(), func(r *store.Reader) error {
			reviews, err := r.Reviews()
			require.NoError(t, err)
			assert.Equal(t, made[3:4], reviews)
			imports, err := r.Imports()
			require.NoError(t, err)
			assert.Equal(t, made[4:], imports)
			return err
		}))
	})
}

func TestDeliveriesAreKept(t *testing.T) {
	everywhere(t, func(t *testing.T, p place) {
		s := p.open(t)
		put(t, s, request(60))
		keep := func(name string, d store.Delivery) {
			require.NoError(t, s.Update(t.Context(), func(w *store.Writer) error { return w.Deliver(name, d) }))
		}
		last := func(name string) (d store.Delivery, ok bool) {
			require.NoError(t, s.View(t.Context(), func(r *store.Reader) (err error) {
				d, ok, err = r.Delivered(name)
				return err
			}))
			return d, ok
		}
		_, ok := last("desk")
		assert.False(t, ok)
		for _, d := range []store.Delivery{{Event: 3, Tries: 1, Due: 5}, {Event: 3, Tries: 2, Due: 6, Done: true},
			{Event: 4, Due: 7, Done: true}} {
			keep("desk", d)
			keep("desk", store.Delivery{Event: d.Event, Tries: d.Tries, Due: 99}) // another came second
			got, ok := last("desk")
			assert.True(t, ok)
			assert.Equal(t, d, got)
		}
		_, ok = last("other")
		assert.False(t, ok)
	})
}
