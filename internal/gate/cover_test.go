package gate_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/survey"
	"hiddengate/internal/verify"
)

// As many people can do an operation on a resource as a guarantee may say, and no fewer; and where nobody is short of
// hours, so many are there always.
func TestCoverCountsWhatGuaranteesHoldTo(t *testing.T) {
	short, enough, coming := 0, 0, 0
	for seed := range uint64(scaled(15)) {
		d := newDraw(seed + 9e5)
		text := d.estate()
		e := load(t, text)
		since, err := e.Zone.ParseTime(d.one(drawnTimes[:3]...))
		require.NoError(t, err)
		least := 1 + d.IntN(2)
		rows, err := survey.Cover(t.Context(), e, survey.Watch{Since: since, Least: least,
			What: func(*estate.Operation) bool { return true }})
		require.NoError(t, err)
		places := map[string]int{}
		for _, r := range rows {
			if r.Coming {
				coming++
				continue
			}
			places[r.Operation.Name] += r.Count
			require.Equal(t, r.Count, len(r.Places)+r.Inside)
		}
		for name, n := range places { // each resource in one row
			valid := 0
			for r := range e.Tree.All() {
				if e.Offer(r.System.Kind.ID).Valid(name, r.Type) != nil {
					valid++
				}
			}
			require.Equal(t, valid, n, "seed %d: %s\n%s", seed, name, text)
		}
		for range 4 {
			r := rows[d.IntN(len(rows))]
			says := func(what string, n int) string {
				return fmt.Sprintf("{%s: %d, may: %s, on: {in: %q, exactly: true}}", what, n, r.Operation.Name, r.Places[0])
			}
			said := text + "guarantees:\n  most: " + says("at-most", r.Number) + "\n  fewer: " +
				says("at-most", max(0, r.Number-1)) + "\n  always: " + says("at-least", least) + "\n"
			with := load(t, said)
			g, err := gate.Compile(with, nil)
			require.NoError(t, err)
			p := verify.NewProver(g, verify.Of{Since: since, InForce: true})
			fails := func(id string) bool {
				v, err := p.Judge(t.Context(), with.Guarantees[id])
				require.NoError(t, err)
				return !v.Holds()
			}
			about := fmt.Sprintf("seed %d: %s on %s: %d people, short %q\n%s", seed, r.Operation.Name, r.Places[0], r.Number,
				r.Short, said)
			require.False(t, fails("most"), about)
			require.Equal(t, r.Number > 0, fails("fewer"), about)
			require.Equal(t, r.Short != "", fails("always"), about)
			if r.Short == "" {
				enough++
			} else {
				short++
			}
		}
	}
	require.NotZero(t, short)
	require.NotZero(t, enough)
	require.NotZero(t, coming)
}
