package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var overCeiling = &Finding{
	Code: "over-ceiling", Severity: diagnostic.Error,
	Doc: "A role that a delegation lets somebody hand out holds more than the delegation's `within`: it grew, or did " +
		"from the start. What is beyond was never delegated.",
	Cure: "take the operations out of the role, or the role out of the delegation",
	find: func(c *check) {
		for _, d := range estate.Sorted(c.about.Delegations) {
			if d.Within == nil {
				continue
			}
			for _, ref := range d.MayGrant {
				if names := operationNames(c.gate.RoleOperations(ref.ID),
					func(o *estate.Operation) bool { return !d.Within.Fit(o, c.estate.Edition) }); names != nil {
					c.report(&d.Object, ref.Position, "delegation %s lets role %s be handed out, which holds %s, beyond its ceiling",
						d.ID, ref.ID, some(names))
				}
			}
		}
	},
}
