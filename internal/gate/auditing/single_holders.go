// Package auditing looks for what is of no use or too little in what grants and blocks come to: operations without one
// that they need, grants that others or blocks make needless, and what one person alone may do.
package auditing

import (
	"encoding/binary"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// SingleHolder is one person who alone may do an operation on some resources.
type SingleHolder struct {
	Who       estate.Principal
	Operation string
	Resources []string // some of them, in tree order
	Count     int      // how many there are
}

// headcounts counts, for a few operations, how many people may do them on each pile, and adds their numbers up: where
// there is one, the sum is that person's.
type headcounts struct {
	*gate.Gate
	piles  *counting.Piles
	ops    []uint32
	chosen opset.Set
	since  region.Region
	steps  [][]tally // by operation and pile: what begins there, and holds for all that follow
	points [][]tally // by operation and pile
	// personal counts, likewise, in how many steps somebody may it under a condition about the resource or the subject; on
	// single piles marked does.
	personal [][]int32
	marked   [][]bool
	covers   map[inForce[uint32]]coverGives
	active   region.Region                    // of those who are being counted
	sets     map[inForce[string]][2]opset.Set // what units give, by their numbers
	key      []byte
}

// coverGives is which of the operations, by their place among those counted, a cover coverGives, and which
// under a condition about subject or resource.
type coverGives struct {
	sure, personal []int
	set            opset.Set
}

// alike is people of one class who are active at the same times.
type alike struct {
	class  uint32
	active region.Region
}

// inForce is a cover, or units by their numbers, within the time in which somebody is active.
type inForce[T comparable] struct {
	what   T
	active region.Region
}

type tally struct {
	count int32
	sum   int64
}

// SingleHolders tells which of the operations one person alone may do somewhere, by standing grants, at some time from
// since on. Nothing is said of places where a condition asks about the subject or the resource. It costs what the rows
// weigh.
func SingleHolders(g *gate.Gate, since clock.Instant, selects func(*estate.Operation) bool) []SingleHolder {
	c := &headcounts{Gate: g, piles: counting.NewPiles(g, nil), chosen: g.Classes.Ops.NewSet(),
		since: g.Space().Between(since, clock.End), covers: map[inForce[uint32]]coverGives{},
		sets: map[inForce[string]][2]opset.Set{}}
	for i, o := range g.Classes.Ops.List {
		if selects(o) {
			c.ops = append(c.ops, uint32(i))
			c.chosen.Add(uint32(i))
			c.steps = append(c.steps, make([]tally, len(c.piles.List)+1))
			c.points = append(c.points, make([]tally, len(c.piles.List)))
			c.personal = append(c.personal, make([]int32, len(c.piles.List)+1))
			c.marked = append(c.marked, make([]bool, len(c.piles.List)))
		}
	}
	people := map[alike]tally{}
	for n, s := range g.All {
		if s.Service || n == len(g.All)-1 || !c.meets(region.Region(g.Rows.RowOf[n].Active)) {
			continue
		}
		key := alike{g.ClassOf[n], region.Region(g.Rows.RowOf[n].Active)}
		t := people[key]
		people[key] = tally{t.count + 1, t.sum + int64(n)}
	}
	row := map[uint32]int{} // of each class, somebody
	for n := range g.All {
		row[g.ClassOf[n]] = n
	}
	for key, t := range people {
		c.active = key.active
		c.add(&g.Rows.RowOf[row[key.class]], t)
	}
	return c.tell()
}

func (c *headcounts) meets(regions ...region.Region) bool {
	both, err := c.Space().And(append(regions, c.since)...)
	return err == nil && both != region.Empty
}

// cover works out which of the operations a cover gives, and which under conditions about subject or resource.
func (c *headcounts) cover(n uint32) coverGives {
	at := inForce[uint32]{n, c.active}
	out, ok := c.covers[at]
	if !ok {
		var one [1]uint32
		given, asks := c.of(c.Rows.Cover(n, &one))
		out.set = given
		for k, op := range c.ops {
			if given.Has(op) {
				out.sure = append(out.sure, k)
			}
			if asks.Has(op) {
				out.personal = append(out.personal, k)
			}
		}
		c.covers[at] = out
	}
	return out
}

// of works out which of the operations units give.
func (c *headcounts) of(units []uint32) (given, asks opset.Set) {
	given, asks = c.Classes.Ops.NewSet(), c.Classes.Ops.NewSet()
	for _, op := range c.ops {
		var all, blocked []region.Region
		personal := false
		for _, u := range units {
			if !c.Units.Has(u, op) {
				continue
			}
			one := &c.Units.List[u]
			switch about := c.Space().AsksBelow(one.Region, c.Facts.Fixed); {
			case about: // who is meant hangs on the subject and the resource, of a block too
				personal = true
			case one.Block:
				blocked = append(blocked, one.Region)
			default:
				all = append(all, one.Region)
			}
		}
		if left, err := c.Space().Left(all, blocked, c.active); err == nil && c.meets(left) {
			given.Add(op)
		}
		if personal {
			asks.Add(op)
		}
	}
	return given, asks
}

// add counts the people of a class.
func (c *headcounts) add(h *unitrow.Holder, t tally) {
	for s := range c.Rows.Stretches(h, uint32(len(c.piles.First)-1)) {
		from, to := c.piles.First[s.From], c.piles.First[s.To]
		cover := c.cover(s.Cover)
		for _, k := range cover.sure {
			c.steps[k][from].count += t.count
			c.steps[k][from].sum += t.sum
			c.steps[k][to].count -= t.count
			c.steps[k][to].sum -= t.sum
		}
		for _, k := range cover.personal {
			c.personal[k][from]++
			c.personal[k][to]--
		}
	}
	seen := map[uint32]bool{}
	for _, e := range c.Rows.Extras[h.Extra : h.Extra+h.Extras] {
		for _, trait := range c.piles.Having[e.Trait] {
			for _, n := range c.piles.Traits[trait] {
				if !seen[n] {
					seen[n] = true
					c.correct(h, n, t)
				}
			}
		}
	}
}

// correct counts the people anew on a pile on which more is in force than the row says.
func (c *headcounts) correct(h *unitrow.Holder, n uint32, t tally) {
	at := c.piles.List[n].At
	var one [1]uint32
	cover := c.Rows.At(h, at.Mark)
	units := slices.Clone(c.Rows.Cover(cover, &one))
	for _, e := range c.Rows.Extras[h.Extra : h.Extra+h.Extras] {
		if c.Places.Traits.Has(at.Trait, int(e.Trait)) {
			units = append(units, e.Unit)
		}
	}
	c.key = c.key[:0]
	for _, u := range units {
		c.key = binary.LittleEndian.AppendUint32(c.key, u)
	}
	force := inForce[string]{string(c.key), c.active}
	both, known := c.sets[force]
	if !known {
		both[0], both[1] = c.of(units)
		c.sets[force] = both
	}
	given, asks := both[0], both[1]
	row := c.cover(cover).set
	if slices.Equal(given, row) && !slices.ContainsFunc(asks, func(w uint64) bool { return w != 0 }) {
		return // no more and no less than the row says
	}
	for k, op := range c.ops {
		switch {
		case given.Has(op) && !row.Has(op):
			c.points[k][n].count += t.count
			c.points[k][n].sum += t.sum
		case !given.Has(op) && row.Has(op):
			c.points[k][n].count -= t.count
			c.points[k][n].sum -= t.sum
		}
		c.marked[k][n] = c.marked[k][n] || asks.Has(op)
	}
}

func (c *headcounts) tell() []SingleHolder {
	type key struct {
		who int64
		op  uint32
	}
	rows := map[key][]int{}
	for k, op := range c.ops {
		var now tally
		personal := int32(0)
		for n, pile := range c.piles.List {
			now.count += c.steps[k][n].count
			now.sum += c.steps[k][n].sum
			personal += c.personal[k][n]
			all := tally{now.count + c.points[k][n].count, now.sum + c.points[k][n].sum}
			if all.count == 1 && personal == 0 && !c.marked[k][n] && c.Classes.Valid[pile.At.Class].Has(op) {
				rows[key{all.sum, op}] = append(rows[key{all.sum, op}], n)
			}
		}
	}
	var out []SingleHolder
	for at, piles := range rows {
		one := SingleHolder{Who: c.SubjectOf(int(at.who)), Operation: c.Classes.Ops.List[at.op].Name}
		var first []int
		for _, n := range piles {
			one.Count += int(c.piles.List[n].Count)
			first = append(first, int(c.piles.List[n].Row))
		}
		slices.Sort(first)
		for _, row := range first[:min(len(first), 8)] {
			one.Resources = append(one.Resources, c.Estate().Tree.Address(row))
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b SingleHolder) int {
		if a.Who != b.Who {
			return strings.Compare(a.Who.String(), b.Who.String())
		}
		return strings.Compare(a.Operation, b.Operation)
	})
	return out
}
