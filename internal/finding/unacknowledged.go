package finding

import (
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var unacknowledged = &Finding{
	Code: "unacknowledged", Severity: diagnostic.Warning,
	Doc:  "A role asks whoever grants it to accept something, and the grant does not say who did.",
	Cure: "add acknowledged: {role: ROLE, by: WHO, why: …} to the grant, or set it with --acknowledge",
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Grants) {
			for _, ref := range g.Roles {
				r := c.estate.Roles[ref.ID]
				if r.Acknowledge != "" && !slices.ContainsFunc(g.Acknowledged,
					func(a estate.Acknowledgement) bool { return a.Role.ID == r.ID }) {
					c.report(&g.Object, ref.Position, "grant %s gives role %s, and nobody accepted: %s", g.ID, r.ID, r.Acknowledge)
				}
			}
		}
	},
}
