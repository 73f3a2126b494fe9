package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var unusedRole = &Finding{
	Code: "unused-role", Severity: diagnostic.Note,
	Doc:  "No grant gives the role, no role that is used includes it, and no delegation lets anybody hand it out.",
	Cure: "grant it, or remove it",
	find: func(c *check) {
		used := map[string]bool{}
		var use func(id string)
		use = func(id string) {
			if !used[id] {
				used[id] = true
				for _, ref := range c.estate.Roles[id].Include {
					use(ref.ID)
				}
			}
		}
		for _, g := range c.estate.Grants {
			for _, ref := range g.Roles {
				use(ref.ID)
			}
		}
		for _, d := range c.estate.Delegations {
			for _, ref := range d.MayGrant {
				use(ref.ID)
			}
		}
		for _, r := range estate.Sorted(c.about.Roles) {
			if !used[r.ID] {
				c.report(&r.Object, r.Source.Position, "role %s is granted to nobody", r.ID)
			}
		}
	},
}
