package finding

import (
	"fmt"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var separationBroken = &Finding{
	Code: "separation-broken", Severity: diagnostic.Error,
	Doc: "Somebody holds more of a separation's roles than it allows, each role standing for all it includes, on " +
		"request or not, at any time.",
	Cure: "take one of the grants away, or the person out of one of the groups",
	find: func(c *check) {
		for _, sep := range estate.Sorted(c.estate.Separations) {
			if sep.Session {
				continue
			}
			roles, through := map[estate.Principal][]string{}, map[estate.Principal][]string{}
			for _, g := range estate.Sorted(c.estate.Grants) {
				for _, ref := range g.Roles {
					if c.gate.Held(sep, []string{ref.ID}) == 0 {
						continue
					}
					for p := range c.gate.EachMember(g.To) {
						roles[p] = append(roles[p], ref.ID)
						through[p] = append(through[p], fmt.Sprintf("%s by grant %s", ref.ID, g.ID))
					}
				}
			}
			for _, p := range sortedPrincipals(roles) {
				if c.gate.Held(sep, roles[p]) > sep.AtMost {
					c.report(&sep.Object, sep.Source.Position, "%s holds more of the roles of %s than %d: %s", p, sep.ID, sep.AtMost,
						some(through[p]))
				}
			}
		}
	},
}
