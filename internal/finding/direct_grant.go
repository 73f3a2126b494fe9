package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var directGrant = &Finding{
	Code: "direct-grant", Severity: diagnostic.Warning,
	Doc: "A grant goes to a person rather than to a group. When the person moves on, it stays behind; when another " +
		"takes over, it is forgotten.",
	Cure: "put the person into a group, and grant to the group",
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Grants) {
			for _, t := range g.To {
				if t.Kind == estate.IsPerson && !t.Not {
					c.report(&g.Object, t.Position, "grant %s goes to the person %s directly", g.ID, t.ID)
				}
			}
		}
	},
}
