package finding

import (
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var governEverywhere = &Finding{
	Code: "govern-everywhere", Severity: diagnostic.Warning,
	Doc:  "A standing grant lets somebody decide who else may what, everywhere: whoever has it can give themselves the rest.",
	Cure: "name the systems in which it is needed, or lend it on request",
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Grants) {
			if g.OnRequest != nil || !slices.ContainsFunc(g.On, func(t estate.ResourceTerm) bool { return t.Everything && !t.Not }) {
				continue
			}
			if names := operationNames(c.gate.Gives(g), func(o *estate.Operation) bool { return o.Level == estate.Govern }); names != nil {
				c.report(&g.Object, g.Source.Position, "grant %s gives %s on everything", g.ID, some(names))
			}
		}
	},
}
