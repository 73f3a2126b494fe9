package survey

import (
	"fmt"
	"math"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Column is one subject of a grid: a person, a service or anonymous; a group, and then it is what a new member gets who
// is in nothing else; or a role, and then it is what somebody gets who has it everywhere.
type Column struct {
	Name    string
	Subject estate.Principal // unless it is a role
	Role    string
	Invited bool // they have not come yet, and so may do nothing
}

// Question is what a grid shows.
type Question struct {
	Columns []Column
	What    func(*estate.Operation) bool // nil: every operation
	// Within says which resources are looked at; nil: all.
	Within func(*estate.Resource) bool
	Ask    func(*gate.Gate) (*gate.Context, error) // makes the context of the requests
}

// Reached is how far somebody gets in a place and all inside it.
type Reached struct {
	Any       bool         // something is allowed
	Level     estate.Level // the highest of which something is
	Partly    bool         // of that level nothing is on some resource where it could be
	Depends   *estate.Level
	OnRequest *estate.Level // a higher one, once it is lent
	Direct    bool          // by a grant that names the subject itself
}

// same says that two cells say the same.
func (r Reached) same(o Reached) bool {
	level := func(a, b *estate.Level) bool { return a == b || a != nil && b != nil && *a == *b }
	return r.Any == o.Any && r.Level == o.Level && r.Partly == o.Partly && level(r.Depends, o.Depends) &&
		level(r.OnRequest, o.OnRequest) && r.Direct == o.Direct
}

// Grid answers for some subjects over all places.
type Grid struct {
	Columns []Column
	estate  *estate.Estate
	who     []estate.Principal // of each column, the subject that is asked about
	all     [][]mask           // of each column and row, with all that is inside
	allLent [][]mask           // likewise, with all on request lent; nil if nothing is on request
	allRest [][]mask           // likewise, without grants that name the subject itself; nil if there are none
	rest    []bool             // of each column, whether a grant names it
	gates   [3]*gate.Gate
	ask     Question
	rows    []int // those that are looked at
}

// mask says of each level, in four bits, whether there is a resource on which something of it is allowed, none is and
// something depends, or nothing is.
type mask uint16

const (
	allowed = 1 << iota
	open
	denied
)

func (m mask) at(l estate.Level) mask { return m >> (4 * l) & 7 }

// NewGrid works a grid out: it costs columns times resources.
func NewGrid(e *estate.Estate, q Question) (*Grid, error) {
	g := &Grid{Columns: q.Columns, estate: e, ask: q, rest: make([]bool, len(q.Columns))}
	for i := range e.Tree.Len() {
		if q.Within == nil || q.Within(e.Tree.At(i)) {
			g.rows = append(g.rows, i)
		}
	}
	base, who := withColumns(e, q.Columns)
	g.who = who
	gates := [3]*estate.Estate{base, standing(base), indirect(base, who, g.rest)}
	sums := [3]*[][]mask{&g.all, &g.allLent, &g.allRest}
	for k, variant := range gates {
		if variant == nil {
			continue
		}
		compiled, err := gate.Compile(variant, nil)
		if err != nil {
			return nil, err
		}
		g.gates[k] = compiled
		ctx, err := q.Ask(compiled)
		if err != nil {
			return nil, err
		}
		for i := range q.Columns {
			var own []mask
			if k < 2 || g.rest[i] {
				if own, err = g.column(compiled, who[i], ctx); err != nil {
					return nil, fmt.Errorf("%s: %w", q.Columns[i].Name, err)
				}
			}
			*sums[k] = append(*sums[k], sum(e.Tree, own))
		}
	}
	return g, nil
}

// column looks at the resources for one subject.
func (g *Grid) column(compiled *gate.Gate, who estate.Principal, ctx *gate.Context) ([]mask, error) {
	asker, err := compiled.Asker(who, ctx)
	if err != nil {
		return nil, err
	}
	known := map[*gate.OperationOutcomes]mask{}
	out := make([]mask, g.estate.Tree.Len())
	for _, i := range g.rows {
		given, err := asker.On(i)
		if err != nil {
			return nil, err
		}
		m, ok := known[given]
		if !ok {
			m = g.ask.mask(given)
			known[given] = m
		}
		out[i] = m
	}
	return out, nil
}

func (q Question) mask(given *gate.OperationOutcomes) mask {
	var best [4]int // 0: no operation; 1: denied; 2: depends; 3: allowed
	for i, o := range given.Operations {
		if q.What == nil || q.What(o) {
			best[o.Level] = max(best[o.Level], 1+int(given.Outcomes[i]))
		}
	}
	var m mask
	for level, b := range best {
		m |= [4]mask{0, denied, open, allowed}[b] << (4 * level)
	}
	return m
}

// sum puts together what is inside each place.
func sum(tree *estate.Tree, own []mask) []mask {
	out := slices.Clone(own)
	for i := len(out) - 1; i >= 0; i-- { // what stands in a place comes after it
		if up := tree.Rows[i].Parent; up > 0 {
			out[up-1] |= out[i]
		}
	}
	return out
}

// At is how far a column's subject gets in a place and all inside it.
func (g *Grid) At(column, row int) Reached {
	m := g.all[column][row]
	out := reachedBy(m)
	higher := func(l estate.Level) bool { return !out.Any || l > out.Level }
	for l := estate.Govern; l >= estate.View && higher(l); l-- {
		if m.at(l)&open != 0 {
			out.Depends = &l
			break
		}
	}
	if g.allLent != nil {
		if lent := reachedBy(g.allLent[column][row]); lent.Any && higher(lent.Level) {
			out.OnRequest = &lent.Level
		}
	}
	if out.Any && g.rest[column] {
		rest := reachedBy(g.allRest[column][row])
		out.Direct = !rest.Any || rest.Level < out.Level
	}
	return out
}

func reachedBy(m mask) (out Reached) {
	for l := estate.Govern; l >= estate.View; l-- {
		if at := m.at(l); at&allowed != 0 {
			return Reached{Any: true, Level: l, Partly: at&(open|denied) != 0}
		}
	}
	return out
}

// GridRow is a place of a grid with all inside it that is not a row of its own.
type GridRow struct {
	Place *estate.Resource
	Alike []*estate.Resource // beside it, that say the same in each column
	Depth int                // how many rows it stands in
	Cells []Reached
}

// Rows folds the places: one inside another, down to a depth, is a row of its own if it says something else. Below what
// unfold names, however deep.
func (g *Grid) Rows(depth int, unfold func(*estate.Resource) bool) []GridRow {
	tree := g.estate.Tree
	inside := make([][]int, tree.Len()+1)
	for i, row := range tree.Rows {
		inside[row.Parent] = append(inside[row.Parent], i)
	}
	w := walker{g, inside, unfold, nil}
	for _, i := range inside[0] {
		if g.shown(i) {
			w.walk(i, 0, depth)
		}
	}
	return w.out
}

type walker struct {
	*Grid
	inside [][]int // of each row and one more, the rows that stand in it
	unfold func(*estate.Resource) bool
	out    []GridRow
}

// shown says whether any resource in a place is looked at.
func (g *Grid) shown(row int) bool {
	return slices.ContainsFunc(g.all, func(m []mask) bool { return m[row] != 0 })
}

func (g *Grid) cells(row int) []Reached {
	out := make([]Reached, len(g.Columns))
	for c := range out {
		out[c] = g.At(c, row)
	}
	return out
}

// walk adds the rows of a place that stands so deep, down to a limit.
func (w *walker) walk(row, depth, limit int) {
	cells := w.cells(row)
	place := w.estate.Tree.At(row)
	w.out = append(w.out, GridRow{Place: place, Depth: depth, Cells: cells})
	if w.unfold(place) {
		limit = math.MaxInt
	}
	if depth >= limit {
		return
	}
	var last *GridRow
	for _, child := range w.inside[row+1] {
		if !w.shown(child) || w.folds(child, cells) {
			last = nil
			continue
		}
		its := w.cells(child)
		if last != nil && slices.EqualFunc(last.Cells, its, Reached.same) &&
			(depth+1 >= limit || len(w.inside[child+1]) == 0) {
			last.Alike = append(last.Alike, w.estate.Tree.At(child))
			continue
		}
		before := len(w.out)
		w.walk(child, depth+1, limit)
		last = nil
		if len(w.out) == before+1 {
			last = &w.out[before]
		}
	}
}

// folds says that a place says no more than the one above it does: as far as it offers operations, every column reaches
// as far, in all of it.
func (w *walker) folds(row int, above []Reached) bool {
	cells := w.cells(row)
	for c, up := range above {
		want := up
		want.Partly = false
		if up.Any {
			want.Any = false
			for l := up.Level; l >= estate.View; l-- {
				if w.all[c][row].at(l) != 0 {
					want.Any, want.Level = true, l
					break
				}
			}
		}
		if !want.Any {
			want.Level = 0
			want.Direct = false
		}
		if !cells[c].same(want) {
			return false
		}
	}
	for _, child := range w.inside[row+1] {
		if w.shown(child) && !w.folds(child, cells) {
			return false
		}
	}
	return true
}

// Find gives a listed resource's row; -1 if there is none.
func (g *Grid) Find(address string) int { return g.estate.Tree.Find(address) }

// Answer is what a column's subject may do of one operation, in all places that are looked at.
type Answer struct {
	Outcome   gate.Outcome
	Partly    bool // not everywhere where it could be
	OnRequest bool // it can be lent
	Direct    bool // by a grant that names the subject itself
}

// Operations answers operation by operation: those that apply to something looked at, in the order of the estate's
// catalogs, by name, with a cell for each column.
func (g *Grid) Operations() ([]*estate.Operation, [][]Answer, error) {
	var ops []*estate.Operation
	var cells [][]Answer
	number := map[string]int{}
	for k, compiled := range g.gates {
		if compiled == nil {
			continue
		}
		ctx, err := g.ask.Ask(compiled)
		if err != nil {
			return nil, nil, err
		}
		for c := range g.Columns {
			if k == 2 && !g.rest[c] {
				continue
			}
			seen, err := g.seen(compiled, g.who[c], ctx)
			if err != nil {
				return nil, nil, err
			}
			for name, bits := range seen {
				n, ok := number[name]
				if !ok {
					n = len(ops)
					number[name] = n
					ops = append(ops, g.estate.Operations[name])
					cells = append(cells, make([]Answer, len(g.Columns)))
				}
				cell := &cells[n][c]
				switch k {
				case 0:
					*cell = answerOf(bits)
				case 1:
					cell.OnRequest = cell.Outcome == gate.Deny && answerOf(bits).Outcome != gate.Deny
				case 2:
					cell.Direct = cell.Outcome == gate.Allow && answerOf(bits).Outcome != gate.Allow
				}
			}
		}
	}
	order := make([]int, len(ops))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		switch {
		case ops[a].Name < ops[b].Name:
			return -1
		case ops[a].Name > ops[b].Name:
			return 1
		}
		return 0
	})
	outOps, outCells := make([]*estate.Operation, len(ops)), make([][]Answer, len(ops))
	for i, n := range order {
		outOps[i], outCells[i] = ops[n], cells[n]
	}
	return outOps, outCells, nil
}

func answerOf(bits mask) Answer {
	switch {
	case bits&allowed != 0:
		return Answer{Outcome: gate.Allow, Partly: bits&(open|denied) != 0}
	case bits&open != 0:
		return Answer{Outcome: gate.Depends, Partly: bits&denied != 0}
	}
	return Answer{}
}

// seen tells of each operation which outcomes there are.
func (g *Grid) seen(compiled *gate.Gate, who estate.Principal, ctx *gate.Context) (map[string]mask, error) {
	asker, err := compiled.Asker(who, ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]mask{}
	known := map[*gate.OperationOutcomes]bool{}
	for _, i := range g.rows {
		given, err := asker.On(i)
		if err != nil {
			return nil, err
		}
		if known[given] {
			continue
		}
		known[given] = true
		for k, o := range given.Operations {
			if g.ask.What == nil || g.ask.What(o) {
				out[o.Name] |= [3]mask{gate.Deny: denied, gate.Depends: open, gate.Allow: allowed}[given.Outcomes[k]]
			}
		}
	}
	return out, nil
}

// withColumns adds a person for each group and role.
func withColumns(e *estate.Estate, columns []Column) (*estate.Estate, []estate.Principal) {
	var edits []estate.Edit
	who := make([]estate.Principal, len(columns))
	joined := map[string]*estate.Group{}
	var roles estate.Subjects // to whom nothing else applies
	for i, c := range columns {
		who[i] = c.Subject
		if c.Role == "" && c.Subject.Kind != estate.IsGroup {
			continue
		}
		// no id can be like that
		one := &estate.Subject{Object: estate.Object{ID: "who has " + c.Name}, Status: estate.Statuses[0]}
		edits = append(edits, estate.Put("people", one))
		who[i] = one.Principal()
		if c.Role == "" {
			if joined[c.Subject.ID] == nil {
				group := *e.Groups[c.Subject.ID]
				group.Members = slices.Clone(group.Members)
				joined[c.Subject.ID] = &group
				edits = append(edits, estate.Put("groups", &group))
			}
			joined[c.Subject.ID].Members = append(joined[c.Subject.ID].Members, estate.SubjectTerm{Principal: who[i]})
			continue
		}
		roles = append(roles, estate.SubjectTerm{Principal: who[i], Not: true})
		edits = append(edits, estate.Put("grants", &estate.Grant{
			Object: estate.Object{ID: one.ID}, To: estate.Subjects{{Principal: who[i]}}, Roles: []estate.Ref{{ID: c.Role}},
			On: estate.Resources{{Everything: true}},
		}))
	}
	if len(roles) > 0 {
		for _, gr := range e.Grants {
			one := *gr
			one.To = slices.Concat(gr.To, roles)
			edits = append(edits, estate.Put("grants", &one))
		}
		for _, b := range e.Blocks {
			one := *b
			one.To = slices.Concat(b.To, roles)
			edits = append(edits, estate.Put("blocks", &one))
		}
	}
	return e.With(edits...), who
}

// standing gives the estate with all that is on request as if it stood; nil if nothing is.
func standing(e *estate.Estate) *estate.Estate {
	var edits []estate.Edit
	for _, gr := range e.Grants {
		if gr.OnRequest == nil {
			continue
		}
		one := *gr
		one.OnRequest = nil
		edits = append(edits, estate.Put("grants", &one))
	}
	return withSome(e, edits)
}

// withSome gives an estate with some edits; nil if there are none.
func withSome(e *estate.Estate, edits []estate.Edit) *estate.Estate {
	if edits == nil {
		return nil
	}
	return e.With(edits...)
}

// indirect gives the estate without what grants give to some subjects by name, and marks those; nil if none does.
func indirect(e *estate.Estate, who []estate.Principal, named []bool) *estate.Estate {
	var edits []estate.Edit
	for id, gr := range e.Grants {
		var left estate.Subjects
		for _, t := range gr.To {
			i := slices.Index(who, t.Principal)
			if t.Not || i < 0 || id == t.ID { // that of a role's column is no grant of the files
				left = append(left, t)
			} else {
				named[i] = true
			}
		}
		if len(left) == len(gr.To) {
			continue
		}
		if len(left) == 0 {
			edits = append(edits, estate.Drop("grants", id))
			continue
		}
		one := *gr
		one.To = left
		edits = append(edits, estate.Put("grants", &one))
	}
	return withSome(e, edits)
}
