package auditing

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
)

// plan says which needs are judged where, and when all of it is known that a pile takes.
type plan struct {
	needs []need
	// of each pile, by need; where one is judged in several places, the others stand in further rows
	judged [][][]judgement
	due    [][]uint32              // of each pile, those that can be looked at once it is at hand
	keep   [][]uint32              // of each pile, the operations of which what is told is needed later
	drop   [][]pileOperation       // of each pile, what is not needed any more afterwards
	rows   map[pileJudgement][]int // the resources of piles of which a need is judged in several places, by place
}

// pileJudgement is a judgement of a pile.
type pileJudgement struct {
	pile uint32
	judgement
}

// need is an operation with one that it needs, by numbers of the pair and by name.
type need struct {
	operation, needed uint32
	names             [2]string
}

// judgement is a need of an operation on a pile, and a pile on which it is judged: its own, or one in which some of its
// resources stand.
type judgement struct{ need, above uint32 }

// pileOperation is an operation on a pile.
type pileOperation struct{ pile, operation uint32 }

// newPlan chooses of the cells the operations that need some or are needed, and plans how to go through them.
func newPlan(c *differing.Cells) plan {
	var p plan
	chosen := map[string]bool{}
	for i, name := range c.Names() {
		for _, needed := range c.Estate().Operations[name].Needs {
			n, _ := slices.BinarySearch(c.Names(), needed)
			p.needs = append(p.needs, need{uint32(i), uint32(n), [2]string{name, needed}})
			chosen[name], chosen[needed] = true, true
		}
	}
	c.Choose(func(o *estate.Operation) bool { return chosen[o.Name] }, nil)
	p.climb(c)
	p.order()
	return p
}

// stand is resources of a pile that stand in some of another, and so on.
type stand struct{ pile, above int32 }

// climb finds for each pile where its needs are judged.
func (p *plan) climb(c *differing.Cells) {
	tree, all := c.Estate().Tree, c.All()
	piles := make([]int32, tree.Len())
	for n, pile := range all {
		for row := range pile.Rows(c.Estate()) {
			if row >= 0 {
				piles[row] = int32(n)
			}
		}
	}
	var stands []stand // what is above comes before what stands in it
	known := map[stand]int32{}
	of := make([]int32, tree.Len())
	for i, row := range tree.Rows {
		s := stand{piles[i], -1}
		if row.Parent > 0 {
			s.above = of[row.Parent-1]
		}
		n, ok := known[s]
		if !ok {
			n = int32(len(stands))
			known[s] = n
			stands = append(stands, s)
		}
		of[i] = n
	}
	type validity struct {
		list   []uint32 // the needs of the operations that are valid
		needed []bool   // of each need, whether what is needed is
	}
	classes := map[uint32]*validity{}
	valid := func(pile int32) *validity {
		class := all[pile].Class()
		v := classes[class]
		if v == nil {
			v = &validity{needed: make([]bool, len(p.needs))}
			for i, need := range p.needs {
				if all[pile].Valid(need.operation) {
					v.list = append(v.list, uint32(i))
				}
				v.needed[i] = all[pile].Valid(need.needed)
			}
			classes[class] = v
		}
		return v
	}
	judged := make([][]judgement, len(all))
	each := func(s stand, take func(pileJudgement)) {
		for _, i := range valid(s.pile).list {
			at := s
			for !valid(at.pile).needed[i] && at.above >= 0 {
				at = stands[at.above]
			}
			if valid(at.pile).needed[i] {
				take(pileJudgement{uint32(s.pile), judgement{i, uint32(at.pile)}})
			}
		}
	}
	for _, s := range stands {
		each(s, func(j pileJudgement) { judged[j.pile] = append(judged[j.pile], j.judgement) })
	}
	p.judged = make([][][]judgement, len(all))
	for n, list := range judged {
		slices.SortFunc(list, func(a, b judgement) int {
			if a.need != b.need {
				return int(a.need) - int(b.need)
			}
			return int(a.above) - int(b.above)
		})
		nth := 0
		for k, j := range slices.Compact(list) {
			if nth++; k == 0 || list[k-1].need != j.need {
				nth = 0
			}
			if nth == len(p.judged[n]) {
				p.judged[n] = append(p.judged[n], nil)
			}
			p.judged[n][nth] = append(p.judged[n][nth], j)
		}
	}
	p.rows = map[pileJudgement][]int{}
	for row, pile := range piles {
		if len(p.judged[pile]) > 1 {
			each(stands[of[row]], func(j pileJudgement) { p.rows[j] = append(p.rows[j], row) })
		}
	}
}

// order says when each pile is looked at: when the last of those has come on which its needs are judged.
func (p *plan) order() {
	last := map[pileOperation]uint32{} // until which pile it is needed
	p.due, p.keep = make([][]uint32, len(p.judged)), make([][]uint32, len(p.judged))
	p.drop = make([][]pileOperation, len(p.judged))
	until := func(pile, operation, when uint32) {
		if at := (pileOperation{pile, operation}); pile < when {
			if _, ok := last[at]; !ok {
				p.keep[pile] = append(p.keep[pile], operation)
			}
			last[at] = max(last[at], when)
		}
	}
	for n, rows := range p.judged {
		list := slices.Concat(rows...)
		if len(list) == 0 {
			continue
		}
		when := uint32(n)
		for _, j := range list {
			when = max(when, j.above)
		}
		p.due[when] = append(p.due[when], uint32(n))
		for _, j := range list {
			until(uint32(n), p.needs[j.need].operation, when)
			until(j.above, p.needs[j.need].needed, when)
		}
	}
	for at, when := range last {
		p.drop[when] = append(p.drop[when], at)
	}
}
