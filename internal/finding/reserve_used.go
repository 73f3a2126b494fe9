package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var reserveUsed = &Finding{
	Code: "reserve-used", Severity: diagnostic.Warning,
	Doc:  "A standing grant for everyday work reaches an account that is reserved for emergencies: it goes to others too.",
	Cure: "take the account out of the group, or name it with `not` in the grant",
	find: func(c *check) {
		var reserve []estate.Principal
		for _, p := range c.gate.Subjects() {
			if s := c.estate.Subject(p); s != nil && s.Reserve {
				reserve = append(reserve, p)
			}
		}
		for _, g := range estate.Sorted(c.about.Grants) {
			if g.OnRequest != nil {
				continue
			}
			var reserved []string
			for _, p := range reserve {
				if c.gate.Selects(g.To, p) {
					reserved = append(reserved, p.String())
				}
			}
			if reserved != nil && c.gate.CountMembers(g.To) > len(reserved) {
				c.report(&g.Object, g.Source.Position, "grant %s reaches %s, kept for emergencies", g.ID, some(reserved))
			}
		}
	},
}
