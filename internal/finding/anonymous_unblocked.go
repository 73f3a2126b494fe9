package finding

import (
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var anonymousUnblocked = &Finding{
	Code: "anonymous-unblocked", Severity: diagnostic.Warning,
	Doc:  "A block names everyone and not anonymous: whoever has not signed in is not stopped.",
	Cure: "write to: [everyone, anonymous], or leave `to` out, which means both",
	find: func(c *check) {
		for _, b := range estate.Sorted(c.about.Blocks) {
			has := func(kind estate.PrincipalKind) bool {
				return slices.ContainsFunc(b.To, func(t estate.SubjectTerm) bool { return t.Kind == kind })
			}
			if has(estate.IsEveryone) && !has(estate.IsAnonymous) {
				c.report(&b.Object, b.Source.Position, "block %s stops everyone but not anonymous", b.ID)
			}
		}
	},
}
