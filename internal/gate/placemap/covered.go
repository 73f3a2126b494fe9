package placemap

import (
	"iter"
	"math/bits"
	"slices"
)

// spotIndex finds the spots that lists cover without holding each spot against each list. Spots are numbered as in
// Groups.
type spotIndex struct {
	byMark  []uint32   // the spots by their marks
	ofTrait [][]uint32 // of each trait, the spots that have it
	having  [][]uint32 // of each list that traits tell, the traits
}

func (p *Map) newSpotIndex() *spotIndex {
	spots := p.Groups().Spots
	traits := 1
	for _, s := range spots {
		traits = max(traits, int(s.Trait)+1)
	}
	c := &spotIndex{byMark: make([]uint32, len(spots)), ofTrait: make([][]uint32, traits),
		having: make([][]uint32, len(p.Complex))}
	for i, s := range spots {
		c.byMark[i] = uint32(i)
		c.ofTrait[s.Trait] = append(c.ofTrait[s.Trait], uint32(i))
	}
	slices.SortStableFunc(c.byMark, func(a, b uint32) int { return int(spots[a].Mark) - int(spots[b].Mark) })
	for trait := range traits {
		for list := range p.Traits.Lists(uint32(trait)) {
			c.having[list] = append(c.having[list], uint32(trait))
		}
	}
	return c
}

// Covered gives the spots of listed resources that a list covers, by the list's number and by theirs among Groups, each
// once.
func (p *Map) Covered(n int) iter.Seq[int] {
	return func(yield func(int) bool) {
		if p.index == nil {
			p.index = p.newSpotIndex()
		}
		c, spots, l := p.index, p.Groups().Spots, &p.Lists[n]
		for _, span := range l.Spans {
			from, _ := slices.BinarySearchFunc(c.byMark, span.From, func(i, mark uint32) int {
				return int(spots[i].Mark) - int(mark)
			})
			for _, i := range c.byMark[from:] {
				if spots[i].Mark >= span.To {
					break
				}
				if !yield(int(i)) {
					return
				}
			}
		}
		if l.Trait < 0 {
			return
		}
		for _, trait := range c.having[l.Trait] {
			for _, i := range c.ofTrait[trait] {
				if !within(l.Spans, spots[i].Mark) && !yield(int(i)) {
					return
				}
			}
		}
	}
}

// CoveredByAny tells of a spot whether one of some lists, by number, covers it.
func (p *Map) CoveredByAny(lists []int) func(Spot) bool {
	marks, held, seen := make([]bool, len(p.Marks)+2), make([]bool, len(p.Complex)), make([]bool, len(p.Lists))
	for _, n := range lists {
		if seen[n] {
			continue
		}
		seen[n] = true
		for _, span := range p.Lists[n].Spans {
			for m := span.From; m < span.To; m++ {
				marks[m] = true
			}
		}
		if trait := p.Lists[n].Trait; trait >= 0 {
			held[trait] = true
		}
	}
	const yes, no = 1, 2
	var covered []uint8 // of each trait, whether such a list has it, once it is known
	return func(at Spot) bool {
		if marks[at.Mark] {
			return true
		}
		if more := int(at.Trait) + 1 - len(covered); more > 0 {
			covered = append(covered, make([]uint8, more)...)
		}
		if covered[at.Trait] == 0 {
			covered[at.Trait] = no
			for list := range p.Traits.Lists(at.Trait) {
				if held[list] {
					covered[at.Trait] = yes
				}
			}
		}
		return covered[at.Trait] == yes
	}
}

// RowsOf gives the listed resources that a list covers, by the list's number and by their rows, in order. It costs what
// they are, and of many what going through a bit for each listed resource does.
func (p *Map) RowsOf(n int) iter.Seq[int] {
	return func(yield func(int) bool) {
		groups, count := p.Groups(), 0
		for spot := range p.Covered(n) {
			count += len(groups.Rows(spot))
		}
		if count > max(fewRows, len(p.Spots)/64) {
			p.manyRowsOf(n, yield)
			return
		}
		rows := make([]int32, 0, count)
		for spot := range p.Covered(n) {
			rows = append(rows, groups.Rows(spot)...)
		}
		slices.Sort(rows)
		for _, row := range rows {
			if !yield(int(row)) {
				return
			}
		}
	}
}

// fewRows is how many rows are sorted at the least, however few there are in all.
const fewRows = 4

// manyRowsOf is RowsOf, without sorting.
func (p *Map) manyRowsOf(n int, yield func(int) bool) {
	is := make([]uint64, (len(p.Spots)+63)/64)
	for spot := range p.Covered(n) {
		for _, row := range p.Groups().Rows(spot) {
			is[row/64] |= 1 << (row % 64)
		}
	}
	for i, word := range is {
		for ; word != 0; word &= word - 1 {
			if !yield(64*i + bits.TrailingZeros64(word)) {
				return
			}
		}
	}
}

// within says whether a mark lies in one of some spans, which are in order.
func within(spans []Span, mark uint32) bool {
	for _, s := range spans {
		if mark < s.To {
			return mark >= s.From
		}
	}
	return false
}
