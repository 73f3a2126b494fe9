package gate

import (
	"slices"

	"hiddengate/internal/estate"
)

// Holders tells who may do any of the operations on any of the resources: the best answer for each subject, those
// who are denied everything left out. Of many resources it costs what a table of all subjects does, and a few decisions for each who may.
func (g *Gate) Holders(c *Context, resources []*estate.Resource, selects func(*estate.Operation) bool) ([]Answer, error) {
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
	rows      []int // candidates for an example
}

// ask asks for every subject.
func (h *holding) ask() (out []Answer, err error) {
	for n := range h.gate.people {
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
	best := Answer{Subject: h.gate.principal(subject)}
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
	var wanted []int
	for i, o := range g.classes.ops.list {
		if h.selects(o) {
			wanted = append(wanted, i)
		}
	}
	n := -1
	bad := h.table.Counts(func(_ estate.Principal, counts []Count) bool {
		n++
		best := Deny
		for _, i := range wanted {
			if counts[i].Allowed > 0 {
				best = Allow
				break
			}
			if counts[i].Depends > 0 {
				best = Depends
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

// example finds the first resource in tree order for which the answer is so. Where nothing is given by steps, lists or ownership there is none, and of a pile
// one resource will do.
func (h *holding) example(subject int, outcome Outcome) (Answer, error) {
	g, t := h.gate, h.table
	one := &g.holders[subject]
	if len(h.context.Roles) > 0 || one.flags&apart != 0 || g.lent[uint32(subject)] != nil {
		return h.best(subject, outcome)
	}
	h.rows = h.rows[:0]
	add := func(p *pile) {
		if p.count > 0 {
			h.rows = append(h.rows, int(p.row))
		}
	}
	steps := g.rows.steps[one.row : one.row+one.steps]
	for i, s := range steps {
		if s.cover == 0 {
			continue
		}
		end := uint32(len(t.first) - 1)
		if i+1 < len(steps) {
			end = steps[i+1].mark
		}
		for k := t.first[s.mark]; k < t.first[end]; k++ {
			add(&t.piles[k])
		}
	}
	for _, e := range g.rows.extras[one.extra : one.extra+one.extras] {
		for _, trait := range t.having[e.trait] {
			for _, k := range t.traits[trait] {
				add(&t.piles[k])
			}
		}
	}
	for _, o := range t.owns(subject) {
		for _, row := range t.owned[o] {
			if t.counted(int(row)) {
				h.rows = append(h.rows, int(row))
			}
		}
	}
	slices.Sort(h.rows)
	for _, row := range slices.Compact(h.rows) {
		q := query{subject: subject, context: h.context.region, row: row, at: g.places.spots[row]}
		for _, o := range g.estate.Offer(g.classes.kinds[q.at.class]).On(g.classes.types[q.at.class]) {
			if !h.selects(o) {
				continue
			}
			q.operation = g.classes.ops.number[o.Name]
			got, err := g.judge(&q)
			if err != nil {
				return Answer{}, err
			}
			if got == outcome {
				return Answer{g.principal(subject), o, g.estate.Tree.At(row), got}, nil
			}
		}
	}
	return h.best(subject, outcome) // what is given to those alone who do not own it may lie beside
}
