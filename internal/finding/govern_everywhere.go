package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
)

var governEverywhere = &Finding{
	Code: "govern-everywhere", Severity: diagnostic.Warning,
	Doc: "A standing grant lets somebody decide who else may what, everywhere: whoever has it can give themselves the " +
		"rest.",
	Cure: "name the systems in which it is needed, or lend it on request",
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Grants) {
			if g.OnRequest != nil {
				continue
			}
			if names := operationNames(c.gate.Gives(g),
				func(o *estate.Operation) bool { return o.Level == estate.Govern }); names != nil && c.everywhere(g.On) {
				c.report(&g.Object, g.Source.Position, "grant %s gives %s on everything", g.ID, some(names))
			}
		}
	},
}

// everywhere says whether a list selects all resources, those that may come too, however it is written.
func (c *check) everywhere(on estate.Resources) bool {
	for _, s := range c.estate.Systems {
		if !c.gate.Covers(on, c.estate.Listed(estate.Address{System: s.ID})) {
			return false // most lists, at once
		}
	}
	if c.gate.Count(on) < c.estate.Tree.Len() {
		return false
	}
	all := true
	whole := differing.EachComing(c.estate, c.estate, [2][]estate.Resources{{on}, {on}}, func(_, r *estate.Resource) bool {
		all = r == nil || c.gate.Covers(on, r)
		return all
	})
	return all && whole
}
