package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var unusedScope = &Finding{
	Code: "unused-scope", Severity: diagnostic.Note,
	Doc:  "Nothing names the scope: no grant, block, delegation, guarantee, test, and no scope that is named.",
	Cure: "use it, or remove it",
	dear: true,
	find: func(c *check) {
		used := map[string]bool{}
		var use func(list estate.Resources)
		use = func(list estate.Resources) {
			for _, t := range list {
				if t.Scope != "" && !used[t.Scope] {
					used[t.Scope] = true
					use(c.estate.Scopes[t.Scope].Resources)
				}
			}
		}
		c.placeLists(func(what string, _ *estate.Object, list estate.Resources) {
			if what != "scope" {
				use(list)
			}
		})
		for _, t := range c.estate.Tests {
			for _, s := range t.Allowed {
				use(estate.Resources{s.Place})
			}
			for _, s := range t.Denied {
				use(estate.Resources{s.Place})
			}
			for _, l := range t.Levels {
				use(estate.Resources{l.Place})
			}
		}
		for _, s := range estate.Sorted(c.estate.Scopes) {
			if !used[s.ID] {
				c.report(&s.Object, s.Source.Position, "scope %s is named nowhere", s.ID)
			}
		}
	},
}
