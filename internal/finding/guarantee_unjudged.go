package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var guaranteeUnjudged = &Finding{
	Code: "guarantee-unjudged", Severity: diagnostic.Note,
	Doc:  "Guarantees are read and their names are checked; this version of the program does not judge whether they hold.",
	Cure: "until then, hold the policy to tests",
	find: func(c *check) {
		if list := estate.Sorted(c.estate.Guarantees); len(list) > 0 {
			var ids []string
			for _, g := range list {
				ids = append(ids, g.ID)
			}
			c.report(&list[0].Object, list[0].Source.Position, "%d guarantees are read and not judged by this version: %s", len(list), some(ids))
		}
	},
}
