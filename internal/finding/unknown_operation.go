package finding

import (
	"maps"
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

var unknownOperation = &Finding{
	Code: "unknown-operation", Severity: diagnostic.Error,
	Doc:  "An operation is named that no kind of system offers, so the entry does not do what it seems to.",
	Cure: "see `hgate list operations` for the names",
	find: func(c *check) {
		known := slices.Sorted(maps.Keys(c.estate.Operations))
		for _, l := range c.namings(func(n policyfile.Naming) bool { return n.Operations != nil }) {
			for _, t := range l.Operations {
				if t.Kind == estate.ByName && c.estate.Operations[t.Name] == nil {
					near := diagnostic.Nearest(t.Name, known)
					if near != "" {
						near = "; did you mean " + near + "?"
					}
					c.report(l.entry, t.Position, "%s names the operation %s, which no kind offers%s", named(l.what, l.entry), t.Name,
						near)
				}
			}
		}
	},
}
