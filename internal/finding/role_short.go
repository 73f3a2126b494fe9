package finding

import (
	"fmt"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var roleShort = &Finding{
	Code: "role-short", Severity: diagnostic.Error,
	Doc: "Fewer people and services hold a role than it says there have to be, in all or in one system in which it is " +
		"granted. Those count who are active, by a grant of it, or of a role that includes it, that stands and is within " +
		"its dates.",
	Cure: "give the role to somebody else first, or lower at-least or at-least-per-system",
	find: func(c *check) {
		for _, r := range estate.Sorted(c.estate.Roles) {
			if r.AtLeast == 0 && r.AtLeastPerSystem == 0 {
				continue
			}
			h := c.gate.Holding(r.ID, func(g *estate.Grant, _ estate.Principal, s *estate.Subject) bool {
				return g.OnRequest == nil && estate.Within(g.Starts, g.Ends, c.estate.Zone, c.now) &&
					s.ActiveAt(c.estate.Zone, c.now)
			})
			tell := func(where string, holders map[estate.Principal]bool, least int) {
				if least > 0 && len(holders) < least {
					names := ""
					if len(holders) > 0 {
						names = ": " + some(principalNames(sortedPrincipals(holders)))
					}
					c.report(&r.Object, r.Source.Position, "role %s is held by %d%s, and needs %d%s", r.ID, len(holders), where,
						least, names)
				}
			}
			tell("", h.All, r.AtLeast)
			for _, s := range estate.Sorted(c.estate.Systems) {
				if h.In[s.ID] != nil || c.grantedIn(r.ID, s.ID) {
					tell(fmt.Sprintf(" in %s", s.ID), h.In[s.ID], r.AtLeastPerSystem)
				}
			}
		}
	},
}

// grantedIn says whether a role is granted in a system at all.
func (c *check) grantedIn(role, system string) bool {
	for _, g := range c.estate.Grants {
		if !c.gate.IsOf(g, role) {
			continue
		}
		for _, id := range c.gate.Systems(g.On) {
			if id == system {
				return true
			}
		}
	}
	return false
}
