package gate

import (
	"net/netip"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Sure is when a subject may do an operation on a resource in every possible session.
func (g *Gate) Sure(who estate.Principal, operation string, r *estate.Resource) (region.Region, error) {
	return g.inEverySession(who, func(s *CompiledSubject, roles []string) (region.Region, error) {
		return g.allowed(s, operation, r, roles)
	})
}

// inEverySession is when something is so in each possible session of a subject.
func (g *Gate) inEverySession(who estate.Principal,
	in func(s *CompiledSubject, roles []string) (region.Region, error)) (region.Region, error) {
	n := g.NumberOf(who)
	if n < 0 {
		return region.Empty, g.Subject(who)
	}
	s := g.Numbered(n)
	sessions, err := g.PossibleSessions(s, nil, nil)
	if err != nil {
		return region.Empty, err
	}
	out := region.Full
	for _, session := range sessions {
		one, err := in(s, session.Roles)
		if err == nil {
			one, err = g.space.Left([]region.Region{region.Full}, []region.Region{one}, session.When)
		}
		if err == nil { // what is left is when that session may be, and it is not allowed
			out, err = g.space.Minus(out, one)
		}
		if err != nil {
			return region.Empty, err
		}
	}
	return out, nil
}

// SureFrom gives the networks from which a subject who signs in in some way may do an operation on a resource at every
// moment from one instant until another, whatever else a request says or leaves out.
func (g *Gate) SureFrom(who estate.Principal, operation string, r *estate.Resource, signIn string,
	from, until clock.Instant) ([]netip.Prefix, error) {
	sure, err := g.Sure(who, operation, r)
	if err != nil {
		return nil, err
	}
	asked := []region.Region{g.space.Between(from, until)}
	if g.space.Has("sign-in") {
		asked = append(asked, g.space.OneOf("sign-in", signIn))
	}
	all, err := g.space.And(asked...)
	if err != nil {
		return nil, err
	}
	lacking, err := g.space.Minus(all, sure)
	if err != nil {
		return nil, err
	}
	without, err := g.space.Networks(lacking)
	if err != nil {
		return nil, err
	}
	within, err := g.space.Not(without)
	if err != nil {
		return nil, err
	}
	return g.space.Prefixes(within), nil
}
