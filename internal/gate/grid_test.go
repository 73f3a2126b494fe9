package gate_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/survey"
)

// Every cell of a grid says what deciding each request says.
func TestGridsSayWhatDecidingSays(t *testing.T) {
	cells := 0
	for seed := range uint64(scaled(60)) {
		d := newDraw(seed + 7e5)
		text := d.estate()
		e := load(t, text)
		var columns []survey.Column
		for _, id := range drawnPeople {
			columns = append(columns, survey.Column{Name: id, Subject: estate.Principal{ID: id}})
		}
		columns = append(columns, survey.Column{Name: "group:g1", Subject: estate.Principal{Kind: estate.IsGroup, ID: "g1"}},
			survey.Column{Name: "role:r1", Role: "r1"})
		at, err := e.Zone.ParseTime(d.one(drawnTimes...))
		require.NoError(t, err)
		said := partial{at: (*int64)(&at)}
		if d.chance(60) {
			said.mfa = open(d, 0, true, false)
			said.reason, said.ticket = open(d, 30, true), open(d, 30, true)
		}
		ask := func(g *gate.Gate) (*gate.Context, error) { return said.context(g), nil }
		grid, err := survey.NewGrid(e, survey.Question{Columns: columns, Ask: ask})
		require.NoError(t, err)
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		newcomer, member := e.WithNewMember("g1")
		ng, err := gate.Compile(newcomer, nil)
		require.NoError(t, err)
		for c, column := range columns[:len(columns)-1] {
			asked, who := g, column.Subject
			if who.Kind == estate.IsGroup {
				asked, who = ng, member
			}
			for row := range e.Tree.Len() {
				got := grid.At(c, row)
				want := reachedThere(t, asked, who, ask, row)
				about := fmt.Sprintf("seed %d: %s at %s\n%s", seed, column.Name, e.Tree.Address(row), text)
				require.Equal(t, want.Any, got.Any, about)
				require.Equal(t, want.Level, got.Level, about)
				require.Equal(t, want.Partly, got.Partly, about)
				require.Equal(t, want.Depends, got.Depends, about)
				cells++
			}
		}
		foldedAlike(t, grid, e, len(columns), fmt.Sprintf("seed %d\n%s", seed, text))
	}
	require.NotZero(t, cells)
}

// reachedThere decides every request in a place, one by one.
func reachedThere(t *testing.T, g *gate.Gate, who estate.Principal, ask func(*gate.Gate) (*gate.Context, error),
	row int) (out survey.Reached) {
	e := g.Estate()
	var best [4]map[gate.Outcome]bool
	for i := range best {
		best[i] = map[gate.Outcome]bool{}
	}
	top := e.Tree.At(row).Address
	for r := range e.Tree.All() {
		if r.Address != top && !r.Address.Inside(top) {
			continue
		}
		var here [4]gate.Outcome
		var valid [4]bool
		for _, o := range e.Offer(r.System.Kind.ID).On(r.Type) {
			ctx, err := ask(g)
			require.NoError(t, err)
			outcome, err := g.Decide(gate.Request{Subject: who, Operation: o.Name, Resource: r.Address.String(), Context: ctx})
			require.NoError(t, err)
			here[o.Level], valid[o.Level] = max(here[o.Level], outcome), true
		}
		for l := range here {
			if valid[l] {
				best[l][here[l]] = true
			}
		}
	}
	for l := estate.Govern; l >= estate.View; l-- {
		if best[l][gate.Allow] {
			out.Any, out.Level, out.Partly = true, l, len(best[l]) > 1
			break
		}
		if best[l][gate.Depends] && out.Depends == nil {
			out.Depends = &l
		}
	}
	return out
}

// foldedAlike sees that what is no row of its own says what the row above it does, as far as it can.
func foldedAlike(t *testing.T, grid *survey.Grid, e *estate.Estate, columns int, about string) {
	shown := map[string]bool{}
	for _, r := range grid.Rows(100, func(*estate.Resource) bool { return false }) {
		shown[r.Place.Address.String()] = true
		for _, a := range r.Alike {
			shown[a.Address.String()] = true
		}
	}
	for row := range e.Tree.Len() {
		up := row
		for !shown[e.Tree.Address(up)] {
			up = int(e.Tree.Rows[up].Parent) - 1
			require.GreaterOrEqual(t, up, 0, about)
		}
		for c := range columns {
			above, here := grid.At(c, up), grid.At(c, row)
			if up == row || !above.Any {
				require.True(t, up == row || !here.Any, about)
				continue
			}
			require.False(t, here.Partly, "%s at %s", about, e.Tree.Address(row))
			require.LessOrEqual(t, here.Level, above.Level, about)
		}
	}
}
