package placemap

import (
	"sync"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
)

// Known is what a map takes long to work out. The spots may stand where nobody can write.
type Known struct {
	Spots []Spot   // of every listed resource
	Bits  []uint64 // of the traits
	Which []uint32 // of each list of which the map is made, which of the different ones it is, as they come
	Trait []int32  // of each different list, the number of what traits tell of it, as they come; -1: nothing
}

// Known gives what is known of a map that is made of these lists alone.
func (p *Map) Known(which []int) Known {
	k := Known{Spots: p.Spots, Bits: p.Bits, Which: make([]uint32, len(which)), Trait: make([]int32, len(p.Lists))}
	for i, n := range which {
		k.Which[i] = uint32(n)
	}
	for i, l := range p.Lists {
		k.Trait[i] = int32(l.Trait)
	}
	return k
}

// Take is New where that is known; ok is false if it is of other lists.
func Take(e *estate.Estate, all []estate.Resources, classes *opset.Classes, k Known) (p *Map, which []int, ok bool) {
	p = &Map{Traits: Traits{Estate: e}, Marks: map[estate.Address]uint32{}, Spots: k.Spots}
	which = make([]int, len(all))
	if ok = len(k.Which) == len(all); !ok {
		return nil, nil, false
	}
	for i, l := range all {
		n := int(k.Which[i])
		if which[i] = n; n == len(p.sources) {
			p.sources = append(p.sources, l)
		}
		ok = ok && n < len(p.sources)
	}
	if ok = ok && len(k.Trait) == len(p.sources); !ok {
		return nil, nil, false
	}
	p.splitAll(nil, func(i int, _ estate.Resources) int {
		ok = ok && k.Trait[i] >= 0 && int(k.Trait[i]) <= len(p.Complex)
		return int(k.Trait[i])
	})
	p.texts = sync.OnceValue(p.say)
	p.remember(all, which)
	p.locate(func(row int, mark uint32) { ok = ok && k.Spots[row].Mark == mark })
	p.Traits.init(p, classes)
	p.Traits.Bits = k.Bits
	return p, which, ok
}

// say works out what the lists say.
func (p *Map) say() *listTexts {
	out := &listTexts{numbers: make(map[string]int, len(p.sources)), texts: make([]string, len(p.sources))}
	for i, l := range p.sources {
		out.texts[i] = ResourcesKey(l)
		out.numbers[out.texts[i]] = i
	}
	for _, l := range p.Complex {
		out.complex = append(out.complex, ResourcesKey(l))
	}
	return out
}
