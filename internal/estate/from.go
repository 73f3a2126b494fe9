package estate

import (
	"slices"

	"hiddengate/internal/clock"
)

// From gives the estate as it decides from an instant on: what is over by then is left out, and what has begun has no
// start. The rest is shared with e.
func (e *Estate) From(at clock.Instant) *Estate {
	out := *e
	over := func(m *Moment) bool { return m != nil && m.OverAt(e.Zone, at) }
	begun := func(m *Moment) *Moment {
		if m == nil || m.BegunAt(e.Zone, at) {
			return nil
		}
		return m
	}
	out.Grants, out.Blocks, out.Roles, out.People, out.Services = map[string]*Grant{}, map[string]*Block{},
		map[string]*Role{}, map[string]*Subject{}, map[string]*Subject{}
	for id, g := range e.Grants {
		if !over(g.Ends) {
			one := *g
			one.Starts = begun(g.Starts)
			out.Grants[id] = &one
		}
	}
	for id, b := range e.Blocks {
		if !over(b.Ends) {
			one := *b
			one.Starts = begun(b.Starts)
			out.Blocks[id] = &one
		}
	}
	for id, r := range e.Roles {
		one := *r
		if one.Starts = begun(r.Starts); over(r.Ends) {
			one.Include, one.Allow = nil, nil
		}
		out.Roles[id] = &one
	}
	for to, section := range map[*map[string]*Subject]map[string]*Subject{&out.People: e.People,
		&out.Services: e.Services} {
		for id, s := range section {
			one := *s
			if one.Starts = begun(s.Starts); over(s.Ends) {
				one.Status, one.Starts, one.Ends = Statuses[3], nil, nil
			}
			one.Away = slices.DeleteFunc(slices.Clone(s.Away), func(a Absence) bool { return over(a.Ends) })
			(*to)[id] = &one
		}
	}
	return &out
}
