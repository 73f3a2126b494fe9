package finding

import (
	"maps"
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var unknownOperation = &Finding{
	Code: "unknown-operation", Severity: diagnostic.Error,
	Doc:  "An operation is named that no kind of system offers, so the entry does not do what it seems to.",
	Cure: "see `hgate list operations` for the names",
	find: func(c *check) {
		known := slices.Sorted(maps.Keys(c.estate.Operations))
		c.operationLists(func(what string, o *estate.Object, list estate.Operations) {
			for _, t := range list {
				if t.Kind == estate.ByName && c.estate.Operations[t.Name] == nil {
					near := diagnostic.Nearest(t.Name, known)
					if near != "" {
						near = "; did you mean " + near + "?"
					}
					c.report(o, t.Position, "%s names the operation %s, which no kind offers%s", named(what, o), t.Name, near)
				}
			}
		})
	},
}

// operationLists visits every list of operations in the estate.
func (c *check) operationLists(visit func(what string, o *estate.Object, list estate.Operations)) {
	for _, r := range estate.Sorted(c.about.Roles) {
		visit("role", &r.Object, r.Allow)
	}
	for _, b := range estate.Sorted(c.about.Blocks) {
		visit("block", &b.Object, b.Deny)
	}
	for _, d := range estate.Sorted(c.about.Delegations) {
		visit("delegation", &d.Object, d.Within)
	}
	for _, t := range estate.Sorted(c.about.Tests) {
		for _, s := range slices.Concat(t.Allowed, t.Denied) {
			visit("test", &t.Object, estate.Operations{s.Operation})
		}
	}
	for _, g := range estate.Sorted(c.about.Guarantees) {
		visit("guarantee", &g.Object, g.May)
		visit("guarantee", &g.Object, g.Both)
	}
}
