package gate

import (
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// Fork gives a gate that answers as this one does and can be asked beside it, on another goroutine. It shares all that
// is compiled and has a memory of its own. Forking itself is not safe beside anything else.
func (g *Gate) Fork() *Gate {
	f := *g
	roster := *g.Roster
	roster.Lists = g.Lists.Fork()
	f.Roster = &roster
	f.space = g.space.Fork()
	f.scratch = f.space.NewContext()
	f.matched, f.given, f.taken, f.used, f.validIn = nil, nil, nil, nil, nil
	f.subjects, f.inRoles = map[int]*CompiledSubject{}, map[decisionKey]region.Region{}
	f.roleSets, f.coverAny, f.learned = lookup.NewSequences(), map[string]bool{}, nil
	f.Places = g.Places.Fork()
	return &f
}
