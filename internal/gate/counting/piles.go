package counting

import (
	"cmp"
	"slices"

	"hiddengate/internal/gate"
	"hiddengate/internal/gate/placemap"
)

// Pile is listed resources that share a mark, a trait, a class and the values of the tags that conditions ask about.
type Pile struct {
	At    placemap.Spot
	Facts uint32   // the number of the tags' values
	Count uint32   // how many they are
	Row   uint32   // the first of them
	rows  []uint32 // all of them, where some condition asks who owns
}

// Piles are listed resources of an estate, so put together.
type Piles struct {
	List   []Pile     // by mark
	First  []uint32   // of each mark, and of one more, its first pile
	Traits [][]uint32 // of each trait, the piles
	Having [][]uint32 // of each list that traits tell, the traits that have it
	facts  int        // how many values of the tags there are
}

// NewPiles puts resources together. counted says which, by row; nil: all of them.
func NewPiles(g *gate.Gate, counted []bool) *Piles {
	tree := g.Estate().Tree
	numbers := map[string]uint32{}
	facts := g.Facts.Numbers(tree.Tags, numbers)
	type look struct {
		at    placemap.Spot
		facts uint32
	}
	p := &Piles{facts: len(numbers)}
	known := map[look]uint32{}
	var last look
	var lastPile uint32
	for i := range tree.Rows {
		if counted != nil && !counted[i] {
			continue
		}
		key := look{g.Places.Spots[i], facts[tree.Rows[i].Tags]}
		if len(p.List) == 0 || key != last {
			n, ok := known[key]
			if !ok {
				n = uint32(len(p.List))
				known[key] = n
				p.List = append(p.List, Pile{At: key.at, Facts: key.facts, Row: uint32(i)})
			}
			last, lastPile = key, n
		}
		one := &p.List[lastPile]
		if one.Count++; g.Facts.Owner {
			one.rows = append(one.rows, uint32(i))
		}
	}
	slices.SortFunc(p.List, func(a, b Pile) int {
		return cmp.Or(cmp.Compare(a.At.Mark, b.At.Mark), cmp.Compare(a.Row, b.Row))
	})
	marks := len(g.Places.Marks) + 1
	p.First = make([]uint32, marks+1)
	next := 0
	for m := range marks {
		p.First[m] = uint32(next)
		for ; next < len(p.List) && p.List[next].At.Mark == uint32(m); next++ {
			trait := int(p.List[next].At.Trait)
			for len(p.Traits) <= trait {
				p.Traits = append(p.Traits, nil)
			}
			p.Traits[trait] = append(p.Traits[trait], uint32(next))
		}
	}
	p.First[marks] = uint32(next)
	p.Having = make([][]uint32, len(g.Places.Complex))
	for trait := 1; trait < len(p.Traits); trait++ {
		if len(p.Traits[trait]) == 0 {
			continue // none of these has it
		}
		for n := range g.Places.Traits.Lists(uint32(trait)) {
			p.Having[n] = append(p.Having[n], uint32(trait))
		}
	}
	return p
}
