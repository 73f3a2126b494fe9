// Package counting answers for all subjects at once: on how many resources each is allowed each operation, who may do
// any of it, and at which moments there are how many people.
package counting

import (
	"context"
	"math/bits"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/parallel"
	"hiddengate/internal/region"
)

// Table answers for whole systems at once, in one context: it reads the rows of the normal form, and costs what they
// weigh, not subjects × operations × resources.
//
// Resources that share a mark, a trait, a class and the values of the tags that conditions ask about are one pile. A
// subject's row is walked step by step: over the marks of a step one cover is in force, and what a cover gives is
// worked out once, however many subjects have it. Piles are looked at one by one only where a condition asks about the
// resource, or a list that traits tell covers some.
type Table struct {
	gate    *gate.Gate
	context *gate.Context
	chosen  []bool   // of each resource, whether it is counted; nil: all are
	sums    []uint32 // for each mark and class, how many resources of the class have a lower mark
	piles   *Piles
	owned   [][]uint32   // of each owner, by number in the tree, the resources
	self    []uint32     // of each subject, its number as an owner, or 0
	groups  []uint32     // the numbers of the owners that are groups
	gates   []*tableGate // one for each core
}

// maxWords is how many words a set of operations has at most.
const maxWords = gate.MaxOperations / 64

// tableGate is a gate that keeps what covers give.
type tableGate struct {
	*gate.Gate
	table   *Table
	context *gate.Context
	holds   []region.Holding // of each unit, where nothing in it asks about subject or resource
	asks    []bool           // of each unit, whether it does
	answers []*coverAnswer
	single  []*coverAnswer // of units alone
	traited []uint32       // for each trait, the round in which it was met
	brought [][]uint32     // likewise, the units that extras bring there
	met     []uint32       // the traits that were
	round   uint32
	kept    []keptSets // by facts, what the units at hand give
	keeping uint32
	both    []uint32
	matched []uint32 // of both, the units that have the operation at hand
	scratch *region.Context
	waiting []int
	alone   [1]uint32
	one     outcomeSets
	two     outcomeSets
}

// outcomeSets is what units give in the context: sets of operations.
type outcomeSets struct{ allowed, depends opset.Set }

// coverAnswer is what a cover gives wherever nothing else is in force.
type coverAnswer struct {
	outcomeSets
	asks opset.Set // operations whose answer hangs on the resource or the subject; nil if none does
}

// keptSets is what is given on resources with the same facts, if they were worked out in this round.
type keptSets struct {
	round uint32
	outcomeSets
}

// Count is how many listed resources a subject is allowed an operation on, and on how many it depends.
type Count struct{ Allowed, Depends int }

// NewTable prepares to answer in a context.
func NewTable(g *gate.Gate, c *gate.Context) *Table {
	t := &Table{gate: g, context: c}
	t.build()
	return t
}

// tableOf counts some listed resources alone.
func tableOf(g *gate.Gate, c *gate.Context, rows []int) *Table {
	t := &Table{gate: g, context: c, chosen: make([]bool, g.Estate().Tree.Len())}
	for _, row := range rows {
		t.chosen[row] = true
	}
	t.build()
	return t
}

// counted says whether a resource is.
func (t *Table) counted(row int) bool { return t.chosen == nil || t.chosen[row] }

// build sums the piles up, and finds who owns what.
func (t *Table) build() {
	g, tree := t.gate, t.gate.Estate().Tree
	t.piles = NewPiles(g, t.chosen)
	marks, classes := len(g.Places.Marks)+1, len(g.Classes.Valid)
	t.sums = make([]uint32, (marks+1)*classes)
	for m := range marks {
		copy(t.sums[(m+1)*classes:(m+2)*classes], t.sums[m*classes:(m+1)*classes])
		for _, p := range t.piles.List[t.piles.First[m]:t.piles.First[m+1]] {
			t.sums[(m+1)*classes+int(p.At.Class)] += p.Count
		}
	}
	if g.Facts.Owner {
		t.owned, t.self = make([][]uint32, len(tree.Owners)), make([]uint32, len(g.All))
		for i := range tree.Rows {
			if o := tree.Rows[i].Owner; o > 0 {
				t.owned[o] = append(t.owned[o], uint32(i))
			}
		}
		for i, o := range tree.Owners {
			switch {
			case o == nil:
			case o.Kind == estate.IsGroup:
				t.groups = append(t.groups, uint32(i))
			default:
				t.self[g.NumberOf(*o)] = uint32(i)
			}
		}
	}
}

// core gives the gate for one more core.
func (t *Table) core() *tableGate {
	f := t.gate.Fork()
	g := &tableGate{Gate: f, table: t, context: t.context.In(f), answers: make([]*coverAnswer, len(t.gate.Rows.Ends)),
		single: make([]*coverAnswer, len(t.gate.Units.List)), traited: make([]uint32, len(t.piles.Traits)+1),
		brought: make([][]uint32, len(t.piles.Traits)+1),
		kept:    make([]keptSets, t.piles.facts), scratch: f.Space().NewContext()}
	for _, u := range f.Units.List {
		asks := f.Space().AsksBelow(u.Region, f.Facts.Fixed)
		holds := region.None
		if !asks {
			holds = f.Space().Judge(u.Region, g.context.Region())
		}
		g.asks, g.holds = append(g.asks, asks), append(g.holds, holds)
	}
	return g
}

// Counts tells of every subject, by number, and every operation, by number of the operations by name, how many listed
// resources it is allowed on and on how many it depends. It works on all cores and calls each in the order of the
// subjects; the counts are each's to read until it returns. It stops when each returns false, and with
// an error when the context ends.
func (t *Table) Counts(ctx context.Context, each func(who estate.Principal, counts []Count) bool) error {
	const size = 256
	people := len(t.gate.All)
	for len(t.gates) < parallel.Workers() {
		t.gates = append(t.gates, t.core())
	}
	type batch struct {
		first  int
		counts [][]Count
		err    error
	}
	batches := func(yield func(int) bool) {
		for first := 0; first < people && ctx.Err() == nil && yield(first); first += size {
		}
	}
	var err error
	parallel.Ordered(batches, func(w int) func(int) batch {
		return func(first int) batch {
			b := batch{first: first}
			for n := first; n < min(first+size, people) && b.err == nil; n++ {
				counts := make([]Count, len(t.gate.Classes.Ops.List))
				b.err = t.gates[w].count(n, counts)
				b.counts = append(b.counts, counts)
			}
			return b
		}
	}, func(b batch) bool {
		if err = b.err; err != nil {
			return false
		}
		for k, counts := range b.counts {
			if !each(t.gate.SubjectOf(b.first+k), counts) {
				return false
			}
		}
		return true
	})
	if err == nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// count counts for one subject.
func (g *tableGate) count(subject int, counts []Count) error {
	h := &g.Rows.RowOf[subject]
	if h.Active == int32(region.Empty) {
		return nil
	}
	active := g.Space().Judge(region.Region(h.Active), g.context.Region())
	if active == region.None {
		return nil
	}
	if active == region.Some || h.Flags&unitrow.Separated != 0 || len(g.context.Roles) > 0 ||
		g.Lent(subject) {
		return g.countSlowly(subject, counts)
	}
	// Steps: what a cover gives, over all the resources below it.
	q := gate.Query{Subject: subject, Context: g.context.Region()}
	g.scratch.CopyFrom(q.Context)
	classes := len(g.Classes.Valid)
	asks := false
	for s := range g.Rows.Stretches(h, uint32(len(g.table.piles.First)-1)) {
		if s.Cover == 0 {
			continue
		}
		a, err := g.answer(s.Cover)
		if err != nil {
			return err
		}
		from, to := g.table.sums[int(s.From)*classes:][:classes], g.table.sums[int(s.To)*classes:][:classes]
		for class := range classes {
			if n := int(to[class] - from[class]); n > 0 {
				a.count(counts, g.Classes.Valid[class], n)
			}
		}
		if a.asks == nil {
			continue
		}
		asks = true
		g.keeping++
		for k := g.table.piles.First[s.From]; k < g.table.piles.First[s.To]; k++ {
			p := &g.table.piles.List[k]
			kept := &g.kept[p.Facts]
			if kept.round != g.keeping {
				g.settle(&q, p.Row)
				if err := g.compose(&q, g.Rows.Cover(s.Cover, &g.alone), &kept.outcomeSets); err != nil {
					return err
				}
				kept.round = g.keeping
			}
			kept.countOnly(counts, a.asks, g.Classes.Valid[p.At.Class], int(p.Count))
		}
	}
	// Extras: where they are in force, what the cover alone gives is taken off, and what both give put on.
	extras := g.Rows.Extras[h.Extra : h.Extra+h.Extras]
	for _, e := range extras {
		asks = asks || g.asks[e.Unit]
	}
	for _, trait := range g.bring(extras) {
		if err := g.countTrait(&q, h, counts, trait); err != nil {
			return err
		}
	}
	if asks && g.Facts.Owner {
		return g.countOwned(&q, h, counts)
	}
	return nil
}

// countTrait goes over the resources of a trait, beside the steps.
func (g *tableGate) countTrait(q *gate.Query, h *unitrow.Holder, counts []Count, trait uint32) error {
	cover, asks := uint32(0), false
	waiting := g.waiting[:0] // of each class, how many resources wait to be counted
	for range g.Classes.Valid {
		waiting = append(waiting, 0)
	}
	g.waiting = waiting
	flush := func() {
		for class, n := range waiting {
			if n > 0 {
				g.one.count(counts, g.Classes.Valid[class], -n)
				g.two.count(counts, g.Classes.Valid[class], n)
				waiting[class] = 0
			}
		}
	}
	last, lastFacts := uint32(1<<32-1), uint32(1<<32-1)
	for _, k := range g.table.piles.Traits[trait] {
		p := &g.table.piles.List[k]
		cover = g.Rows.At(h, p.At.Mark)
		if cover != last || asks && p.Facts != lastFacts {
			flush()
			last, lastFacts = cover, p.Facts
			if asks = g.gather(cover, g.brought[trait]); asks {
				g.settle(q, p.Row)
			}
			if err := g.compose(q, g.Rows.Cover(cover, &g.alone), &g.one); err != nil {
				return err
			}
			if err := g.compose(q, g.both, &g.two); err != nil {
				return err
			}
		}
		waiting[p.At.Class] += int(p.Count)
	}
	flush()
	return nil
}

// gather puts the units of a cover and some more into both, and says whether any asks about subject or resource.
func (g *tableGate) gather(cover uint32, more []uint32) bool {
	g.both = append(append(g.both[:0], g.Rows.Cover(cover, &g.alone)...), more...)
	return slices.ContainsFunc(g.both, func(u uint32) bool { return g.asks[u] })
}

// bring finds the traits under which a subject's extras are in force, and the units that they bring there.
func (g *tableGate) bring(extras []unitrow.Extra) []uint32 {
	g.round++
	g.met = g.met[:0]
	for _, e := range extras {
		for _, trait := range g.table.piles.Having[e.Trait] {
			if g.traited[trait] != g.round {
				g.traited[trait] = g.round
				g.brought[trait] = g.brought[trait][:0]
				g.met = append(g.met, trait)
			}
			g.brought[trait] = append(g.brought[trait], e.Unit)
		}
	}
	return g.met
}

// count counts what is given of the valid operations on n resources.
func (a *outcomeSets) count(counts []Count, valid opset.Set, n int) {
	a.countOnly(counts, valid, valid, n)
}

// countOnly counts some of it alone.
func (a *outcomeSets) countOnly(counts []Count, only, valid opset.Set, n int) {
	for w := range valid {
		mask := valid[w] & only[w]
		for set := a.allowed[w] & mask; set != 0; set &= set - 1 {
			counts[w*64+bits.TrailingZeros64(set)].Allowed += n
		}
		for set := a.depends[w] & mask; set != 0; set &= set - 1 {
			counts[w*64+bits.TrailingZeros64(set)].Depends += n
		}
	}
}

// settle turns to a resource that the subject does not own, settleOwned to one that it does. The scratch context says
// what the table's does.
func (g *tableGate) settle(q *gate.Query, row uint32) {
	g.FixOwning(g.scratch, q.Subject, g.Estate().Tree.Tags[g.Estate().Tree.Rows[row].Tags], false)
	q.Known = g.scratch
}

func (g *tableGate) settleOwned(q *gate.Query, row uint32) {
	g.settle(q, row)
	g.scratch.FlagAt(factspace.OwnerDim, true)
}

// compose works out what units give an active subject, on the resource that has been turned to: most of it for all
// operations at once, and one by one where several units hold a part of the context each.
func (g *tableGate) compose(q *gate.Query, units []uint32, out *outcomeSets) error {
	if out.allowed == nil {
		out.allowed, out.depends = g.Classes.Ops.NewSet(), g.Classes.Ops.NewSet()
	}
	clear(out.allowed)
	clear(out.depends)
	var all, some, denied, doubted [maxWords]uint64
	words := len(out.allowed)
	for _, u := range units {
		holds := g.holds[u]
		if g.asks[u] {
			holds = g.Space().Judge(g.Units.List[u].Region, g.scratch)
		}
		var to *[maxWords]uint64
		switch block := g.Units.List[u].Block; {
		case holds == region.None:
			continue
		case holds == region.All && block:
			to = &denied
		case block:
			to = &doubted
		case holds == region.All:
			to = &all
		default:
			to = &some
		}
		for w, set := range g.Units.Set(u) {
			to[w] |= set
		}
	}
	for w := range words {
		out.allowed[w] = all[w] &^ denied[w] &^ doubted[w]
		for set := (all[w] | some[w]) &^ denied[w] &^ out.allowed[w]; set != 0; set &= set - 1 {
			q.Operation = uint32(w*64 + bits.TrailingZeros64(set))
			g.matched = g.matched[:0]
			for _, u := range units {
				if g.Units.Has(u, q.Operation) {
					g.matched = append(g.matched, u)
				}
			}
			outcome, err := g.Weigh(q, g.matched, region.Full)
			if err != nil {
				return err
			}
			switch outcome {
			case gate.Allow:
				out.allowed.Add(q.Operation)
			case gate.Depends:
				out.depends.Add(q.Operation)
			}
		}
	}
	return nil
}

// answer gives what a cover gives wherever nothing else is in force.
func (g *tableGate) answer(n uint32) (*coverAnswer, error) {
	kept := &g.answers
	if n&unitrow.Alone != 0 {
		kept = &g.single
	}
	if a := (*kept)[n&^unitrow.Alone]; a != nil {
		return a, nil
	}
	a := &coverAnswer{}
	var one [1]uint32
	cover := g.Rows.Cover(n, &one)
	for _, u := range cover {
		if g.asks[u] {
			if a.asks == nil {
				a.asks = g.Classes.Ops.NewSet()
			}
			for w, set := range g.Units.Set(u) {
				a.asks[w] |= set
			}
		}
	}
	certain := cover
	if a.asks != nil { // of the others, what no asking unit has a part in
		certain = slices.DeleteFunc(slices.Clone(cover), func(u uint32) bool { return g.asks[u] })
	}
	if err := g.compose(&gate.Query{Context: g.context.Region()}, certain, &a.outcomeSets); err != nil {
		return nil, err
	}
	for w := range a.asks {
		a.allowed[w] &^= a.asks[w]
		a.depends[w] &^= a.asks[w]
	}
	(*kept)[n&^unitrow.Alone] = a
	return a, nil
}

// countOwned corrects the counts for what the subject owns.
func (g *tableGate) countOwned(q *gate.Query, h *unitrow.Holder, counts []Count) error {
	extras := g.Rows.Extras[h.Extra : h.Extra+h.Extras]
	for _, o := range g.table.owns(q.Subject) {
		for _, row := range g.table.owned[o] {
			if !g.table.counted(int(row)) {
				continue
			}
			at := g.Places.Spots[row]
			var more []uint32
			for _, e := range extras {
				if at.Trait > 0 && g.Places.Traits.Has(at.Trait, int(e.Trait)) {
					more = append(more, e.Unit)
				}
			}
			if !g.gather(g.Rows.At(h, at.Mark), more) {
				continue
			}
			g.settle(q, row)
			if err := g.compose(q, g.both, &g.one); err != nil {
				return err
			}
			g.settleOwned(q, row)
			if err := g.compose(q, g.both, &g.two); err != nil {
				return err
			}
			g.one.count(counts, g.Classes.Valid[at.Class], -1)
			g.two.count(counts, g.Classes.Valid[at.Class], 1)
		}
	}
	return nil
}

// owns lists the owners, by number in the tree, who are the subject or a group of theirs; none if no condition asks who
// owns.
func (t *Table) owns(subject int) []uint32 {
	if !t.gate.Facts.Owner {
		return nil
	}
	as := []uint32{t.self[subject]}
	for _, o := range t.groups {
		if t.gate.Owns(subject, t.gate.Estate().Tree.Owners[o]) {
			as = append(as, o)
		}
	}
	return as
}

// countSlowly asks about every resource.
func (g *tableGate) countSlowly(subject int, counts []Count) error {
	counted := func(yield func(*estate.Resource) bool) {
		for r := range g.Estate().Tree.All() {
			if g.table.counted(r.Index) && !yield(r) {
				return
			}
		}
	}
	return g.Gate.Answers(g.SubjectOf(subject), gate.Sought{Context: g.context, Resources: counted},
		func(a gate.Answer) bool {
			switch n := &counts[g.Classes.Ops.Number[a.Operation.Name]]; a.Outcome {
			case gate.Allow:
				n.Allowed++
			case gate.Depends:
				n.Depends++
			}
			return true
		})
}
