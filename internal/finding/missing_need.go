package finding

import (
	"slices"

	"hiddengate/internal/diagnostic"
)

var missingNeed = &Finding{
	Code: "missing-need", Severity: diagnostic.Warning,
	Doc: "Somebody may do an operation but not one that it needs, so it is of no use to them. What is needed is looked for at the resource " +
		"itself, or at the nearest place above it where it applies.",
	Cure: "add what is missing to the role or grant it beside it, or take the operation out",
	dear: true,
	find: func(c *check) {
		type gap struct{ grant, operation, need string }
		var order []gap
		subjects, places := map[gap][]string{}, map[gap][]string{}
		add := func(list map[gap][]string, k gap, name string) { list[k] = append(list[k], name) }
		for _, lacking := range c.gate.Lacking() {
			k := gap{lacking.Grant, lacking.Operation, lacking.Need}
			if subjects[k] == nil {
				order = append(order, k)
			}
			for _, s := range lacking.Subjects {
				add(subjects, k, s.String())
			}
			add(places, k, lacking.Resource.Address.String())
		}
		for _, k := range order {
			g := c.estate.Grants[k.grant]
			c.report(&g.Object, g.Source.Position, "grant %s gives %s to %s without %s, which it needs, as on %s",
				k.grant, k.operation, some(distinct(subjects[k])), k.need, some(distinct(places[k])))
		}
	},
}

// distinct sorts names and drops those that occur twice.
func distinct(names []string) []string {
	slices.Sort(names)
	return slices.Compact(names)
}
