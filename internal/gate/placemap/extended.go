package placemap

import (
	"fmt"
	"maps"
	"slices"

	"hiddengate/internal/estate"
)

// Knowing gives a map that tells places apart by some lists and marks too: this one, if it does. The last one is kept.
func (p *Map) Knowing(lists []estate.Resources, marks []estate.Address) *Map {
	lists = slices.DeleteFunc(slices.Clone(lists), p.Knows)
	marks = slices.DeleteFunc(slices.Clone(marks), func(a estate.Address) bool {
		_, is := p.Marks[a]
		return is
	})
	if len(lists)+len(marks) == 0 {
		return p
	}
	key := fmt.Sprint(marks)
	for _, l := range lists {
		key += "\x00" + ResourcesKey(l)
	}
	if p.knowing == nil || p.knowingOf != key {
		p.knowing, p.knowingOf = p.Extended(lists, marks), key
	}
	return p.knowing
}

// Extended gives a map that tells places apart by more lists, and by more addresses that are marks, too. The lists keep
// their numbers.
func (p *Map) Extended(lists []estate.Resources, marks []estate.Address) *Map {
	x, _ := p.For(p.Estate, slices.Concat(p.sources, lists), slices.AppendSeq(slices.Clone(marks), maps.Keys(p.Marks)))
	return x
}

// For gives the map of other lists, as New does, for an estate with the same systems, kinds and scopes. What is known
// of each listed resource is taken over: only lists that are not known are looked for in the inventories.
func (p *Map) For(e *estate.Estate, lists []estate.Resources, marks []estate.Address) (x *Map, which []int) {
	x, which = takeApart(e, lists, marks, p.keyOf)
	x.Spots = make([]Spot, len(p.Spots))
	x.locate(func(row int, mark uint32) { x.Spots[row].Mark = mark })
	x.inherit(p.Traits.Classes)
	x.Traits.init(x, p.Traits.Classes)
	x.Traits.takeOver(x, p)
	return x, which
}

// takeOver finds every listed resource's trait by the traits of a map that is known.
func (t *Traits) takeOver(x, known *Map) {
	to := make([]int, len(known.Complex)) // of each list that is known, which it is here; -1: none
	for i := range to {
		to[i] = -1
	}
	before := map[string]int{}
	for i, key := range known.texts().complex {
		before[key] = i
	}
	same := len(t.Complex) == len(known.Complex) // and so far they are the same, with the numbers that they had
	var more []estate.Resources
	var bits []int // of those
	for i, l := range t.Complex {
		if n, is := before[x.texts().complex[i]]; is {
			to[n] = i
			same = same && n == i
		} else {
			more, bits, same = append(more, l), append(bits, i), false
		}
	}
	if same {
		t.Bits = known.Bits[:len(known.Bits):len(known.Bits)]
		for row := range x.Spots {
			x.Spots[row].Trait = known.Spots[row].Trait
		}
		return
	}
	beside := &Map{Spots: make([]Spot, len(x.Spots))}
	if len(more) > 0 {
		beside, _ = New(t.Estate, more, nil, t.Classes)
	}
	type both struct {
		trait uint32
		at    Spot
	}
	numbers := map[both]uint32{}
	var last both
	var lastNumber uint32
	for row := range x.Spots {
		key := both{known.Spots[row].Trait, beside.Spots[row]}
		key.at.Class = 0
		if row > 0 && key == last {
			x.Spots[row].Trait = lastNumber
			continue
		}
		n, ok := numbers[key]
		if !ok {
			covering := make([]uint64, t.words)
			add := func(list int) { covering[list/64] |= 1 << (list % 64) }
			for list := range known.Traits.Lists(key.trait) {
				if to[list] >= 0 {
					add(to[list])
				}
			}
			for i, list := range bits {
				if beside.Covers(i, key.at) {
					add(list)
				}
			}
			n = t.numberOf(covering)
			numbers[key] = n
		}
		last, lastNumber = key, n
		x.Spots[row].Trait = n
	}
}
