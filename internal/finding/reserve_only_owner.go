package finding

import (
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var reserveOnlyOwner = &Finding{
	Code: "reserve-only-owner", Severity: diagnostic.Warning,
	Doc: "Nobody but an account reserved for emergencies owns an entry, or looks after a group: there is nobody for " +
		"every day.",
	Cure: "name somebody who is there every day",
	find: func(c *check) {
		reserve := func(p estate.Principal) bool {
			s := c.estate.Subject(p)
			return s != nil && s.Reserve
		}
		for _, section := range estate.SectionNames {
			for _, o := range c.about.Section(section) {
				if o.Owner == nil {
					continue
				}
				who := []estate.Principal{*o.Owner}
				if o.Owner.Kind == estate.IsGroup {
					who = c.members(o.Owner.ID)
				}
				if len(who) > 0 && !slices.ContainsFunc(who, func(p estate.Principal) bool { return !reserve(p) }) {
					c.report(o, o.Source.Position, "the owner of %s %s is kept for emergencies alone: %s", estate.Singular(section),
						o.ID, o.Owner)
				}
			}
		}
		for _, g := range estate.Sorted(c.about.Groups) {
			if who := c.gate.Members(g.Stewards); len(who) > 0 &&
				!slices.ContainsFunc(who, func(p estate.Principal) bool { return !reserve(p) }) {
				c.report(&g.Object, g.Source.Position, "group %s has no stewards but %s, kept for emergencies", g.ID,
					some(principalNames(who)))
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
