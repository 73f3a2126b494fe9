package finding

import (
	"fmt"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var separationBroken = &Finding{
	Code: "separation-broken", Severity: diagnostic.Error,
	Doc:  "Somebody holds more of a separation's roles than it allows, each role standing for all it includes, on request or not, at any time.",
	Cure: "take one of the grants away, or the person out of one of the groups",
	find: func(c *check) {
		for _, sep := range estate.Sorted(c.estate.Separations) {
			if sep.Session {
				continue
			}
			for _, p := range c.gate.Subjects() {
				var roles, through []string
				for _, g := range estate.Sorted(c.estate.Grants) {
					if !c.gate.Selects(g.To, p) {
						continue
					}
					for _, ref := range g.Roles {
						if c.gate.Held(sep, []string{ref.ID}) > 0 {
							roles = append(roles, ref.ID)
							through = append(through, fmt.Sprintf("%s by grant %s", ref.ID, g.ID))
						}
					}
				}
				if c.gate.Held(sep, roles) > sep.AtMost {
					c.report(&sep.Object, sep.Source.Position, "%s holds more of the roles of %s than %d: %s", p, sep.ID, sep.AtMost, some(through))
				}
			}
		}
	},
}
