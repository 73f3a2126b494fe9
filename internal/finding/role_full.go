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
			h := c.gate.Holding(r.ID, func(_ *estate.Grant, _ estate.Principal, s *estate.Subject) bool {
				return s.Status != "left"
			})
			tell := func(where string, holders map[estate.Principal]bool, most int) {
				if most > 0 && len(holders) > most {
					c.report(&r.Object, r.Source.Position, "role %s is held by %d%s, and allows %d: %s", r.ID, len(holders), where,
						most, some(principalNames(sortedPrincipals(holders))))
				}
			}
			tell("", h.All, r.AtMost)
			for _, s := range estate.Sorted(c.estate.Systems) {
				tell(fmt.Sprintf(" in %s", s.ID), h.In[s.ID], r.AtMostPerSystem)
			}
		}
	},
}
