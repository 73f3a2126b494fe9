package counting

import (
	"context"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/parallel"
	"hiddengate/internal/region"
)

// Holders tells who may do any of the operations on any of the resources: the best answer for each subject, those who
// are denied everything left out. Of many resources it costs a few decisions for each who may, and for each who may not
// a look at what is given there.
func Holders(ctx context.Context, g *gate.Gate, c *gate.Context, resources []*estate.Resource,
	selects func(*estate.Operation) bool) ([]gate.Answer, error) {
	h := holding{gate: g, context: c, resources: resources, selects: selects}
	if len(resources) == 1 || slices.ContainsFunc(resources, func(r *estate.Resource) bool { return r.Index < 0 }) {
		return h.ask(ctx)
	}
	return h.count(ctx)
}

// holding is the question who may do something.
type holding struct {
	gate      *gate.Gate
	context   *gate.Context
	resources []*estate.Resource
	selects   func(*estate.Operation) bool
	table     *Table
	wanted    opset.Set // the operations
}

// ask asks for every subject.
func (h *holding) ask(ctx context.Context) (out []gate.Answer, err error) {
	for n := range h.gate.All {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		best, err := h.best(h.gate, h.context, n)
		if err != nil {
			return nil, err
		}
		if best.Outcome != gate.Deny {
			out = append(out, best)
		}
	}
	return out, nil
}

// best gives the first answer of a gate that is as good as it gets.
func (h *holding) best(g *gate.Gate, c *gate.Context, subject int) (gate.Answer, error) {
	best := gate.Answer{Subject: g.SubjectOf(subject)}
	of := gate.Sought{Context: c, Resources: slices.Values(h.resources), Operations: h.selects}
	err := g.Answers(best.Subject, of, func(a gate.Answer) bool {
		if a.Outcome > best.Outcome {
			best = a
		}
		return best.Outcome < gate.Allow
	})
	return best, err
}

// count looks for the best answer of each subject, on all cores.
func (h *holding) count(ctx context.Context) (out []gate.Answer, err error) {
	g := h.gate
	h.table, h.wanted = tableOf(g, h.context, h.resources), g.Classes.Ops.NewSet()
	for i, o := range g.Classes.Ops.List {
		if h.selects(o) {
			h.wanted.Add(uint32(i))
		}
	}
	var cores []*holders
	for range parallel.Workers() {
		cores = append(cores, &holders{of: h, tableGate: h.table.core(),
			covers: map[uint32]opset.Set{}})
	}
	const size = 256
	type batch struct {
		answers []gate.Answer
		err     error
	}
	batches := func(yield func(int) bool) {
		for first := 0; first < len(g.All) && ctx.Err() == nil && yield(first); first += size {
		}
	}
	parallel.Ordered(batches, func(w int) func(int) batch {
		return func(first int) (b batch) {
			for n := first; n < min(first+size, len(g.All)) && b.err == nil; n++ {
				var best gate.Answer
				if best, b.err = cores[w].best(n); best.Outcome != gate.Deny {
					b.answers = append(b.answers, best)
				}
			}
			return b
		}
	}, func(b batch) bool {
		out, err = append(out, b.answers...), b.err
		return err == nil
	})
	if err == nil && ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	return out, err
}

// holders looks for those who may do something, for one core.
type holders struct {
	of *holding
	*tableGate
	covers  map[uint32]opset.Set // what each gives of the operations, or may
	looked  []uint32             // of each pile, the round in which it was looked at
	rounds  uint32
	rows    []int
	subject int
	answer  gate.Answer // the best so far
}

// best gives the first answer that is as good as it gets: among what steps give, in tree order, then what lists give
// that traits tell, then what is owned. Of a pile one resource will do.
func (h *holders) best(subject int) (gate.Answer, error) {
	g, t := h.tableGate, h.table
	one := &g.Rows.RowOf[subject]
	h.subject, h.answer = subject, gate.Answer{Subject: g.SubjectOf(subject)}
	if one.Active == int32(region.Empty) {
		return h.answer, nil
	}
	if len(h.context.Roles) > 0 || one.Flags&unitrow.Separated != 0 || g.Lent(subject) {
		return h.of.best(g.Gate, h.context, subject)
	}
	if h.looked == nil {
		h.looked = make([]uint32, len(t.piles.List))
	}
	h.rounds++
	for s := range g.Rows.Stretches(one, uint32(len(t.piles.First)-1)) {
		if t.piles.First[s.From] == t.piles.First[s.To] {
			continue
		}
		given, err := h.gives(s.Cover)
		if err != nil {
			return gate.Answer{}, err
		}
		if given == nil {
			continue
		}
		for k := t.piles.First[s.From]; k < t.piles.First[s.To]; k++ {
			if !given.Meets(g.Classes.Valid[t.piles.List[k].At.Class]) {
				continue
			}
			h.looked[k] = h.rounds
			if row := h.rowOf(k); row >= 0 {
				if enough, err := h.look(row); enough || err != nil {
					return h.answer, err
				}
			}
		}
	}
	h.rows = h.rows[:0]
	for _, e := range g.Rows.Extras[one.Extra : one.Extra+one.Extras] {
		if g.Units.List[e.Unit].Block || g.holds[e.Unit] == region.None && !g.asks[e.Unit] ||
			!h.of.wanted.Meets(g.Units.Set(e.Unit)) {
			continue
		}
		for _, trait := range t.piles.Having[e.Trait] {
			for _, k := range t.piles.Traits[trait] {
				if h.looked[k] != h.rounds {
					h.looked[k] = h.rounds
					if row := h.rowOf(k); row >= 0 {
						h.rows = append(h.rows, row)
					}
				}
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
		if enough, err := h.look(row); enough || err != nil {
			return h.answer, err
		}
	}
	return h.answer, nil
}

// rowOf gives a resource of a pile that the subject does not own, or -1 where it owns all of them: what is owned is
// looked at by itself.
func (h *holders) rowOf(pile uint32) int {
	one, tree := &h.table.piles.List[pile], h.Estate().Tree
	if one.rows == nil {
		return int(one.Row)
	}
	for _, row := range one.rows {
		if !h.Owns(h.subject, tree.Owners[tree.Rows[row].Owner]) {
			return int(row)
		}
	}
	return -1
}

// gives is which of the operations a cover gives, or may, for it hangs on the resource; nil if it is none.
func (h *holders) gives(cover uint32) (opset.Set, error) {
	if cover == 0 {
		return nil, nil
	}
	out, ok := h.covers[cover]
	if !ok {
		a, err := h.tableGate.answer(cover)
		if err != nil {
			return nil, err
		}
		for w := range h.of.wanted {
			some := a.allowed[w] | a.depends[w]
			if a.asks != nil {
				some |= a.asks[w]
			}
			if some &= h.of.wanted[w]; some != 0 {
				if out == nil {
					out = h.Classes.Ops.NewSet()
				}
				out[w] = some
			}
		}
		h.covers[cover] = out
	}
	return out, nil
}

// look asks about a listed resource, and says whether no better answer can come.
func (h *holders) look(row int) (enough bool, err error) {
	g := h.tableGate
	q := gate.Query{Subject: h.subject, Context: g.context.Region(), Row: row, At: g.Places.Spots[row]}
	for _, o := range g.Estate().Offer(g.Classes.Kinds[q.At.Class]).On(g.Classes.Types[q.At.Class]) {
		if !h.of.selects(o) {
			continue
		}
		q.Operation = g.Classes.Ops.Number[o.Name]
		got, err := g.Judge(&q)
		if err != nil {
			return true, err
		}
		if got > h.answer.Outcome {
			h.answer = gate.Answer{Subject: h.answer.Subject, Operation: o, Resource: g.Estate().Tree.At(row), Outcome: got}
			if got == gate.Allow {
				return true, nil
			}
		}
	}
	return false, nil
}
