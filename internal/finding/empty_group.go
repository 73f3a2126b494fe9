package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var emptyGroup = &Finding{
	Code: "empty-group", Severity: diagnostic.Warning,
	Doc: "A group has no members, so what is granted to it reaches nobody, and who approves or owns through it is " +
		"nobody.",
	Cure: "put somebody into it, or remove it",
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Groups) {
			if g.Match == nil && c.gate.CountMembers(estate.InGroup(g.ID)) == 0 {
				c.report(&g.Object, g.Source.Position, "group %s has no members", g.ID)
			}
		}
	},
}
