package gate

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// Holders tells who may do any of the operations on any of the resources: the best answer for each subject, those who
// are denied everything left out. Of many resources it costs what a table of all subjects does, and a few decisions for
// each who may.
func (g *Gate) Holders(c *Context, resources []*estate.Resource, selects func(*estate.Operation) bool) ([]Answer,
	error) {
	h := holding{gate: g, context: c, resources: resources, selects: selects}
	if len(resources) == 1 || slices.ContainsFunc(resources, func(r *estate.Resource) bool { return r.Index < 0 }) {
		return h.ask()
	}
	return h.count()
}

// holding is the question who may do something.
type holding struct {
	gate      *Gate
	context   *Context
	resources []*estate.Resource
	selects   func(*estate.Operation) bool
	table     *Table
	wanted    opset.Set // the operations
	core      *tableGate
	covers    map[uint32][Allow + 1]opset.Set // what each gives
}

// ask asks for every subject.
func (h *holding) ask() (out []Answer, err error) {
	for n := range h.gate.All {
		best, err := h.best(n, Allow)
		if err != nil {
			return nil, err
		}
		if best.Outcome != Deny {
			out = append(out, best)
		}
	}
	return out, nil
}

// best gives the first answer that is as good as it gets, or as good as is enough.
func (h *holding) best(subject int, enough Outcome) (Answer, error) {
	best := Answer{Subject: h.gate.SubjectOf(subject)}
	err := h.gate.Answers(best.Subject, h.context, slices.Values(h.resources), h.selects, func(a Answer) bool {
		if a.Outcome > best.Outcome {
			best = a
		}
		return best.Outcome < enough
	})
	return best, err
}

// count counts for all subjects at once, and looks for an example for each who may.
func (h *holding) count() (out []Answer, err error) {
	g := h.gate
	h.table = g.tableOf(h.context, h.resources)
	h.core, h.covers, h.wanted = h.table.core(), map[uint32][Allow + 1]opset.Set{}, g.classes.Ops.NewSet()
	for i, o := range g.classes.Ops.List {
		if h.selects(o) {
			h.wanted.Add(uint32(i))
		}
	}
	n := -1
	bad := h.table.Counts(func(_ estate.Principal, counts []Count) bool {
		n++
		best := Deny
		for i, c := range counts {
			switch {
			case !h.wanted.Has(uint32(i)):
			case c.Allowed > 0:
				best = Allow
			case c.Depends > 0:
				best = max(best, Depends)
			}
		}
		if best == Deny {
			return true
		}
		var a Answer
		if a, err = h.example(n, best); err == nil {
			out = append(out, a)
		}
		return err == nil
	})
	if err == nil {
		err = bad
	}
	return out, err
}

// example finds a resource for which the answer is so: among what steps give, in tree order, then what lists give that
// traits tell, then what is owned. Of a pile one resource will do.
func (h *holding) example(subject int, outcome Outcome) (Answer, error) {
	g, t := h.gate, h.table
	one := &g.rows.RowOf[subject]
	if len(h.context.Roles) > 0 || one.Flags&unitrow.Separated != 0 || g.lent[uint32(subject)] != nil {
		return h.best(subject, outcome)
	}
	as := outcome
	if outcome == Depends && g.space.Judge(region.Region(one.Active), h.context.region) == region.Some {
		as = whenever
	}
	steps := g.rows.Steps[one.Row : one.Row+one.Steps]
	for i, s := range steps {
		given, err := h.gives(s.Cover, as)
		if err != nil {
			return Answer{}, err
		}
		if given == nil {
			continue
		}
		end := uint32(len(t.first) - 1)
		if i+1 < len(steps) {
			end = steps[i+1].Mark
		}
		for k := t.first[s.Mark]; k < t.first[end]; k++ {
			if t.piles[k].count == 0 || !given.Meets(g.classes.Valid[t.piles[k].at.Class]) {
				continue
			}
			if a, err := h.first(subject, int(t.piles[k].row), outcome); err != nil || a.Operation != nil {
				return a, err
			}
		}
	}
	var rows []int
	for _, e := range g.rows.Extras[one.Extra : one.Extra+one.Extras] {
		for _, trait := range t.having[e.Trait] {
			for _, k := range t.traits[trait] {
				if t.piles[k].count > 0 {
					rows = append(rows, int(t.piles[k].row))
				}
			}
		}
	}
	for _, o := range t.owns(subject) {
		for _, row := range t.owned[o] {
			if t.counted(int(row)) {
				rows = append(rows, int(row))
			}
		}
	}
	slices.Sort(rows)
	for _, row := range slices.Compact(rows) {
		if a, err := h.first(subject, row, outcome); err != nil || a.Operation != nil {
			return a, err
		}
	}
	return h.best(subject, outcome) // what is given to those alone who do not own it may lie beside
}

// whenever stands for what is allowed or depends, of a cover.
const whenever = Deny

// gives is which of the operations a cover gives so, or may, for it hangs on the resource; nil if it is none.
func (h *holding) gives(cover uint32, outcome Outcome) (opset.Set, error) {
	if cover == 0 {
		return nil, nil
	}
	g := h.gate
	out, ok := h.covers[cover]
	if !ok {
		a, err := h.core.answer(cover)
		if err != nil {
			return nil, err
		}
		for w := range h.wanted {
			asks := uint64(0)
			if a.asks != nil {
				asks = a.asks[w]
			}
			for k, some := range [...]uint64{whenever: a.allowed[w] | a.depends[w], Depends: a.depends[w], Allow: a.allowed[w]} {
				if some = (some | asks) & h.wanted[w]; some != 0 {
					if out[k] == nil {
						out[k] = g.classes.Ops.NewSet()
					}
					out[k][w] = some
				}
			}
		}
		h.covers[cover] = out
	}
	return out[outcome], nil
}

// first gives the first of the operations, by name, for which the answer on a listed resource is so; none if there is
// none.
func (h *holding) first(subject, row int, outcome Outcome) (Answer, error) {
	g := h.gate
	q := query{subject: subject, context: h.context.region, row: row, at: g.places.Spots[row]}
	for _, o := range g.estate.Offer(g.classes.Kinds[q.at.Class]).On(g.classes.Types[q.at.Class]) {
		if !h.selects(o) {
			continue
		}
		q.operation = g.classes.Ops.Number[o.Name]
		if got, err := g.judge(&q); err != nil || got == outcome {
			return Answer{g.SubjectOf(subject), o, g.estate.Tree.At(row), got}, err
		}
	}
	return Answer{}, nil
}
