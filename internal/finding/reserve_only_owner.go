package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var reserveOnlyOwner = &Finding{
	Code: "reserve-only-owner", Severity: diagnostic.Warning,
	Doc: "Nobody but an account reserved for emergencies owns an entry, or looks after a group: there is nobody for " +
		"every day.",
	Cure: "name somebody who is there every day",
	find: func(c *check) {
		reserved := func(list estate.Subjects) bool { // all of them, and there are some
			for p := range c.gate.EachMember(list) {
				if s := c.estate.Subject(p); s == nil || !s.Reserve {
					return false
				}
			}
			return c.gate.CountMembers(list) > 0
		}
		for _, section := range estate.SectionNames {
			for _, o := range c.section(section) {
				if o.Owner != nil && reserved(estate.Subjects{{Principal: *o.Owner}}) {
					c.report(o, o.Source.Position, "the owner of %s %s is kept for emergencies alone: %s", estate.Singular(section),
						o.ID, o.Owner)
				}
			}
		}
		for _, g := range estate.Sorted(c.about.Groups) {
			if reserved(g.Stewards) {
				c.report(&g.Object, g.Source.Position, "group %s has no stewards but %s, kept for emergencies", g.ID,
					some(principalNames(c.gate.Members(g.Stewards))))
			}
		}
	},
}

func principalNames(list []estate.Principal) (out []string) {
	for _, p := range list {
		out = append(out, p.String())
	}
	return out
}
