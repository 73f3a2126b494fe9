package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var neverInForce = &Finding{
	Code: "never-in-force", Severity: diagnostic.Warning,
	Doc:  "The conditions and dates of an entry can never hold together, so it does nothing.",
	Cure: "correct its conditions, starts or ends",
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Grants) {
			if c.gate.Never(g.When, g.Starts, g.Ends) {
				c.report(&g.Object, g.Source.Position, "grant %s can never be in force", g.ID)
			}
		}
		for _, b := range estate.Sorted(c.about.Blocks) {
			if c.gate.Never(b.When, b.Starts, b.Ends) {
				c.report(&b.Object, b.Source.Position, "block %s can never be in force", b.ID)
			}
		}
		for _, r := range estate.Sorted(c.about.Roles) {
			if c.gate.Never(nil, r.Starts, r.Ends) {
				c.report(&r.Object, r.Source.Position, "role %s can never be in force", r.ID)
			}
		}
		for what, list := range map[string][]*estate.Subject{"person": c.people(), "service": c.services()} {
			for _, s := range list {
				if c.gate.Never(nil, s.Starts, s.Ends) {
					c.report(&s.Object, s.Source.Position, "%s %s can never be active", what, s.ID)
				}
			}
		}
	},
}
