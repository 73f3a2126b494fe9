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
	f.matched = nil
	f.subjects, f.inRoles = map[int]*subject{}, map[decisionKey]region.Region{}
	f.roleSets, f.coverAny = lookup.NewSequences(), map[string]bool{}
	f.places = g.places.Fork()
	return &f
}

// In gives the same context for a gate that is a fork of the one it was made for, or that was forked from the same.
func (c *Context) In(g *Gate) *Context {
	d := g.NewContext()
	d.region.CopyFrom(c.region)
	d.Roles = c.Roles
	return d
}
