package gate

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// maxSessions bounds how many possible sessions are judged for one request.
const maxSessions = 4096

// oneSession is the session with all roles.
var oneSession = [][]string{nil}

// PossibleSessions gives the sets of roles that a session may have that names some, or none, within what a request
// says, nil if it says nothing: nil stands for all roles.
func (g *Gate) PossibleSessions(s *CompiledSubject, named []string, said *region.Context) ([][]string, error) {
	if len(named) > 0 {
		return [][]string{named}, g.checkNamed(s, named)
	}
	if s.single {
		return oneSession, nil
	}
	var held []*CompiledGrant
	for _, gr := range s.Grants {
		if g.Which.counts(gr.Grant) && (g.Which.asIfLent(gr.Grant) || g.lentAt(gr, s, said)) {
			held = append(held, gr)
		}
	}
	roles := rolesOf(held)
	if g.breaks(roles) == nil {
		return oneSession, nil
	}
	return g.largest(roles)
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

// lentAt says whether an on-request grant is lent to the subject at the time of a request, or ever where that is open.
func (g *Gate) lentAt(gr *CompiledGrant, s *CompiledSubject, said *region.Context) bool {
	when, lent := gr.lent[s.principal]
	if !lent || said == nil {
		return lent
	}
	at, timed := said.Time()
	if !timed {
		return true
	}
	c := g.space.NewContext()
	c.SetTime(at)
	return g.space.Judge(when, c) == region.All
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
			return fmt.Errorf("%w session: there are too many sets of roles to judge; name the roles", ErrInvalid)
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

// Sessions lists the sets of roles that a session of the subject may have; one that is nil has all.
func (g *Gate) Sessions(p estate.Principal, c *Context) ([][]string, error) {
	n := g.NumberOf(p)
	if n < 0 {
		return nil, g.Subject(p)
	}
	return g.PossibleSessions(g.Numbered(n), c.Roles, c.region)
}
