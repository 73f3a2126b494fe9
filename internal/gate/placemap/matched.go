package placemap

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/lookup"
)

// Matched counts for each of some patterns how many listed resources it matches to the end, in one walk over the tree.
func Matched(e *estate.Estate, patterns []estate.Pattern) []int {
	out := make([]int, len(patterns))
	if len(patterns) == 0 {
		return out
	}
	s := selection{estate: e, patterns: patterns, states: make([]uint32, e.Tree.Len()),
		machines: make([]*Automaton, len(e.Tree.Systems)), sets: lookup.NewSequences()}
	met := map[uint32]int{} // by set of patterns
	for i := range e.Tree.Len() {
		met[s.machine(e.Tree.Rows[i].System).States[s.state(i)].set]++
	}
	for set, n := range met {
		for _, p := range s.sets.Get(set) {
			if p&here != 0 {
				out[p&^here] += n
			}
		}
	}
	return out
}
