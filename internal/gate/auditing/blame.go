package auditing

import (
	"cmp"
	"iter"
	"math/bits"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// blame finds the grants by which somebody has what is of no use to them: each time the first.
type blame struct {
	cells  *differing.Cells
	most   int
	needs  []need
	grants []givingGrant
	at     [][]uint32 // of each pile, the grants that give something there, by number
	found  map[grantNeed]*shortfall
	left   []leftOf // of each need
	// by who lacks what, and what gives it, the shortfalls
	known   lookup.Sequences
	knownBy [][]*shortfall
	key     []uint32
}

// leftOf is who lacks something on the pile at hand, without those for whom a grant was found.
type leftOf struct {
	short   *lack // nil: nobody does
	gives   []givingHere
	classes differing.ClassSet
	count   int
}

// givingHere is a grant, by number, that gives an operation on the pile at hand, and what it says of that.
type givingHere struct {
	grant uint32
	given *givenNeed
}

// givingGrant is a grant that gives operations that need others.
type givingGrant struct {
	to    *receivers
	gives []givenNeed
}

// givenNeed is a need of an operation that a grant gives, and when it does.
type givenNeed struct {
	need  uint32
	when  region.Region
	asks  bool
	bears bool // it gives what is needed whenever it gives the operation
}

// receivers are the classes to whom a grant goes.
type receivers struct {
	few  []uint32           // in order, where they are few
	many differing.ClassSet // else
}

type grantNeed struct{ grant, need uint32 }

// shortfall is to whom, and where, a grant gives an operation without what it needs.
type shortfall struct {
	to    *receivers
	who   differing.ClassSet // of those; by place among them, where they are few
	rows  []int              // the first of the resources, in order
	count int                // how many they are
}

// begin assigns the grants to the piles that they cover.
func (b *blame) begin(needs []need) error {
	b.needs, b.left = needs, make([]leftOf, len(needs))
	b.forget()
	of := map[string][]uint32{} // of each operation, its needs
	for i, need := range needs {
		of[need.names[0]] = append(of[need.names[0]], uint32(i))
	}
	nobody := b.cells.Numbered(len(b.cells.Gate.All) - 1) // anonymous, to whom nothing is ever lent
	known := map[string]*receivers{}
	covered := map[int][]uint32{}
	b.grants, b.at = make([]givingGrant, len(b.cells.Grants)), make([][]uint32, b.cells.Numbers())
	for n, gr := range b.cells.Grants {
		one := &b.grants[n]
		given := map[string]bool{}
		for _, ref := range gr.Roles {
			for operation := range b.cells.Roles[ref.ID].Operations {
				given[operation] = len(of[operation]) > 0
			}
		}
		for operation, does := range given {
			if !does {
				continue
			}
			when, err := b.cells.GrantRegion(gr, gate.SessionQuery{Subject: nobody, Operation: operation})
			if err != nil {
				return err
			}
			if when == region.Empty {
				continue
			}
			for _, i := range of[operation] {
				needed, err := b.cells.GrantRegion(gr, gate.SessionQuery{Subject: nobody, Operation: needs[i].names[1]})
				if err != nil {
					return err
				}
				bears, err := b.cells.Space().Contains(needed, when)
				one.gives = append(one.gives, givenNeed{need: i, when: when, bears: err == nil && bears,
					asks: b.cells.Space().AsksBelow(when, b.cells.Facts.Fixed)})
			}
		}
		if len(one.gives) == 0 {
			continue
		}
		key := membership.SubjectsKey(gr.To)
		if known[key] == nil {
			known[key] = b.receive(b.cells.ClassesIn(gr.To))
		}
		one.to = known[key]
		if covered[gr.List] == nil {
			covered[gr.List] = b.cells.Covered(gr.List)
		}
		for _, pile := range covered[gr.List] {
			b.at[pile] = append(b.at[pile], uint32(n))
		}
	}
	return nil
}

func (b *blame) receive(classes []uint32) *receivers {
	all := b.cells.NewClassSet()
	if len(classes) <= len(all) {
		return &receivers{few: classes}
	}
	for _, class := range classes {
		all.Add(class)
	}
	return &receivers{many: all}
}

// find finds the grants by which those have the operations on a pile who lack what these need.
func (b *blame) find(pile uint32, on *differing.OnPile, short []shortOf) error {
	if len(short) == 0 {
		return nil
	}
	for _, s := range short {
		b.left[s.need].short = s.lack
	}
	for _, n := range b.at[pile] {
		for k := range b.grants[n].gives {
			given := &b.grants[n].gives[k]
			if left := &b.left[given.need]; left.short != nil {
				left.gives = append(left.gives, givingHere{n, given})
			}
		}
	}
	at := b.cells.All()[pile]
	rows := firstRows(nil, rowsOf(at, b.cells.Estate()), b.most)
	for _, s := range short {
		left := &b.left[s.need]
		by, err := b.by(at, on, left, s)
		if err != nil {
			return err
		}
		for _, one := range by {
			if one.count += at.Len(); s.rows == nil {
				one.rows = firstRows(one.rows, slices.Values(rows), b.most)
				continue
			}
			one.count += len(s.rows) - at.Len()
			one.rows = firstRows(one.rows, slices.Values(s.rows), b.most)
		}
		left.short, left.gives = nil, left.gives[:0]
	}
	return nil
}

// by gives the shortfalls by which somebody lacks something on a pile. Where the same lack it, and the same grants give
// the operation under the same conditions, it is by the same.
func (b *blame) by(pile *differing.Pile, on *differing.OnPile, left *leftOf, s shortOf) ([]*shortfall, error) {
	facts, owned := pile.Asked()
	key := append(b.key[:0], s.need, s.lack.serial, 0)
	for _, g := range left.gives {
		if key = append(key, g.grant); g.given.asks {
			key[2] = facts + 1
		}
	}
	b.key = key
	apart := owned && key[2] > 0 // an owner of its own has other conditions
	var n uint32
	if !apart {
		if n = b.known.Number(key); int(n) < len(b.knownBy) {
			return b.knownBy[n], nil
		}
	}
	if left.classes == nil {
		left.classes = b.cells.NewClassSet()
	}
	copy(left.classes, s.lack.all)
	left.count = s.lack.count
	var out []*shortfall
	for _, g := range left.gives {
		if left.count == 0 {
			break
		}
		from := left.classes
		if g.given.asks {
			var err error
			if from, err = on.Where(uint32(pile.Number()), g.given.when, from); err != nil {
				return nil, err
			}
		}
		if one := b.take(grantNeed{g.grant, s.need}, from, left); one != nil {
			out = append(out, one)
		}
	}
	if !apart {
		if b.knownBy = append(b.knownBy, out); len(b.knownBy) > mostKnown {
			b.forget()
		}
	}
	return out, nil
}

// forget lets go of what is remembered; the first number is that of nothing.
func (b *blame) forget() { b.known, b.knownBy = *lookup.NewSequences(), make([][]*shortfall, 1) }

// mostKnown bounds how often it is remembered who was found: some tens of megabytes.
const mostKnown = 1 << 17

// take takes down who of some classes has what is of no use by a grant, and takes them out of those that are left; nil
// where nobody has.
func (b *blame) take(at grantNeed, from differing.ClassSet, left *leftOf) *shortfall {
	to, one, found := b.grants[at.grant].to, b.found[at], 0
	begin := func() {
		if found == 0 && one == nil {
			one = &shortfall{to: to, who: make(differing.ClassSet, to.words())}
			b.found[at] = one
		}
		found++
	}
	if to.many != nil {
		for i, w := range to.many {
			w &= from[i]
			if w == 0 {
				continue
			}
			begin()
			found += bits.OnesCount64(w) - 1
			left.classes[i] &^= w
			one.who[i] |= w
		}
	}
	for i, class := range to.few {
		if from.Has(class) {
			begin()
			left.classes.Drop(class)
			one.who.Add(uint32(i))
		}
	}
	if left.count -= found; found == 0 {
		return nil
	}
	return one
}

// words is how many words a set of the receivers has.
func (r *receivers) words() int {
	if r.many != nil {
		return len(r.many)
	}
	return (len(r.few) + 63) / 64
}

// classes gives those of a shortfall, in order.
func (s *shortfall) classes() iter.Seq[uint32] {
	if s.to.many != nil {
		return s.who.All()
	}
	return func(yield func(uint32) bool) {
		for i := range s.who.All() {
			if !yield(s.to.few[i]) {
				return
			}
		}
	}
}

// tell lists what was found by grant, operation and need.
func (b *blame) tell() []Lack {
	out := make([]Lack, 0, len(b.found))
	for k, found := range b.found {
		names := b.needs[k.need].names
		one := Lack{Grant: b.cells.Grants[k.grant].ID, Operation: names[0], Need: names[1], Count: found.count}
		classes := 0
		for class := range found.classes() {
			members := b.cells.Class(class)
			one.Number += len(members)
			// classes come by the first in each, so that the first of all are in the first few
			if classes++; classes <= b.most {
				one.Subjects = append(one.Subjects, members[:min(len(members), b.most)]...)
			}
		}
		slices.SortFunc(one.Subjects, estate.Principal.Compare)
		one.Subjects = one.Subjects[:min(len(one.Subjects), b.most)]
		for _, row := range found.rows {
			one.Places = append(one.Places, b.cells.Estate().Tree.Address(row))
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b Lack) int {
		return cmp.Or(strings.Compare(a.Grant, b.Grant), strings.Compare(a.Operation, b.Operation),
			strings.Compare(a.Need, b.Need))
	})
	return out
}
