package counting

import (
	"context"
	"math"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// Holders tells who may do any of the operations on any of the resources: the best answer for each subject, those who
// are denied everything left out. Of many resources it costs what a table of all subjects does, and a few decisions for
// each who may.
func Holders(ctx context.Context, g *gate.Gate, c *gate.Context, resources []*estate.Resource,
	selects func(*estate.Operation) bool) ([]gate.Answer, error) {
	return HoldersWith(ctx, g, c, resources, selects, math.MaxInt)
}

// HoldersWith is Holders with an example, which is an operation on a resource, for so many of them alone: for the first
// ones. The others are told without operation and resource, where looking for these takes longer than counting.
func HoldersWith(ctx context.Context, g *gate.Gate, c *gate.Context, resources []*estate.Resource,
	selects func(*estate.Operation) bool, examples int) ([]gate.Answer, error) {
	h := holding{gate: g, context: c, resources: resources, selects: selects, examples: examples}
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
	examples  int // for how many of those who may
	table     *Table
	wanted    opset.Set // the operations
	core      *tableGate
	covers    map[uint32][gate.Allow + 1]opset.Set // what each gives
}

// ask asks for every subject.
func (h *holding) ask(ctx context.Context) (out []gate.Answer, err error) {
	for n := range h.gate.All {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		best, err := h.best(n, gate.Allow)
		if err != nil {
			return nil, err
		}
		if best.Outcome != gate.Deny {
			out = append(out, best)
		}
	}
	return out, nil
}

// best gives the first answer that is as good as it gets, or as good as is enough.
func (h *holding) best(subject int, enough gate.Outcome) (gate.Answer, error) {
	best := gate.Answer{Subject: h.gate.SubjectOf(subject)}
	of := gate.Sought{Context: h.context, Resources: slices.Values(h.resources), Operations: h.selects}
	err := h.gate.Answers(best.Subject, of, func(a gate.Answer) bool {
		if a.Outcome > best.Outcome {
			best = a
		}
		return best.Outcome < enough
	})
	return best, err
}

// count counts for all subjects at once, and looks for an example for each who may.
func (h *holding) count(ctx context.Context) (out []gate.Answer, err error) {
	g := h.gate
	h.table = tableOf(g, h.context, h.resources)
	h.core, h.covers, h.wanted = h.table.core(), map[uint32][gate.Allow + 1]opset.Set{}, g.Classes.Ops.NewSet()
	for i, o := range g.Classes.Ops.List {
		if h.selects(o) {
			h.wanted.Add(uint32(i))
		}
	}
	n := -1
	bad := h.table.Counts(ctx, func(_ estate.Principal, counts []Count) bool {
		n++
		best := gate.Deny
		for i, c := range counts {
			switch {
			case !h.wanted.Has(uint32(i)):
			case c.Allowed > 0:
				best = gate.Allow
			case c.Depends > 0:
				best = max(best, gate.Depends)
			}
		}
		if best == gate.Deny {
			return true
		}
		a := gate.Answer{Subject: g.SubjectOf(n), Outcome: best}
		if len(out) < h.examples {
			a, err = h.example(n, best)
		}
		if err == nil {
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
func (h *holding) example(subject int, outcome gate.Outcome) (gate.Answer, error) {
	g, t := h.gate, h.table
	one := &g.Rows.RowOf[subject]
	if len(h.context.Roles) > 0 || one.Flags&unitrow.Separated != 0 || g.Lent(subject) {
		return h.best(subject, outcome)
	}
	as := outcome
	if outcome == gate.Depends && g.Space().Judge(region.Region(one.Active), h.context.Region()) == region.Some {
		as = whenever
	}
	for s := range g.Rows.Stretches(one, uint32(len(t.piles.First)-1)) {
		given, err := h.gives(s.Cover, as)
		if err != nil {
			return gate.Answer{}, err
		}
		if given == nil {
			continue
		}
		for k := t.piles.First[s.From]; k < t.piles.First[s.To]; k++ {
			if t.piles.List[k].Count == 0 || !given.Meets(g.Classes.Valid[t.piles.List[k].At.Class]) {
				continue
			}
			if a, err := h.first(subject, int(t.piles.List[k].Row), outcome); err != nil || a.Operation != nil {
				return a, err
			}
		}
	}
	var rows []int
	for _, e := range g.Rows.Extras[one.Extra : one.Extra+one.Extras] {
		for _, trait := range t.piles.Having[e.Trait] {
			for _, k := range t.piles.Traits[trait] {
				if t.piles.List[k].Count > 0 {
					rows = append(rows, int(t.piles.List[k].Row))
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
const whenever = gate.Deny

// gives is which of the operations a cover gives so, or may, for it hangs on the resource; nil if it is none.
func (h *holding) gives(cover uint32, outcome gate.Outcome) (opset.Set, error) {
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
			for k, some := range [...]uint64{whenever: a.allowed[w] | a.depends[w],
				gate.Depends: a.depends[w], gate.Allow: a.allowed[w]} {
				if some = (some | asks) & h.wanted[w]; some != 0 {
					if out[k] == nil {
						out[k] = g.Classes.Ops.NewSet()
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
func (h *holding) first(subject, row int, outcome gate.Outcome) (gate.Answer, error) {
	g := h.gate
	q := gate.Query{Subject: subject, Context: h.context.Region(), Row: row, At: g.Places.Spots[row]}
	for _, o := range g.Estate().Offer(g.Classes.Kinds[q.At.Class]).On(g.Classes.Types[q.At.Class]) {
		if !h.selects(o) {
			continue
		}
		q.Operation = g.Classes.Ops.Number[o.Name]
		if got, err := g.Judge(&q); err != nil || got == outcome {
			return gate.Answer{Subject: g.SubjectOf(subject), Operation: o, Resource: g.Estate().Tree.At(row),
				Outcome: got}, err
		}
	}
	return gate.Answer{}, nil
}
