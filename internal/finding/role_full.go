package finding

import (
	"fmt"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var roleFull = &Finding{
	Code: "role-full", Severity: diagnostic.Error,
	Doc: "More people and services hold a role than it allows, in all or in one system: by a grant of it, or of a role " +
		"that includes it, on request or not.",
	Cure: "take one of them out, or raise at-most or at-most-per-system",
	find: func(c *check) {
		for _, r := range estate.Sorted(c.estate.Roles) {
			if r.AtMost == 0 && r.AtMostPerSystem == 0 {
				continue
			}
			h := c.holdersOf(r.ID, func(_ *estate.Grant, s *estate.Subject) bool { return s.Status != "left" })
			tell := func(where string, holders map[estate.Principal]bool, most int) {
				if most > 0 && len(holders) > most {
					c.report(&r.Object, r.Source.Position, "role %s is held by %d%s, and allows %d: %s", r.ID, len(holders), where,
						most, some(principalNames(sortedPrincipals(holders))))
				}
			}
			tell("", h.all, r.AtMost)
			for _, s := range estate.Sorted(c.estate.Systems) {
				tell(fmt.Sprintf(" in %s", s.ID), h.in[s.ID], r.AtMostPerSystem)
			}
		}
	},
}

// holders are those who hold a role, in all and by system.
type holders struct {
	all map[estate.Principal]bool
	in  map[string]map[estate.Principal]bool
}

// holdersOf lists who holds a role, by grants of it or of a role that includes it, as far as both count.
func (c *check) holdersOf(role string, counts func(*estate.Grant, *estate.Subject) bool) holders {
	h := holders{map[estate.Principal]bool{}, map[string]map[estate.Principal]bool{}}
	for _, g := range c.estate.Grants {
		if !c.holds(g, role) {
			continue
		}
		systems := c.gate.Systems(g.On)
		for _, p := range c.gate.Members(g.To) {
			if s := c.estate.Subject(p); s == nil || p.Kind == estate.IsAnonymous || !counts(g, s) {
				continue
			}
			h.all[p] = true
			for _, id := range systems {
				if h.in[id] == nil {
					h.in[id] = map[estate.Principal]bool{}
				}
				h.in[id][p] = true
			}
		}
	}
	return h
}

// holds says whether a grant is of a role, or of one that includes it.
func (c *check) holds(g *estate.Grant, role string) bool {
	for _, ref := range g.Roles {
		if c.gate.Includes(ref.ID, role) {
			return true
		}
	}
	return false
}
