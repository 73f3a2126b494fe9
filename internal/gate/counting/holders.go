package counting

import (
	"cmp"
	"context"
	"iter"
	"math"
	"math/bits"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/parallel"
	"hiddengate/internal/region"
)

// Holders tells who may do any of the operations on any of the places: the best answer for each subject, those who
// are denied everything left out. Of many places it costs a few decisions for each who may, and for each who may not
// a look at what is given there.
func Holders(ctx context.Context, g *gate.Gate, c *gate.Context, places Places,
	selects func(*estate.Operation) bool) ([]gate.Answer, error) {
	h := holding{gate: g, context: c, places: places, selects: selects}
	if places.Len() == 1 || len(places.Unlisted) > 0 {
		return h.ask(ctx)
	}
	return h.count(ctx)
}

// holding is the question who may do something.
type holding struct {
	gate    *gate.Gate
	context *gate.Context
	places  Places
	selects func(*estate.Operation) bool
	table   *Table
	wanted  opset.Set // the operations
	inOrder []uint32  // the piles in tree order
	place   []uint32  // of each pile, its place there
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
	of := gate.Sought{Context: c, Resources: h.places.Each(g.Estate()), Operations: h.selects}
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
	h.table, h.wanted = tableOf(g, h.context, h.places.Rows), g.Classes.Ops.NewSet()
	for i, o := range g.Classes.Ops.List {
		if h.selects(o) {
			h.wanted.Add(uint32(i))
		}
	}
	h.order()
	var cores []*holders
	for range parallel.Workers() {
		cores = append(cores, &holders{of: h, tableGate: h.table.core(),
			covers: map[uint32]opset.Set{}, sets: map[uint32][]uint64{}})
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

// order puts the piles in tree order.
func (h *holding) order() {
	list := h.table.piles.List
	h.inOrder, h.place = make([]uint32, len(list)), make([]uint32, len(list))
	for k := range h.inOrder {
		h.inOrder[k] = uint32(k)
	}
	slices.SortFunc(h.inOrder, func(a, b uint32) int { return cmp.Compare(list[a].Row, list[b].Row) })
	for at, k := range h.inOrder {
		h.place[k] = uint32(at)
	}
}

// holders looks for those who may do something, for one core.
type holders struct {
	of *holding
	*tableGate
	covers  map[uint32]opset.Set // what each gives of the operations, or may
	looked  []uint32             // of each pile, the round in which it was looked at
	rounds  uint32
	sets    map[uint32][]uint64 // of each list that traits tell, its piles by their places in tree order
	union   []uint64            // of those of the subject
	lists   []uint32            // of the subject
	single  []int               // resources that are looked at by themselves
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
		h.looked, h.union = make([]uint32, len(t.piles.List)), make([]uint64, (len(t.piles.List)+63)/64)
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
	h.lists = h.lists[:0]
	for _, e := range g.Rows.Extras[one.Extra : one.Extra+one.Extras] {
		if !g.Units.List[e.Unit].Block && (g.holds[e.Unit] != region.None || g.asks[e.Unit]) &&
			h.of.wanted.Meets(g.Units.Set(e.Unit)) {
			h.lists = append(h.lists, e.Trait)
		}
	}
	return h.answer, h.inOrder()
}

// inOrder looks at what lists give that traits tell, and at what is owned, in tree order, until no better answer can
// come.
func (h *holders) inOrder() error {
	clear(h.union)
	for _, list := range h.lists {
		for i, w := range h.pilesOf(list) {
			h.union[i] |= w
		}
	}
	h.single = slices.AppendSeq(h.single[:0], h.owned())
	slices.Sort(h.single)
	before := func(row int) (enough bool, err error) { // looks at those before a row
		for len(h.single) > 0 && h.single[0] < row && !enough && err == nil {
			enough, err = h.look(h.single[0])
			h.single = h.single[1:]
		}
		return enough, err
	}
	for i, w := range h.union {
		for ; w != 0; w &= w - 1 {
			k := h.of.inOrder[64*i+bits.TrailingZeros64(w)]
			if h.looked[k] == h.rounds {
				continue
			}
			h.looked[k] = h.rounds
			row := int(h.table.piles.List[k].Row)
			if enough, err := before(row); enough || err != nil {
				return err
			}
			if own := h.rowOf(k); own != row {
				if own >= 0 { // what stands before it is owned
					at, _ := slices.BinarySearch(h.single, own)
					h.single = slices.Insert(h.single, at, own)
				}
				continue
			}
			if enough, err := h.look(row); enough || err != nil {
				return err
			}
		}
	}
	_, err := before(math.MaxInt)
	return err
}

// mostWords bounds how many words of sets of piles are kept: 64 megabytes.
const mostWords = 1 << 23

// pilesOf gives the piles of a list as a set, by their places in tree order.
func (h *holders) pilesOf(list uint32) []uint64 {
	out, ok := h.sets[list]
	if !ok {
		p := h.table.piles
		out = make([]uint64, len(h.union))
		for _, trait := range p.Having[list] {
			for _, k := range p.Traits[trait] {
				at := h.of.place[k]
				out[at/64] |= 1 << (at % 64)
			}
		}
		if len(h.sets)*len(out) >= mostWords {
			clear(h.sets)
		}
		h.sets[list] = out
	}
	return out
}

// owned gives the resources that the subject owns.
func (h *holders) owned() iter.Seq[int] {
	return func(yield func(int) bool) {
		for _, o := range h.table.owns(h.subject) {
			for _, row := range h.table.owned[o] {
				if h.table.counted(int(row)) && !yield(int(row)) {
					return
				}
			}
		}
	}
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
