package gate

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// maxCache is how many regions of sessions the gate keeps before it forgets all.
const maxCache = 1 << 18

// allowed is the union of the grants' regions, less the union of the blocks' regions, within the time in which the
// subject is active, with what is so of subject and resource. roles, unless nil, are those the session names. It is
// worked out from the grants and blocks themselves; Decide has no need of it but in sessions.
func (g *Gate) allowed(s *CompiledSubject, operation string, r *estate.Resource,
	roles []string) (region.Region, error) {
	if s.active == region.Empty {
		return region.Empty, nil
	}
	at := g.spot(r)
	if g.Facts.Fixed > 1 || r.Index < 0 {
		return g.AllowedAt(SessionQuery{s, operation, at, g.Known(s, r), roles})
	}
	key := decisionKey{subject: s.number, operation: g.Classes.Ops.Number[operation], at: at, all: roles == nil,
		owns: g.Owns(s.number, r.Owner)}
	if roles != nil {
		key.session = g.session(roles)
	}
	if a, ok := g.inRoles[key]; ok {
		return a, nil
	}
	a, err := g.AllowedAt(SessionQuery{s, operation, at, g.Known(s, r), roles})
	if err == nil {
		if len(g.inRoles) >= maxCache {
			clear(g.inRoles)
			g.roleSets = lookup.NewSequences()
			if roles != nil {
				key.session = g.session(roles)
			}
		}
		g.inRoles[key] = a
	}
	return a, err
}

// session gives the number of a set of roles, each of which there is.
func (g *Gate) session(roles []string) uint32 {
	numbers := make([]uint32, len(roles))
	for i, id := range roles {
		numbers[i] = g.Roles[id].number
	}
	slices.Sort(numbers)
	return g.roleSets.Number(slices.Compact(numbers))
}

// SessionQuery is what is asked about a subject in one session.
type SessionQuery struct {
	Subject   *CompiledSubject
	Operation string
	At        placemap.Spot
	Known     *region.Context // what is so of subject and resource
	Roles     []string        // of the session; nil: all
}

// AllowedAt is when it is allowed.
func (g *Gate) AllowedAt(q SessionQuery) (region.Region, error) {
	var given []region.Region
	for _, gr := range g.grantsAt(q.Subject, q.At) {
		one, err := g.GrantRegion(gr, q)
		if err != nil {
			return region.Empty, err
		}
		if one = g.space.Fix(one, q.Known); one != region.Empty {
			given = append(given, one)
		}
	}
	if len(given) == 0 {
		return region.Empty, nil
	}
	return g.space.Left(given, g.blocking(q.Subject, q.Operation, q.At, q.Known), q.Subject.active)
}

// spot gives a resource's spot.
func (g *Gate) spot(r *estate.Resource) placemap.Spot {
	if r.Index >= 0 {
		return g.Places.Spots[r.Index]
	}
	at, _ := g.Places.Unlisted(r.Address.String())
	return at
}

// GrantRegion is what a grant gives a subject in its `to`, on a resource in its `on`, of an operation, whatever is
// known of them.
func (g *Gate) GrantRegion(gr *CompiledGrant, q SessionQuery) (region.Region, error) {
	var held []region.Region
	for _, ref := range gr.Roles {
		if q.Roles != nil && !slices.Contains(q.Roles, ref.ID) {
			continue
		}
		if when, ok := g.Roles[ref.ID].Operations[q.Operation]; ok {
			held = append(held, when)
		}
	}
	if len(held) == 0 {
		return region.Empty, nil
	}
	has, err := g.space.Or(held...)
	if err != nil {
		return region.Empty, err
	}
	if !g.Which.counts(gr.Grant) {
		return region.Empty, nil
	}
	if !g.Which.asIfLent(gr.Grant) {
		lent, err := g.lentAt(gr, q.Subject.principal, q.At)
		if err != nil {
			return region.Empty, err
		}
		return g.space.And(gr.Region, has, lent)
	}
	return g.space.And(gr.Region, has)
}

// blocking is the regions of the blocks that stop the subject.
func (g *Gate) blocking(s *CompiledSubject, operation string, at placemap.Spot,
	known *region.Context) (regions []region.Region) {
	o := g.estate.Operations[operation]
	for _, b := range s.Blocks {
		if g.Places.Covers(b.List, at) && b.Deny.Fit(o, g.estate.Edition) {
			regions = append(regions, g.space.Fix(b.Region, known))
		}
	}
	return regions
}
