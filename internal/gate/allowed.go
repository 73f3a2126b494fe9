package gate

import (
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// maxCache is how many answers the gate keeps before it forgets all.
const maxCache = 1 << 18

// allowed is the union of the grants' regions, less the union of the blocks' regions, within the time in which the
// subject is active. roles, unless nil, are those the session names.
func (g *Gate) allowed(s *subject, operation string, r *estate.Resource, roles []string) (region.Region, error) {
	if r.Index < 0 {
		return g.work(s, operation, r, roles)
	}
	n := answerNumber(s, g.numbers[operation], r)
	if roles == nil {
		return keep(g.answers, n, func() (region.Region, error) { return g.work(s, operation, r, nil) })
	}
	return keep(g.inRoles, cell{n, strings.Join(roles, " ")}, func() (region.Region, error) { return g.work(s, operation, r, roles) })
}

// keep works an answer out once. A table that grows too large is emptied.
func keep[K comparable](table map[K]region.Region, key K, work func() (region.Region, error)) (region.Region, error) {
	if a, ok := table[key]; ok {
		return a, nil
	}
	a, err := work()
	if err == nil {
		if len(table) >= maxCache {
			clear(table)
		}
		table[key] = a
	}
	return a, err
}

func (g *Gate) work(s *subject, operation string, r *estate.Resource, roles []string) (region.Region, error) {
	if s.active == region.Empty {
		return region.Empty, nil
	}
	known := g.known(s, r)
	var given []region.Region
	for _, gr := range s.grants {
		if g.places.covers(gr.on, r) {
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
	blocked, err := g.blocked(s, operation, r, known)
	if err != nil {
		return region.Empty, err
	}
	if allowed, err = g.space.Minus(allowed, blocked); err != nil {
		return region.Empty, err
	}
	return g.space.And(allowed, s.active)
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
	if gr.OnRequest != nil {
		return g.space.And(gr.region, has, gr.lent[s.principal])
	}
	return g.space.And(gr.region, has)
}

// blocked is the union of the regions of the blocks that stop the subject.
func (g *Gate) blocked(s *subject, operation string, r *estate.Resource, known *region.Context) (region.Region, error) {
	var regions []region.Region
	o := g.estate.Operations[operation]
	for _, b := range s.blocks {
		if g.places.covers(b.on, r) && b.Deny.Fit(o, g.estate.Edition) {
			regions = append(regions, g.space.Fix(b.region, known))
		}
	}
	return g.space.Or(regions...)
}
