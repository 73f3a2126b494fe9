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
func (g *Gate) allowed(s *subject, operation string, r *estate.Resource, roles []string) (region.Region, error) {
	if s.active == region.Empty {
		return region.Empty, nil
	}
	at := g.spot(r)
	if g.facts.Fixed > 1 || r.Index < 0 {
		return g.work(s, operation, at, g.known(s, r), roles)
	}
	key := decisionKey{subject: s.number, operation: g.classes.Ops.Number[operation], at: at, all: roles == nil,
		owns: g.owns(s.number, r.Owner)}
	if roles != nil {
		key.session = g.session(roles)
	}
	if a, ok := g.inRoles[key]; ok {
		return a, nil
	}
	a, err := g.work(s, operation, at, g.known(s, r), roles)
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
		numbers[i] = g.roles[id].number
	}
	slices.Sort(numbers)
	return g.roleSets.Number(slices.Compact(numbers))
}

// work does it at a spot, with what is known of subject and resource.
func (g *Gate) work(s *subject, operation string, at placemap.Spot, known *region.Context,
	roles []string) (region.Region,
	error) {
	var given []region.Region
	for _, gr := range s.grants {
		if g.places.Covers(gr.on, at) {
			one, err := g.grantRegion(gr, s, operation, roles)
			if err != nil {
				return region.Empty, err
			}
			if one = g.space.Fix(one, known); one != region.Empty {
				given = append(given, one)
			}
		}
	}
	if len(given) == 0 {
		return region.Empty, nil
	}
	allowed, err := g.space.Or(given...)
	if err != nil {
		return region.Empty, err
	}
	blocked, err := g.blocked(s, operation, at, known)
	if err != nil {
		return region.Empty, err
	}
	if allowed, err = g.space.Minus(allowed, blocked); err != nil {
		return region.Empty, err
	}
	return g.space.And(allowed, s.active)
}

// spot gives a resource's spot.
func (g *Gate) spot(r *estate.Resource) placemap.Spot {
	if r.Index >= 0 {
		return g.places.Spots[r.Index]
	}
	at, _ := g.places.Unlisted(r.Address.String())
	return at
}

// grantRegion is what a grant gives a subject in its `to`, on a resource in its `on`, of an operation.
func (g *Gate) grantRegion(gr *grant, s *subject, operation string, roles []string) (region.Region, error) {
	var held []region.Region
	for _, ref := range gr.Roles {
		if roles != nil && !slices.Contains(roles, ref.ID) {
			continue
		}
		if when, ok := g.roles[ref.ID].operations[operation]; ok {
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
	if !g.which.counts(gr.Grant) {
		return region.Empty, nil
	}
	if !g.which.asIfLent(gr.Grant) {
		return g.space.And(gr.region, has, gr.lent[s.principal])
	}
	return g.space.And(gr.region, has)
}

// blocked is the union of the regions of the blocks that stop the subject.
func (g *Gate) blocked(s *subject, operation string, at placemap.Spot, known *region.Context) (region.Region, error) {
	var regions []region.Region
	o := g.estate.Operations[operation]
	for _, b := range s.blocks {
		if g.places.Covers(b.on, at) && b.Deny.Fit(o, g.estate.Edition) {
			regions = append(regions, g.space.Fix(b.region, known))
		}
	}
	return g.space.Or(regions...)
}
