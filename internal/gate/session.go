package gate

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// maxSessions bounds how many possible sessions are judged for one request.
const maxSessions = 4096

// Session is a possible session: its roles, nil for all, and the time in which it is possible.
type Session struct {
	Roles []string
	When  region.Region
}

// Has says that a session has a role, if the subject holds it then.
func (s Session) Has(role string) bool { return s.Roles == nil || slices.Contains(s.Roles, role) }

// oneSession is the session with all roles, at any time.
var oneSession = []Session{{nil, region.Full}}

// PossibleSessions gives the sessions that may be that name some roles, or none, within what a request says, nil if it
// says nothing. At each moment some are possible: of those at the moment of a request, When is Full.
func (g *Gate) PossibleSessions(s *CompiledSubject, named []string, said *region.Context) ([]Session, error) {
	if len(named) > 0 {
		return []Session{{named, region.Full}}, g.checkNamed(s, named)
	}
	if s.single {
		return oneSession, nil
	}
	spells, err := g.spells(s, said)
	if err != nil {
		return nil, err
	}
	var out []Session
	whole := region.Empty // the time in which all roles go together
	for _, one := range spells {
		if g.breaks(one.roles) == nil {
			if whole, err = g.space.Or(whole, one.when); err != nil {
				return nil, err
			}
			continue
		}
		sets, err := g.largest(one.roles)
		if err != nil {
			return nil, err
		}
		for _, roles := range sets {
			if out = append(out, Session{roles, one.when}); len(out) > maxSessions {
				return nil, errSessions
			}
		}
	}
	if whole != region.Empty {
		out = append(out, Session{nil, whole})
	}
	return out, nil
}

var errSessions = fmt.Errorf("%w session: there are too many sets of roles to judge; name the roles", ErrInvalid)

// spell is a time in which somebody holds the same roles.
type spell struct {
	roles []string
	when  region.Region
}

// spells takes the time apart by the roles that somebody holds, by the grants that stand or are lent within their dates
// and those of the role; of a request that says its time, it is that moment alone, and when is Full.
func (g *Gate) spells(s *CompiledSubject, said *region.Context) ([]spell, error) {
	held := map[string]region.Region{} // of each role, the time
	var err error
	for _, gr := range s.Grants {
		when := region.Full
		if !g.Which.counts(gr.Grant) {
			continue
		}
		if !g.Which.asIfLent(gr.Grant) {
			if when, err = g.lentAnywhere(gr, s.principal); err != nil {
				return nil, err
			}
		}
		if when, err = g.within(when, gr.Starts, gr.Ends); err != nil {
			return nil, err
		}
		for _, ref := range gr.Roles {
			role := g.Roles[ref.ID]
			during, err := g.within(when, role.Starts, role.Ends)
			if err != nil {
				return nil, err
			}
			if held[ref.ID], err = g.space.Or(held[ref.ID], during); err != nil {
				return nil, err
			}
		}
	}
	out := []spell{{nil, region.Full}}
	for _, id := range slices.Sorted(maps.Keys(held)) {
		var parts []spell
		for _, one := range out {
			in, err := g.space.And(one.when, held[id])
			if err != nil {
				return nil, err
			}
			without, err := g.space.Minus(one.when, held[id])
			if err != nil {
				return nil, err
			}
			if in != region.Empty {
				parts = append(parts, spell{append(slices.Clone(one.roles), id), in})
			}
			if without != region.Empty {
				parts = append(parts, spell{one.roles, without})
			}
		}
		out = parts
	}
	if said == nil {
		return out, nil
	}
	at, timed := said.Time()
	if !timed {
		return out, nil
	}
	c := g.space.NewContext()
	c.SetTime(at)
	for _, one := range out {
		if g.space.Judge(one.when, c) == region.All {
			return []spell{{one.roles, region.Full}}, nil
		}
	}
	return nil, nil
}

// within is the part of a time that lies within dates, either of which may be nil.
func (g *Gate) within(when region.Region, starts, ends *estate.Moment) (region.Region, error) {
	during, err := g.during(starts, ends)
	if err != nil {
		return region.Empty, err
	}
	return g.space.And(when, during)
}

// rolesOf lists the roles that grants name, by id.
func rolesOf(grants []*CompiledGrant) []string {
	var roles []string
	for _, gr := range grants {
		for _, ref := range gr.Roles {
			roles = append(roles, ref.ID)
		}
	}
	slices.Sort(roles)
	return slices.Compact(roles)
}

// checkNamed sees that a session may name these roles.
func (g *Gate) checkNamed(s *CompiledSubject, named []string) error {
	for _, id := range named {
		if g.Roles[id] == nil {
			return unknown("role", id, g.Roles)
		}
		if !slices.ContainsFunc(s.Grants, func(gr *CompiledGrant) bool {
			return slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return ref.ID == id })
		}) {
			return fmt.Errorf("%w session: no grant to %s names the role %s", ErrInvalid, s.principal, id)
		}
	}
	if sep := g.breaks(named); sep != nil {
		return fmt.Errorf("%w session: the separation %s keeps its roles apart (%s)", ErrInvalid, sep.ID, sep.Source.Short())
	}
	return nil
}

// breaks gives a session separation that the roles break, each standing for all it includes.
func (g *Gate) breaks(roles []string) *estate.Separation {
	for _, sep := range g.sessions {
		if g.Held(sep, roles) > sep.AtMost {
			return sep
		}
	}
	return nil
}

// Held counts a separation's roles that the roles are or include.
func (g *Gate) Held(sep *estate.Separation, roles []string) int {
	n := 0
	for _, ref := range sep.Roles {
		if slices.ContainsFunc(roles, func(id string) bool { return g.Roles[id].Includes[ref.ID] }) {
			n++
		}
	}
	return n
}

// largest gives every permitted set of the roles to which none can be added. Roles that no separation touches are
// in all of them.
func (g *Gate) largest(roles []string) ([][]string, error) {
	touched := func(id string) bool {
		return slices.ContainsFunc(g.sessions, func(sep *estate.Separation) bool { return g.Held(sep, []string{id}) > 0 })
	}
	var free, bound []string
	for _, id := range roles {
		if touched(id) {
			bound = append(bound, id)
		} else {
			free = append(free, id)
		}
	}
	var out [][]string
	steps := 0
	var choose func(i int, chosen []string) error
	choose = func(i int, chosen []string) error {
		if steps++; steps > 64*maxSessions || len(out) > maxSessions {
			return errSessions
		}
		if i == len(bound) {
			if !g.extendable(chosen, bound) {
				// an empty set must not become nil, which stands for all roles
				set := append(append(make([]string, 0, len(roles)), free...), chosen...)
				slices.Sort(set)
				out = append(out, set)
			}
			return nil
		}
		if with := append(slices.Clone(chosen), bound[i]); g.breaks(with) == nil {
			if err := choose(i+1, with); err != nil {
				return err
			}
		}
		return choose(i+1, chosen)
	}
	if err := choose(0, nil); err != nil {
		return nil, err
	}
	slices.SortFunc(out, func(a, b []string) int { return strings.Compare(strings.Join(a, " "), strings.Join(b, " ")) })
	return out, nil
}

func (g *Gate) extendable(chosen, bound []string) bool {
	return slices.ContainsFunc(bound, func(id string) bool {
		return !slices.Contains(chosen, id) && g.breaks(append(slices.Clone(chosen), id)) == nil
	})
}

// Sessions lists the possible sessions of a subject.
func (g *Gate) Sessions(p estate.Principal, c *Context) ([]Session, error) {
	n := g.NumberOf(p)
	if n < 0 {
		return nil, g.Subject(p)
	}
	return g.PossibleSessions(g.Numbered(n), c.Roles, c.region)
}
