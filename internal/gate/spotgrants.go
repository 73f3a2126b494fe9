package gate

import (
	"cmp"
	"slices"

	"hiddengate/internal/gate/placemap"
)

// spotGrants finds those of a subject's grants whose lists cover a spot, without a look at all of them for each.
type spotGrants struct {
	byList map[int][]*CompiledGrant // those with a list that traits tell, by its bit
	spans  []*CompiledGrant         // those with spans
	byMark map[uint32][]*CompiledGrant
}

// mostMarks bounds for how many marks what covers them is remembered.
const mostMarks = 4096

// grantsAt lists a subject's grants whose lists cover a spot, by number.
func (g *Gate) grantsAt(s *CompiledSubject, at placemap.Spot) []*CompiledGrant {
	if s.at == nil {
		s.at = &spotGrants{byList: map[int][]*CompiledGrant{}, byMark: map[uint32][]*CompiledGrant{}}
		for _, gr := range s.Grants {
			list := &g.Places.Lists[gr.List]
			if list.Trait >= 0 {
				s.at.byList[list.Trait] = append(s.at.byList[list.Trait], gr)
			}
			if len(list.Spans) > 0 {
				s.at.spans = append(s.at.spans, gr)
			}
		}
	}
	marked, ok := s.at.byMark[at.Mark]
	if !ok {
		bare := placemap.Spot{Mark: at.Mark}
		for _, gr := range s.at.spans {
			if g.Places.Covers(gr.List, bare) {
				marked = append(marked, gr)
			}
		}
		if len(s.at.byMark) >= mostMarks {
			clear(s.at.byMark)
		}
		s.at.byMark[at.Mark] = marked
	}
	if len(s.at.byList) == 0 || at.Trait == 0 {
		return marked
	}
	out := slices.Clone(marked)
	for list := range g.Places.Traits.Lists(at.Trait) {
		out = append(out, s.at.byList[list]...)
	}
	slices.SortFunc(out, func(a, b *CompiledGrant) int { return cmp.Compare(a.Number, b.Number) })
	return slices.Compact(out)
}
