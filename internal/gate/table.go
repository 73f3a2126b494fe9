package gate

import (
	"math/bits"
	"runtime"
	"slices"
	"sync"

	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Table answers for whole systems at once, in one context: it reads the rows of the normal form, and costs what they
// weigh, not subjects × operations × resources.
//
// Resources that share a mark, a trait, a class and the values of the tags that conditions ask about are one pile. A subject's row is
// walked step by step: over the marks of a step one cover is in force, and what a cover gives is worked out once, however many
// subjects have it. Piles are looked at one by one only where a condition asks about the resource, or a list that
// traits tell covers some.
type Table struct {
	gate    *Gate
	context *Context
	sums    []uint32 // for each mark and class, how many resources of the class have a lower mark
	piles   []pile   // by mark
	first   []uint32 // of each mark, its first pile
	traits  [][]uint32
	having  [][]uint32   // of each list that traits tell, the traits that have it
	owned   [][]uint32   // of each owner, by number in the tree, the resources
	self    []uint32     // of each subject, its number as an owner, or 0
	groups  []uint32     // the numbers of the owners that are groups
	gates   []*tableGate // one for each core
}

type pile struct {
	at    spot
	facts uint32 // the number of the tags' values that conditions ask about
	count uint32
	row   uint32 // one of them
}

// tableGate is a gate that keeps what covers give.
type tableGate struct {
	*Gate
	table   *Table
	context *Context
	holds   []region.Holding // of each unit, where nothing in it asks about subject or resource
	asks    []bool           // of each unit, whether it does
	answers []*coverAnswer
	traited []uint32 // for each trait, the turn in which it was met
	turn    uint32
}

// coverAnswer is what a cover gives wherever nothing else is in force: sets of operations.
type coverAnswer struct {
	allowed, depends opset
	asks             opset // operations whose answer hangs on the resource or the subject
	owner            bool
}

// Count is how many listed resources a subject is allowed an operation on, and on how many it depends.
type Count struct{ Allowed, Depends int }

// Table prepares to answer in a context.
func (g *Gate) Table(c *Context) *Table {
	t := &Table{gate: g, context: c}
	t.heap()
	return t
}

// heap makes the piles.
func (t *Table) heap() {
	g, tree := t.gate, t.gate.estate.Tree
	facts := make([]uint32, len(tree.Tags))
	numbers := map[string]uint32{}
	for i, tags := range tree.Tags {
		key := ""
		for _, tag := range g.facts.tags(tags) {
			key += tag.Key + "\x00" + tag.Value + "\x00"
		}
		n, ok := numbers[key]
		if !ok {
			n = uint32(len(numbers))
			numbers[key] = n
		}
		facts[i] = n
	}
	type look struct {
		at    spot
		facts uint32
	}
	known := map[look]uint32{}
	var last look
	var lastPile uint32
	for i := range tree.Rows {
		key := look{g.places.spots[i], facts[tree.Rows[i].Tags]}
		if i == 0 || key != last {
			n, ok := known[key]
			if !ok {
				n = uint32(len(t.piles))
				known[key] = n
				t.piles = append(t.piles, pile{at: key.at, facts: key.facts, row: uint32(i)})
			}
			last, lastPile = key, n
		}
		t.piles[lastPile].count++
	}
	slices.SortFunc(t.piles, func(a, b pile) int {
		if a.at.mark != b.at.mark {
			return int(a.at.mark) - int(b.at.mark)
		}
		return int(a.row) - int(b.row)
	})
	marks, classes := len(g.places.marks)+1, len(g.classes.valid)
	t.sums = make([]uint32, (marks+1)*classes)
	t.first = make([]uint32, marks+1)
	next := 0
	for m := range marks {
		t.first[m] = uint32(next)
		copy(t.sums[(m+1)*classes:(m+2)*classes], t.sums[m*classes:(m+1)*classes])
		for ; next < len(t.piles) && t.piles[next].at.mark == uint32(m); next++ {
			p := &t.piles[next]
			t.sums[(m+1)*classes+int(p.at.class)] += p.count
			for len(t.traits) <= int(p.at.trait) {
				t.traits = append(t.traits, nil)
			}
			t.traits[p.at.trait] = append(t.traits[p.at.trait], uint32(next))
		}
	}
	t.first[marks] = uint32(next)
	t.having = make([][]uint32, len(g.places.complex))
	for trait := 1; trait < len(t.traits); trait++ {
		for n := range t.having {
			if g.places.traits.has(uint32(trait), n) {
				t.having[n] = append(t.having[n], uint32(trait))
			}
		}
	}
	if g.facts.owner {
		t.owned, t.self = make([][]uint32, len(tree.Owners)), make([]uint32, len(g.people))
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
				t.self[g.number(*o)] = uint32(i)
			}
		}
	}
}

// core gives the gate for one more core.
func (t *Table) core() *tableGate {
	f := t.gate.Fork()
	g := &tableGate{Gate: f, table: t, context: t.context.In(f), answers: make([]*coverAnswer, len(t.gate.rows.ends)), traited: make([]uint32, len(t.traits)+1)}
	for _, u := range f.units.list {
		asks := f.space.AsksBelow(u.region, f.facts.fixed)
		holds := region.None
		if !asks {
			holds = f.space.Judge(u.region, g.context.region)
		}
		g.asks, g.holds = append(g.asks, asks), append(g.holds, holds)
	}
	return g
}

// Counts tells of every subject, by number, and every operation, by number of the operations by name, how many listed
// resources it is allowed on and on how many it depends. It works on all cores and calls each in the order of the subjects;
// the counts are each's to read until it returns. It stops when each returns false.
func (t *Table) Counts(each func(who estate.Principal, counts []Count) bool) error {
	type batch struct {
		counts [][]Count
		err    error
		done   chan struct{}
	}
	const size = 256
	batches := make([]batch, (len(t.gate.people)+size-1)/size)
	for i := range batches {
		batches[i].done = make(chan struct{})
	}
	workers := runtime.GOMAXPROCS(0)
	for len(t.gates) < workers {
		t.gates = append(t.gates, t.core())
	}
	ahead := make(chan int, 4*workers) // how far the workers may be before whoever reads
	stop := make(chan struct{})
	var wait sync.WaitGroup
	go func() {
		defer close(ahead)
		for i := range batches {
			select {
			case ahead <- i:
			case <-stop:
				return
			}
		}
	}()
	for w := range workers {
		wait.Go(func() {
			for i := range ahead {
				b := &batches[i]
				for n := i * size; n < min((i+1)*size, len(t.gate.people)) && b.err == nil; n++ {
					counts := make([]Count, len(t.gate.classes.ops.list))
					b.err = t.gates[w].count(n, counts)
					b.counts = append(b.counts, counts)
				}
				close(b.done)
			}
		})
	}
	defer wait.Wait()
	defer close(stop)
	for i := range batches {
		<-batches[i].done
		if batches[i].err != nil {
			return batches[i].err
		}
		for k, counts := range batches[i].counts {
			if !each(t.gate.principal(i*size+k), counts) {
				return nil
			}
		}
		batches[i].counts = nil
	}
	return nil
}

func (c *Count) add(o Outcome, n int) {
	switch o {
	case Allow:
		c.Allowed += n
	case Depends:
		c.Depends += n
	}
}

// count counts for one subject.
func (g *tableGate) count(subject int, counts []Count) error {
	h := &g.holders[subject]
	if h.active == int32(region.Empty) {
		return nil
	}
	active := g.space.Judge(region.Region(h.active), g.context.region)
	if active == region.None {
		return nil
	}
	if active == region.Some || h.flags&apart != 0 || len(g.context.Roles) > 0 || g.lent[uint32(subject)] != nil {
		return g.countSlowly(subject, counts)
	}
	q := query{subject: subject, context: g.context.region}
	// Steps: what a cover gives, over all the resources below it.
	steps := g.rows.steps[h.row : h.row+h.steps]
	marks := uint32(len(g.table.first) - 1)
	classes := len(g.classes.valid)
	owner := false
	for i, s := range steps {
		if s.cover == 0 {
			continue
		}
		end := marks
		if i+1 < len(steps) {
			end = steps[i+1].mark
		}
		a := g.answers[s.cover]
		if a == nil {
			var err error
			if a, err = g.answer(s.cover); err != nil {
				return err
			}
			g.answers[s.cover] = a
		}
		owner = owner || a.owner
		from, to := g.table.sums[int(s.mark)*classes:][:classes], g.table.sums[int(end)*classes:][:classes]
		for class := range classes {
			if n := int(to[class] - from[class]); n > 0 {
				g.addSets(counts, a, g.classes.valid[class], n)
			}
		}
		if a.asks != nil {
			for k := g.table.first[s.mark]; k < g.table.first[end]; k++ {
				p := &g.table.piles[k]
				if err := g.addAsked(&q, counts, a, s.cover, p, int(p.count)); err != nil {
					return err
				}
			}
		}
	}
	// Extras: where they are in force the answer of the cover alone is taken off, and that of both put on.
	g.turn++
	for _, e := range g.rows.extras[h.extra : h.extra+h.extras] {
		owner = owner || g.asks[e.unit]
		for _, trait := range g.table.having[e.trait] {
			if g.traited[trait] == g.turn {
				continue
			}
			g.traited[trait] = g.turn
			for _, k := range g.table.traits[trait] {
				p := &g.table.piles[k]
				if err := g.shift(&q, h, counts, p.at, p.row, int(p.count), false, false, true); err != nil {
					return err
				}
			}
		}
	}
	if owner && g.facts.owner {
		return g.countOwned(&q, h, counts)
	}
	return nil
}

// addSets counts what a cover gives for certain on n resources on which the valid operations can be done.
func (g *tableGate) addSets(counts []Count, a *coverAnswer, valid opset, n int) {
	for w := range valid {
		for set := a.allowed[w] & valid[w]; set != 0; set &= set - 1 {
			counts[w*64+bits.TrailingZeros64(set)].Allowed += n
		}
		for set := a.depends[w] & valid[w]; set != 0; set &= set - 1 {
			counts[w*64+bits.TrailingZeros64(set)].Depends += n
		}
	}
}

// addAsked counts what hangs on the resource: a pile whose resources somebody else owns.
func (g *tableGate) addAsked(q *query, counts []Count, a *coverAnswer, cover uint32, p *pile, n int) error {
	valid := g.classes.valid[p.at.class]
	g.settle(q, p.at, p.row, false)
	for w := range valid {
		for set := a.asks[w] & valid[w]; set != 0; set &= set - 1 {
			q.operation = uint32(w*64 + bits.TrailingZeros64(set))
			outcome, err := g.decideBy(q, g.rows.cover(cover), nil)
			if err != nil {
				return err
			}
			counts[q.operation].add(outcome, n)
		}
	}
	return nil
}

// settle turns a query to a resource that the subject owns or does not own.
func (g *tableGate) settle(q *query, at spot, row uint32, owns bool) {
	q.at, q.row = at, int(row)
	r := &g.estate.Tree.Rows[row]
	g.scratch.CopyFrom(q.context)
	g.fix(g.scratch, q.subject, g.estate.Tree.Tags[r.Tags], nil)
	g.scratch.FlagAt(ownerDim, owns)
	q.known = true
}

// shift takes the answer of the cover alone off for n resources of a spot, and puts on that of cover and extras. were
// and are say whether the subject was taken for their owner, and is; base, that what comes off is the cover's alone.
func (g *tableGate) shift(q *query, h *holder, counts []Count, at spot, row uint32, n int, were, are, base bool) error {
	cover := g.rows.cover(g.rows.at(h, at.mark))
	extras := g.rows.extras[h.extra : h.extra+h.extras]
	before := extras
	if base {
		before = nil
	}
	for _, o := range g.estate.Offer(g.classes.kinds[at.class]).On(g.classes.types[at.class]) {
		q.operation = g.classes.ops.number[o.Name]
		g.settle(q, at, row, were)
		off, err := g.decideBy(q, cover, before)
		if err != nil {
			return err
		}
		g.settle(q, at, row, are)
		on, err := g.decideBy(q, cover, extras)
		if err != nil {
			return err
		}
		if off != on {
			counts[q.operation].add(off, -n)
			counts[q.operation].add(on, n)
		}
	}
	return nil
}

// decideBy decides a query, the subject being active, from a cover and those extras that are in force.
func (g *tableGate) decideBy(q *query, cover []uint32, extras []extra) (Outcome, error) {
	g.matched = g.matched[:0]
	for _, u := range cover {
		if g.units.has(u, q.operation) {
			g.matched = append(g.matched, u)
		}
	}
	if q.at.trait > 0 {
		for _, e := range extras {
			if g.places.traits.has(q.at.trait, int(e.trait)) && g.units.has(e.unit, q.operation) {
				g.matched = append(g.matched, e.unit)
			}
		}
		slices.Sort(g.matched)
	}
	if len(g.matched) == 0 {
		return Deny, nil
	}
	return g.weigh(q, region.Full)
}

// answer works out what a cover gives.
func (g *tableGate) answer(n uint32) (*coverAnswer, error) {
	a := &coverAnswer{allowed: g.classes.ops.set(), depends: g.classes.ops.set()}
	cover := g.rows.cover(n)
	all, asks := g.classes.ops.set(), g.classes.ops.set()
	for _, u := range cover {
		for w, set := range g.units.set(u) {
			all[w] |= set
			if g.asks[u] {
				asks[w] |= set
				a.owner = true
			}
		}
	}
	if a.owner {
		a.asks = asks
	}
	q := query{context: g.context.region}
	for w := range all {
		for set := all[w] &^ asks[w]; set != 0; set &= set - 1 {
			q.operation = uint32(w*64 + bits.TrailingZeros64(set))
			outcome, err := g.decideBy(&q, cover, nil)
			if err != nil {
				return nil, err
			}
			switch outcome {
			case Allow:
				a.allowed.add(q.operation)
			case Depends:
				a.depends.add(q.operation)
			}
		}
	}
	return a, nil
}

// countOwned corrects the counts for what the subject owns.
func (g *tableGate) countOwned(q *query, h *holder, counts []Count) error {
	as := []uint32{g.table.self[q.subject]}
	for _, o := range g.table.groups {
		if g.owns(q.subject, g.estate.Tree.Owners[o]) {
			as = append(as, o)
		}
	}
	for _, o := range as {
		for _, row := range g.table.owned[o] {
			if err := g.shift(q, h, counts, g.places.spots[row], row, 1, false, true, false); err != nil {
				return err
			}
		}
	}
	return nil
}

// countSlowly asks about every resource.
func (g *tableGate) countSlowly(subject int, counts []Count) error {
	return g.Gate.Answers(g.principal(subject), g.context, g.estate.Tree.All(), func(*estate.Operation) bool { return true }, func(a Answer) bool {
		counts[g.classes.ops.number[a.Operation.Name]].add(a.Outcome, 1)
		return true
	})
}
