package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var unlistedAddress = &Finding{
	Code: "unlisted-address", Severity: diagnostic.Warning,
	Doc:  "An address is named that no inventory lists. It may come later; it may also be misspelt.",
	Cure: "list it under resources of its system, or correct it",
	dear: true,
	find: func(c *check) {
		helped := 0 // looking for what is near takes a while among many
		c.placeLists(func(what string, o *estate.Object, list estate.Resources) {
			for _, t := range list {
				if t.In == nil || !t.In.Plain() {
					continue
				}
				a := t.In.Address()
				if c.estate.Listed(a) != nil {
					continue
				}
				severity := diagnostic.Warning
				if c.estate.Systems[a.System].Judge {
					severity = diagnostic.Note
				}
				var near []string
				if helped++; helped <= 50 {
					for r := range c.estate.Tree.All() {
						if r.Address.System == a.System {
							near = append(near, r.Address.String())
						}
					}
				}
				help := diagnostic.Nearest(a.String(), near)
				if help != "" {
					help = "; did you mean " + help + "?"
				}
				c.weigh(severity, o, t.Position, "%s names %s, which is not listed%s", named(what, o), a, help)
			}
		})
	},
}
