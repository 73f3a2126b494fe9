package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/auditing"
)

var redundantGrant = &Finding{
	Code: "redundant-grant", Severity: diagnostic.Note,
	Doc: "Another grant gives all that this one gives, to the same subjects and perhaps more, in the same places and " +
		"under no more conditions.",
	Cure:      "remove it: nobody loses anything",
	expensive: true,
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Grants) {
			if other := auditing.Redundant(c.gate, g); other != "" {
				c.report(&g.Object, g.Source.Position, "grant %s gives nothing beyond what grant %s gives", g.ID, other)
			}
		}
	},
}
