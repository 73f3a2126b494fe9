package placemap

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
)

// Extended gives a map that tells places apart by more lists, and by more addresses that are marks, too. What is known
// of each listed resource is taken over: only the new lists are looked for in the inventories. The lists keep their
// numbers.
func (p *Map) Extended(lists []estate.Resources, marks []estate.Address) *Map {
	e := p.Estate
	x, _ := TakeApart(e, slices.Concat(p.sources, lists), slices.AppendSeq(slices.Clone(marks), maps.Keys(p.Marks)))
	x.Spots = make([]Spot, len(p.Spots))
	x.locate(func(row int, mark uint32) { x.Spots[row].Mark = mark })
	x.inherit(p.Traits.Classes)
	x.Traits.init(x, p.Traits.Classes)
	x.Traits.extend(x, p)
	return x
}

// extend takes over the traits of a map that knows the first of the lists, and finds which resources the others cover.
func (t *Traits) extend(x, known *Map) {
	more := t.Complex[len(known.Complex):]
	if len(more) == 0 {
		t.take(slices.Clip(known.Bits))
		for row := range x.Spots {
			x.Spots[row].Trait = known.Spots[row].Trait
		}
		return
	}
	beside, _ := New(t.Estate, more, nil, t.Classes)
	type both struct {
		trait uint32
		at    Spot
	}
	numbers := map[both]uint32{}
	for row := range x.Spots {
		key := both{known.Spots[row].Trait, beside.Spots[row]}
		key.at.Class = 0
		n, ok := numbers[key]
		if !ok {
			n = t.numberOf(t.joined(known, key.trait, beside, key.at))
			numbers[key] = n
		}
		x.Spots[row].Trait = n
	}
}

// joined gives the bits of a trait of another map, with those of the lists beside it that cover a spot.
func (t *Traits) joined(known *Map, trait uint32, beside *Map, at Spot) []uint64 {
	bits := make([]uint64, t.words)
	copy(bits, known.Bits[int(trait)*known.words:(int(trait)+1)*known.words])
	for i := range beside.Lists {
		if n := len(known.Complex) + i; beside.Covers(i, at) {
			bits[n/64] |= 1 << (n % 64)
		}
	}
	return bits
}
