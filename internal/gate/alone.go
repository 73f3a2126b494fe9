package gate

import (
	"encoding/binary"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// Alone is one person who alone may do an operation on some resources.
type Alone struct {
	Who       estate.Principal
	Operation string
	Resources []string // some of them, in tree order
	Count     int      // how many there are
}

// counting counts, for a few operations, how many people may do them on each pile, and adds their numbers up: where
// there is one, the sum is that person's.
type counting struct {
	*Gate
	table  *Table
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

// Alone tells which of the operations one person alone may do somewhere, by standing grants, at some time from since
// on. Nothing is said of places where a condition asks about the subject or the resource. It costs what the rows weigh.
func (g *Gate) Alone(since clock.Instant, selects func(*estate.Operation) bool) []Alone {
	c := &counting{Gate: g, table: g.Table(g.NewContext()), chosen: g.classes.Ops.NewSet(),
		since: g.space.Between(since, maxInstant), covers: map[inForce[uint32]]coverGives{},
		sets: map[inForce[string]][2]opset.Set{}}
	for i, o := range g.classes.Ops.List {
		if selects(o) {
			c.ops = append(c.ops, uint32(i))
			c.chosen.Add(uint32(i))
			c.steps = append(c.steps, make([]tally, len(c.table.piles)+1))
			c.points = append(c.points, make([]tally, len(c.table.piles)))
			c.personal = append(c.personal, make([]int32, len(c.table.piles)+1))
			c.marked = append(c.marked, make([]bool, len(c.table.piles)))
		}
	}
	people := map[alike]tally{}
	for n, s := range g.All {
		if s.Service || n == len(g.All)-1 || !c.meets(region.Region(g.rows.RowOf[n].Active)) {
			continue
		}
		key := alike{g.class[n], region.Region(g.rows.RowOf[n].Active)}
		t := people[key]
		people[key] = tally{t.count + 1, t.sum + int64(n)}
	}
	row := map[uint32]int{} // of each class, somebody
	for n := range g.All {
		row[g.class[n]] = n
	}
	for key, t := range people {
		c.active = key.active
		c.add(&g.rows.RowOf[row[key.class]], t)
	}
	return c.tell()
}

func (c *counting) meets(regions ...region.Region) bool {
	both, err := c.space.And(append(regions, c.since)...)
	return err == nil && both != region.Empty
}

// cover works out which of the operations a cover gives, and which under conditions about subject or resource.
func (c *counting) cover(n uint32) coverGives {
	at := inForce[uint32]{n, c.active}
	out, ok := c.covers[at]
	if !ok {
		var one [1]uint32
		given, asks := c.of(c.rows.Cover(n, &one))
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
func (c *counting) of(units []uint32) (given, asks opset.Set) {
	given, asks = c.classes.Ops.NewSet(), c.classes.Ops.NewSet()
	for _, op := range c.ops {
		all, blocked, personal := region.Empty, region.Empty, false
		for _, u := range units {
			if !c.units.Has(u, op) {
				continue
			}
			one := &c.units.List[u]
			switch about := c.space.AsksBelow(one.Region, c.facts.Fixed); {
			case about: // who is meant hangs on the subject and the resource, of a block too
				personal = true
			case one.Block:
				blocked, _ = c.space.Or(blocked, one.Region)
			default:
				all, _ = c.space.Or(all, one.Region)
			}
		}
		if all != region.Empty {
			if rest, err := c.space.Minus(all, blocked); err == nil && c.meets(rest, c.active) {
				given.Add(op)
			}
		}
		if personal {
			asks.Add(op)
		}
	}
	return given, asks
}

// add counts the people of a class.
func (c *counting) add(h *unitrow.Holder, t tally) {
	steps := c.rows.Steps[h.Row : h.Row+h.Steps]
	for i, s := range steps {
		end := uint32(len(c.table.first) - 1)
		if i+1 < len(steps) {
			end = steps[i+1].Mark
		}
		from, to := c.table.first[s.Mark], c.table.first[end]
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
	for _, e := range c.rows.Extras[h.Extra : h.Extra+h.Extras] {
		for _, trait := range c.table.having[e.Trait] {
			for _, n := range c.table.traits[trait] {
				if !seen[n] {
					seen[n] = true
					c.correct(h, n, t)
				}
			}
		}
	}
}

// correct counts the people anew on a pile on which more is in force than the row says.
func (c *counting) correct(h *unitrow.Holder, n uint32, t tally) {
	at := c.table.piles[n].at
	var one [1]uint32
	cover := c.rows.At(h, at.Mark)
	units := slices.Clone(c.rows.Cover(cover, &one))
	for _, e := range c.rows.Extras[h.Extra : h.Extra+h.Extras] {
		if c.places.Traits.Has(at.Trait, int(e.Trait)) {
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

func (c *counting) tell() []Alone {
	type key struct {
		who int64
		op  uint32
	}
	rows := map[key][]int{}
	for k, op := range c.ops {
		var now tally
		personal := int32(0)
		for n, pile := range c.table.piles {
			now.count += c.steps[k][n].count
			now.sum += c.steps[k][n].sum
			personal += c.personal[k][n]
			all := tally{now.count + c.points[k][n].count, now.sum + c.points[k][n].sum}
			if all.count == 1 && personal == 0 && !c.marked[k][n] && c.classes.Valid[pile.at.Class].Has(op) {
				rows[key{all.sum, op}] = append(rows[key{all.sum, op}], n)
			}
		}
	}
	var out []Alone
	for at, piles := range rows {
		one := Alone{Who: c.SubjectOf(int(at.who)), Operation: c.classes.Ops.List[at.op].Name}
		var first []int
		for _, n := range piles {
			one.Count += int(c.table.piles[n].count)
			first = append(first, int(c.table.piles[n].row))
		}
		slices.Sort(first)
		for _, row := range first[:min(len(first), 8)] {
			one.Resources = append(one.Resources, c.estate.Tree.Address(row))
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b Alone) int {
		if a.Who != b.Who {
			return strings.Compare(a.Who.String(), b.Who.String())
		}
		return strings.Compare(a.Operation, b.Operation)
	})
	return out
}
