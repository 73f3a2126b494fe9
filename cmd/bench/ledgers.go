package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/starter"
)

// measureLedgers measures what an event costs, and what a long ledger does to commands.
func measureLedgers(t *table, how measuring, short bool) {
	t.shape = "ledgers"
	folder, err := os.MkdirTemp("", "ledgers-")
	must(err)
	defer os.RemoveAll(folder)
	measureEvent(t, folder, how.pairs)
	many := 1_000_000
	if short {
		many = 20_000
	}
	few, long := filepath.Join(folder, "few.db"), filepath.Join(folder, "long.db")
	fill(few, 1000)
	say("ledgers: %d events", many)
	fill(long, many)
	dir := filepath.Join(folder, "demo")
	must(starter.Write(starter.Demo(), dir))
	for _, line := range [][]string{{"requests"}, {"try", "marek.dvorin", "control.override", "north-dish"}} {
		var short, longer, ratios []float64
		for i := range how.pairs + 1 {
			one, two := withLedger(how.program, few, dir, line...), withLedger(how.program, long, dir, line...)
			if i > 0 { // the first finds nothing in memory
				short, longer = append(short, float64(one)), append(longer, float64(two))
				ratios = append(ratios, float64(two)/float64(one))
			}
		}
		t.line(
			figure{
				t.shape,
				line[0] + ", " + fmt.Sprint(many) + " events",
				took(longer),
				"1000 events",
				took(short),
				ratio(ratios),
			},
		)
	}
}

// withLedger runs the program with a ledger and tells how long it took as a whole process.
func withLedger(program, at, dir string, args ...string) time.Duration {
	c := exec.Command(program, append([]string{"-C", dir}, args...)...)
	c.Env = append(os.Environ(), "HGATE_LEDGER="+at)
	start := time.Now()
	out, err := c.CombinedOutput()
	took := time.Since(start)
	if exit, ok := err.(*exec.ExitError); ok && exit.ExitCode() == 1 {
		err = nil // the answer is no
	}
	if err != nil {
		panic(fmt.Sprint(program, args, err, string(out)))
	}
	return took
}

// made is one event as commands make them.
func made(kind ledger.Kind, at clock.Instant, about int64, body any) ledger.Event {
	text, err := json.Marshal(body)
	must(err)
	return ledger.Event{
		Statement: ledger.Statement{Ledger: "bench", Time: ledger.Time(at), Actor: "marek.dvorin", Kind: kind,
			Body: text},
		User:    "marek",
		Host:    "summit",
		Command: "request",
		About:   about,
	}
}

// measureEvent measures an event against a bare insert of the same bytes into SQLite, both written through to the disk.
func measureEvent(t *table, folder string, pairs int) {
	s, err := store.OpenFile(context.Background(), filepath.Join(folder, "events", "one.db"), true)
	must(err)
	defer s.Close()
	bare, err := sql.Open("sqlite",
		filepath.Join(folder, "bare.db")+"?_pragma=synchronous(FULL)&_pragma=journal_mode(WAL)")
	must(err)
	defer bare.Close()
	bare.SetMaxOpenConns(1)
	_, err = bare.Exec("CREATE TABLE events (number INTEGER PRIMARY KEY, doc TEXT NOT NULL)")
	must(err)
	const each = 40
	now := clock.Of(time.Now())
	var ours, theirs, ratios []float64
	for range pairs {
		var docs []string
		start := time.Now()
		for range each {
			must(s.Update(context.Background(), func(w *store.Writer) error {
				e, err := w.Append(made(ledger.Requested, now, 0, ledger.RequestBody{Grant: "drivers-past-the-limits",
					Seconds: 3600, DecideBy: ledger.Time(now), Reason: "The dish is stuck after the storm"}))
				text, wrong := e.Encode()
				must(wrong)
				docs = append(docs, string(text))
				return err
			}))
		}
		one := time.Since(start)
		start = time.Now()
		for _, doc := range docs {
			_, err := bare.Exec("INSERT INTO events (doc) VALUES (?)", doc)
			must(err)
		}
		two := time.Since(start)
		ours, theirs = append(ours, float64(one)/each), append(theirs, float64(two)/each)
		ratios = append(ratios, float64(one)/float64(two))
	}
	t.line(figure{t.shape, "an event", took(ours), "a bare insert", took(theirs), ratio(ratios)})
}

// fill writes a ledger of so many events: requests that were approved and are over, a few that are in force, and edits.
func fill(name string, events int) {
	s, err := store.OpenFile(context.Background(), name, true)
	must(err)
	defer s.Close()
	now := clock.Of(time.Now().Truncate(time.Second))
	n := 0
	for n < events {
		must(s.Update(context.Background(), func(w *store.Writer) error {
			if n == 0 {
				if err := w.Begin("bench"); err != nil {
					return err
				}
				_, err := w.Append(made(ledger.Began, now, 0, ledger.BeganBody{Workspace: "bench"}))
				must(err)
				n++
			}
			for range 5000 {
				at := now - clock.Day - clock.Instant(events-n)*clock.Second
				if n > events-40 {
					at = now
				}
				body := ledger.RequestBody{Grant: "drivers-past-the-limits", Within: "south-dish", Seconds: 3600,
					DecideBy: ledger.Time(at + clock.Hour), Reason: "The dish is stuck"}
				e, err := w.Append(made(ledger.Requested, at, 0, body))
				must(err)
				yes := made(ledger.Approved, at, e.Number, ledger.DecisionBody{Request: e.ID()})
				yes.Actor = "ines.okafor"
				_, err = w.Append(yes)
				must(err)
				edit := made(
					ledger.PolicyChanged,
					at,
					0,
					ledger.PolicyBody{Entries: []string{"grant books"}, Files: []ledger.FileChange{
						{Name: "access.yaml", Is: e.Hash}}},
				)
				_, err = w.Append(edit)
				must(err)
				if n += 3; n >= events {
					break
				}
			}
			return nil
		}))
	}
}
