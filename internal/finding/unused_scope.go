package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

var unusedScope = &Finding{
	Code: "unused-scope", Severity: diagnostic.Note,
	Doc:       "Nothing names the scope: no grant, block, delegation, guarantee, test, and no scope that is named.",
	Cure:      "use it, or remove it",
	expensive: true,
	find: func(c *check) {
		used := map[string]bool{}
		var use func(id string)
		use = func(id string) {
			if !used[id] {
				used[id] = true
				policyfile.EachNested("scopes", c.estate.Scopes[id], func(ref estate.Ref) { use(ref.ID) })
			}
		}
		for _, l := range c.namings(func(n policyfile.Naming) bool { return n.Resources != nil }) {
			if l.what != "scope" {
				l.Each(func(n policyfile.Name) {
					if n.Section == "scopes" {
						use(n.ID)
					}
				})
			}
		}
		for _, s := range estate.Sorted(c.estate.Scopes) {
			if !used[s.ID] {
				c.report(&s.Object, s.Source.Position, "nothing refers to scope %s", s.ID)
			}
		}
	},
}
