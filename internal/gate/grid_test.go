package gate_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/shape"
	"hiddengate/internal/survey"
)

// Every cell of a grid says what deciding each request says, whatever the grid is asked; and what has no row says what
// the row above it does.
func TestGridsSayWhatDecidingSays(t *testing.T) {
	cells, marks := 0, [4]int{}
	for seed := range uint64(scaled(60)) {
		d := newDraw(seed + 7e5)
		text := d.estate()
		e := load(t, text)
		q := survey.Question{Ask: d.askedAtOnce(t, e)}
		for _, id := range drawnPeople {
			q.Columns = append(q.Columns, survey.Column{Name: id, Subject: estate.Principal{ID: id}})
		}
		q.Columns = append(q.Columns,
			survey.Column{Name: "group:g1", Subject: estate.Principal{Kind: estate.IsGroup, ID: "g1"}},
			survey.Column{Name: "role:r1", Role: "r1"})
		if d.chance(40) {
			from := estate.Level(d.IntN(4))
			q.What = func(o *estate.Operation) bool { return o.Level >= from }
		}
		if d.chance(60) {
			chosen := map[int]bool{}
			for row := range e.Tree.Len() {
				chosen[row] = d.chance(60)
			}
			q.Within = func(r *estate.Resource) bool { return chosen[r.Index] }
		}
		about := fmt.Sprintf("seed %d\n%s", seed, text)
		if d.chance(50) {
			q.Gate = compiled(t, e)
		}
		grid, err := survey.NewGrid(t.Context(), e, q)
		require.NoError(t, err)
		newcomer, member := e.WithNewMember("g1")
		brute := make([][]survey.Reached, len(q.Columns)-1) // of each resource alone
		offers := make([][4]bool, e.Tree.Len())
		var want []map[string]decidedAll
		for c, column := range q.Columns[:len(brute)] {
			who, in := column.Subject, e
			if who.Kind == estate.IsGroup {
				in, who = newcomer, member
			}
			alone, operations := eachAlone(t, q, in, who, offers)
			want = append(want, operations)
			for row := range e.Tree.Len() {
				brute[c] = append(brute[c], alone[row].reached())
				var there decided
				for inside := range e.Tree.Len() {
					if inside == row || e.Tree.At(inside).Address.Inside(e.Tree.At(row).Address) {
						there = there.with(alone[inside])
					}
				}
				got := grid.At(c, row)
				require.Equal(t, there.reached(), got, "%s at %s, %s", column.Name, e.Tree.Address(row), about)
				cells++
				for i, is := range []bool{got.Partly, got.Depends != nil, got.OnRequest != nil, got.Direct} {
					if is {
						marks[i]++
					}
				}
			}
		}
		folded(t, grid, e, foldedOf{q, brute, offers, about})
		ops, answers, err := grid.Operations()
		require.NoError(t, err)
		require.Len(t, ops, len(want[0]), about)
		for i, o := range ops {
			for c := range want {
				require.Equal(t, want[c][o.Name].answer(), answers[i][c], "%s of %s, %s", o.Name, q.Columns[c].Name, about)
			}
		}
	}
	require.NotZero(t, cells)
	t.Log(cells, "cells, with ~ ? + !:", marks)
	if shape.DrawsAll(testing.Short()) {
		require.NotContains(t, marks[:], 0)
	}
}

// askedAtOnce draws what a request says.
func (d draw) askedAtOnce(t *testing.T, e *estate.Estate) func(g *gate.Gate) (*gate.Context, error) {
	at, err := e.Zone.ParseTime(d.one(drawnTimes...))
	require.NoError(t, err)
	said := partial{at: (*int64)(&at)}
	if d.chance(60) {
		said.mfa = open(d, 0, true, false)
		said.reason, said.ticket = open(d, 30, true), open(d, 30, true)
	}
	return func(g *gate.Gate) (*gate.Context, error) { return said.context(g), nil }
}

// decided is what was decided of some resources, of each level: the outcomes, whether one falls short of it, and
// whether something is allowed by direct grants alone, or allowed or not once all is lent.
// once all is lent.
type decided [4]struct {
	outcomes                    [3]bool
	short, direct, lends, keeps bool
}

func (a decided) with(b decided) decided {
	for l := range a {
		for i, is := range b[l].outcomes {
			a[l].outcomes[i] = a[l].outcomes[i] || is
		}
		a[l].short = a[l].short || b[l].short
		a[l].direct = a[l].direct || b[l].direct
		a[l].lends = a[l].lends || b[l].lends
		a[l].keeps = a[l].keeps || b[l].keeps
	}
	return a
}

func (a decided) reached() (out survey.Reached) {
	for l := estate.View; l <= estate.Govern; l++ {
		if of := a[l]; of.outcomes[gate.Allow] {
			out = survey.Reached{Any: true, Level: l, Partly: of.short, Direct: of.direct}
		}
	}
	for l := estate.View; l <= estate.Govern; l++ {
		if out.Any && l <= out.Level {
			continue
		}
		if a[l].outcomes[gate.Depends] {
			out.Depends = &survey.Higher{Level: l, Partly: a[l].outcomes[gate.Deny]}
		}
		if a[l].lends {
			out.OnRequest = &survey.Higher{Level: l, Partly: a[l].keeps}
		}
	}
	return out
}

// decidedAll is what was decided of one operation on all resources.
type decidedAll struct {
	outcomes      [3]bool
	direct, lends bool
}

func (a decidedAll) answer() (out survey.Answer) {
	switch {
	case a.outcomes[gate.Allow]:
		return survey.Answer{Outcome: gate.Allow, Partly: a.outcomes[gate.Depends] || a.outcomes[gate.Deny], Direct: a.direct}
	case a.outcomes[gate.Depends]:
		return survey.Answer{Outcome: gate.Depends, Partly: a.outcomes[gate.Deny], OnRequest: a.lends}
	}
	return survey.Answer{OnRequest: a.lends}
}

// eachAlone decides every request that a grid is asked about, and tells of it resource by resource and operation by
// operation.
func eachAlone(t *testing.T, q survey.Question, e *estate.Estate, who estate.Principal, offers [][4]bool) ([]decided,
	map[string]decidedAll) {
	operations := map[string]decidedAll{}
	var lends, bare []estate.Edit
	for id, gr := range e.Grants {
		one := *gr
		one.OnRequest = nil
		lends = append(lends, estate.Put("grants", &one))
		other := *gr
		other.To = slices.DeleteFunc(slices.Clone(gr.To),
			func(s estate.SubjectTerm) bool { return !s.Not && s.Principal == who })
		if bare = append(bare, estate.Put("grants", &other)); len(other.To) == 0 {
			bare[len(bare)-1] = estate.Drop("grants", id)
		}
	}
	var gates [3]*gate.Gate
	for k, in := range []*estate.Estate{e, e.With(lends...), e.With(bare...)} {
		g, err := gate.Compile(in, nil)
		require.NoError(t, err)
		gates[k] = g
	}
	out := make([]decided, e.Tree.Len())
	for r := range e.Tree.All() {
		if q.Within != nil && !q.Within(r) {
			continue
		}
		var here [4]gate.Outcome
		at := &out[r.Index]
		for _, o := range e.Offer(r.System.Kind.ID).On(r.Type) {
			if q.What != nil && !q.What(o) {
				continue
			}
			var outcomes [3]gate.Outcome
			for k, g := range gates {
				ctx, err := q.Ask(g)
				require.NoError(t, err)
				outcomes[k], err = g.Decide(gate.Request{Subject: who, Operation: o.Name, Resource: r.Address.String(),
					Context: ctx})
				require.NoError(t, err)
			}
			here[o.Level] = max(here[o.Level], outcomes[0])
			offers[r.Index][o.Level] = true
			at[o.Level].direct = at[o.Level].direct || outcomes[0] == gate.Allow && outcomes[2] != gate.Allow
			at[o.Level].lends = at[o.Level].lends || outcomes[1] == gate.Allow
			all := operations[o.Name]
			all.outcomes[outcomes[0]] = true
			all.direct = all.direct || outcomes[0] == gate.Allow && outcomes[2] != gate.Allow
			all.lends = all.lends || outcomes[1] == gate.Allow
			operations[o.Name] = all
		}
		short := false
		for l, is := range offers[r.Index] {
			if is {
				at[l].outcomes[here[l]] = true
				short = here[l] != gate.Allow
				at[l].keeps = !at[l].lends
			}
			at[l].short = short
		}
	}
	return out, operations
}

// foldedOf is what a grid was asked, what each resource says by itself in each column, and which levels it offers.
type foldedOf struct {
	survey.Question
	alone  [][]survey.Reached
	offers [][4]bool
	about  string
}

// folded sees that what is no row of its own says what the row above it does, as far as it offers operations, and that
// every row counts what it speaks for.
func folded(t *testing.T, grid *survey.Grid, e *estate.Estate, f foldedOf) {
	rowOf := map[int]survey.GridRow{}
	named := func(r *estate.Resource) bool { return r.Index%5 == 0 }
	for _, r := range grid.Rows(survey.Folding{Depth: 100, Named: named}) {
		require.False(t, r.Deeper, f.about)
		for _, place := range append([]*estate.Resource{r.Place}, r.Alike...) {
			rowOf[place.Index] = r
		}
		looked, size := 0, 0
		for one := range e.Tree.All() {
			if one.Address == r.Place.Address || one.Address.Inside(r.Place.Address) {
				size++
				if f.Within == nil || f.Within(one) {
					looked++
				}
			}
		}
		require.Equal(t, []int{looked, size}, []int{r.Looked, r.Size}, "%s, %s", r.Place.Address, f.about)
	}
	for one := range e.Tree.All() {
		if f.Within != nil && !f.Within(one) || f.offers[one.Index] == [4]bool{} {
			continue
		}
		up := one.Index
		for _, is := rowOf[up]; !is; _, is = rowOf[up] {
			up = int(e.Tree.Rows[up].Parent) - 1
			require.GreaterOrEqual(t, up, 0, "no row speaks for %s, %s", one.Address, f.about)
		}
		if up == one.Index {
			continue
		}
		require.False(t, named(one), f.about)
		for c := range f.alone {
			require.Equal(t, asFarAs(rowOf[up].Cells[c], f.offers[one.Index]), f.alone[c][one.Index],
				"%s at %s, in the row of %s, %s", f.Columns[c].Name, one.Address, rowOf[up].Place.Address, f.about)
		}
	}
}

// asFarAs is what a row says of a resource in it that offers some levels. It says the same of all that is in it, so it
// can't say that it is so in part.
func asFarAs(row survey.Reached, offers [4]bool) (out survey.Reached) {
	for l := estate.View; row.Any && l <= row.Level; l++ {
		if offers[l] {
			out = survey.Reached{Any: true, Level: l, Direct: row.Direct}
		}
	}
	if row.Depends != nil && offers[row.Depends.Level] {
		out.Depends = row.Depends
	}
	if row.OnRequest != nil && offers[row.OnRequest.Level] {
		out.OnRequest = row.OnRequest
	}
	return out
}
