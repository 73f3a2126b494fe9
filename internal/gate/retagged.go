package gate

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Possible is when a subject may do an operation on a resource in some possible session.
func (g *Gate) Possible(who estate.Principal, operation string, r *estate.Resource) (region.Region, error) {
	return g.inSessions(who, func(s *CompiledSubject, roles []string) (region.Region,
		error) {
		return g.allowed(s, operation, r, roles)
	})
}

// PossibleAs is Possible for a resource as it is described, whatever the estate says of its tags, by the grants that
// count.
func (g *Gate) PossibleAs(who estate.Principal, operation string, r *estate.Resource,
	counts func(*estate.Grant) bool) (region.Region, error) {
	return g.inSessions(who, func(s *CompiledSubject, roles []string) (region.Region, error) {
		return g.allowedAs(s, operation, r, roles, counts)
	})
}

// allowedAs is when a subject may do an operation, in a session of some roles, on a resource as it is described, by the
// grants that count.
func (g *Gate) allowedAs(s *CompiledSubject, operation string, r *estate.Resource, roles []string,
	counts func(*estate.Grant) bool) (region.Region, error) {
	o := g.estate.Operations[operation]
	known, at := g.Known(s, r), g.spot(r)
	var given, taken []region.Region
	for _, gr := range s.Grants {
		if !counts(gr.Grant) || !g.Covers(gr.On, r) {
			continue
		}
		one, err := g.GrantRegion(gr, SessionQuery{Subject: s, Operation: operation, At: at, Roles: roles})
		if err != nil {
			return region.Empty, err
		}
		given = append(given, g.space.Fix(one, known))
	}
	for _, b := range s.Blocks {
		if b.Deny.Fit(o, g.estate.Edition) && g.Covers(b.On, r) {
			taken = append(taken, g.space.Fix(b.Region, known))
		}
	}
	return g.space.Left(given, taken, s.active)
}

// DecideAs says whether a subject may do an operation on a resource as it is described, whatever the estate says of its
// tags and owner: Allow where that is so in every possible session, whatever a request says beyond its context.
func (g *Gate) DecideAs(who estate.Principal, operation string, r *estate.Resource, c *Context) (Outcome, error) {
	in := func(s *CompiledSubject, roles []string) (region.Region, error) {
		return g.allowedAs(s, operation, r, roles, func(*estate.Grant) bool { return true })
	}
	sure, err := g.inEverySession(who, in)
	if err != nil {
		return Deny, err
	}
	if g.space.Judge(sure, c.region) == region.All {
		return Allow, nil
	}
	possible, err := g.inSessions(who, in)
	if err != nil || g.space.Judge(possible, c.region) == region.None {
		return Deny, err
	}
	return Depends, nil
}

// inSessions unites what is so in each possible session of a subject.
func (g *Gate) inSessions(who estate.Principal,
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
	out := region.Empty
	for _, session := range sessions {
		one, err := in(s, session.Roles)
		if err == nil {
			one, err = g.space.And(one, session.When)
		}
		if err == nil {
			out, err = g.space.Or(out, one)
		}
		if err != nil {
			return region.Empty, err
		}
	}
	return out, nil
}

// Giving lists the grants that give a subject an operation on a resource at some time, under some conditions.
func (g *Gate) Giving(who estate.Principal, operation string, r *estate.Resource) (out []*estate.Grant) {
	n := g.NumberOf(who)
	if n < 0 {
		return nil
	}
	s := g.Numbered(n)
	known := g.Known(s, r)
	at := g.spot(r)
	blocking := g.blocking(s, operation, at, known)
	for _, gr := range s.Grants {
		if !g.Places.Covers(gr.List, at) {
			continue
		}
		when, err := g.GrantRegion(gr, SessionQuery{Subject: s, Operation: operation, At: at})
		if err == nil {
			when, err = g.space.Left([]region.Region{g.space.Fix(when, known)}, blocking, region.Full)
		}
		if err == nil && when != region.Empty {
			out = append(out, gr.Grant)
		}
	}
	return out
}

// Holds gives the outcome of a request that is allowed in a region.
func (g *Gate) Holds(r region.Region, c *Context) Outcome {
	switch g.space.Judge(r, c.region) {
	case region.All:
		return Allow
	case region.None:
		return Deny
	}
	return Depends
}
