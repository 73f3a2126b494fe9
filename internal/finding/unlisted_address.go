package finding

import (
	"hiddengate/internal/diagnostic"
)

var unlistedAddress = &Finding{
	Code: "unlisted-address", Severity: diagnostic.Warning,
	Doc:       "An address is named that no inventory lists. It may come later; it may also be misspelt.",
	Cure:      "list it under resources of its system, or correct it",
	expensive: true,
	find: func(c *check) {
		helped := 0 // looking for what is near takes a while among many
		for _, l := range c.lists() {
			for _, t := range l.Resources {
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
				c.weigh(severity, l.entry, t.Position, "%s names %s, which is not listed%s", named(l.what, l.entry), a, help)
			}
		}
	},
}
