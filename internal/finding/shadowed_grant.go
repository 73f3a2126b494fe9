package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/auditing"
)

var shadowedGrant = &Finding{
	Code: "shadowed-grant", Severity: diagnostic.Warning,
	Doc:       "Blocks take away all that a grant gives, from everybody to whom it gives it.",
	Cure:      "remove the grant, or narrow the block",
	expensive: true,
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Grants) {
			if auditing.Shadowed(c.gate, g) {
				c.report(&g.Object, g.Source.Position, "grant %s gives nothing: blocks stop all of it", g.ID)
			}
		}
	},
}
