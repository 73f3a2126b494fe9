package auditing

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/region"
)

// Redundant gives a grant that gives all that another one does, to the same subjects and more; "" if there is none. Of
// two that give the same the one whose id comes later is redundant. In a large estate it may overlook one whose
// resources are told by traits.
func Redundant(g *gate.Gate, gr *estate.Grant) string {
	one := g.GrantOf(gr.ID)
	who := g.Lists.Selected(gr.To)
	if one == nil || len(who) == 0 || one.Region == region.Empty {
		return ""
	}
	for _, other := range g.Numbered(int(who[0])).Grants {
		if other == one || other.OnRequest != nil && gr.OnRequest == nil || !atLeast(g, other, one, who) {
			continue
		}
		if gr.ID < other.ID && atLeast(g, one, other, g.Lists.Selected(other.To)) &&
			(other.OnRequest == nil) == (gr.OnRequest == nil) {
			continue // they are the same, and the other one is redundant
		}
		return other.ID
	}
	return ""
}

// atLeast says whether a grant gives some subjects all that another one gives them.
func atLeast(g *gate.Gate, other, one *gate.CompiledGrant, who []uint32) bool {
	if holds, err := g.Space().Contains(other.Region, one.Region); err != nil || !holds {
		return false
	}
	large := g.Estate().Tree.Len() > mostExact
	if large && !g.Places.Within(one.List, other.List) || !areAmong(who, g.Lists.Selected(other.To)) {
		return false
	}
	for _, ref := range one.Roles {
		for name, when := range g.Roles[ref.ID].Operations {
			given := region.Empty
			for _, o := range other.Roles {
				var err error
				if given, err = g.Space().Or(given, g.Roles[o.ID].Operations[name]); err != nil {
					return false
				}
			}
			if holds, err := g.Space().Contains(given, when); err != nil || !holds {
				return false
			}
		}
	}
	return large || within(g, one, other)
}

// areAmong says whether some subjects are all among others, both by number and in order.
func areAmong(who, others []uint32) bool {
	if len(who) > len(others) {
		return false
	}
	for _, n := range who {
		i, found := slices.BinarySearch(others, n)
		if !found {
			return false
		}
		others = others[i:]
	}
	return true
}

// mostExact is how many resources an estate lists for what patterns and selectors cover to be held against each other
// place by place.
const mostExact = 5000

// within says whether a grant covers nothing, now and later, that another does not; in a large estate it says no in
// doubt.
func within(g *gate.Gate, one, other *gate.CompiledGrant) bool {
	if g.Places.Within(one.List, other.List) {
		return true
	}
	for _, at := range g.Places.Spots { // most are told apart by what is there already
		if g.Places.Covers(one.List, at) && !g.Places.Covers(other.List, at) {
			return false
		}
	}
	inside := true
	lists := [2][]estate.Resources{{one.On}, {other.On}}
	whole := differing.EachPlace(g.Estate(), g.Estate(), lists, func(_, r *estate.Resource) bool {
		inside = r == nil || !g.Covers(one.On, r) || g.Covers(other.On, r)
		return inside
	})
	return inside && whole
}

// Shadowed says whether blocks take all that a grant gives, from all to whom it gives it.
func Shadowed(g *gate.Gate, gr *estate.Grant) bool {
	one := g.GrantOf(gr.ID)
	who := g.Lists.Selected(gr.To)
	if one == nil || len(who) == 0 || one.Region == region.Empty {
		return false
	}
	var over []*gate.CompiledBlock
	for _, b := range g.Numbered(int(who[0])).Blocks {
		if g.Places.Within(one.List, b.List) && areAmong(who, g.Lists.Selected(b.To)) {
			over = append(over, b)
		}
	}
	if len(over) == 0 {
		return false
	}
	gives := g.Gives(gr)
	if len(gives) == 0 {
		return false
	}
	for _, o := range gives {
		blocked := region.Empty
		for _, b := range over {
			if b.Deny.Fit(o, g.Estate().Edition) {
				var err error
				if blocked, err = g.Space().Or(blocked, b.Region); err != nil {
					return false
				}
			}
		}
		if holds, err := g.Space().Contains(blocked, one.Region); err != nil || !holds {
			return false
		}
	}
	return true
}
