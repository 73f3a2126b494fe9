package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var leftBehind = &Finding{
	Code: "left-behind", Severity: diagnostic.Warning,
	Doc: "Somebody who has left, or whose end is over, is still named: as a member of a group, or in a grant. They have " +
		"no access, and would have it again if they came back.",
	Cure: "take them out of it",
	find: func(c *check) {
		gone := func(list estate.Subjects) (out []string) {
			for _, t := range list {
				if s := c.estate.Subject(t.Principal); !t.Not && s != nil && (s.Status == "left" ||
					s.Ends != nil && s.Ends.OverAt(c.estate.Zone, c.now)) {
					out = append(out, t.Principal.String())
				}
			}
			return out
		}
		for _, g := range estate.Sorted(c.about.Groups) {
			if names := gone(g.Members); names != nil {
				c.report(&g.Object, g.Source.Position, "group %s names somebody who is gone: %s", g.ID, some(names))
			}
		}
		for _, g := range estate.Sorted(c.about.Grants) {
			if names := gone(g.To); names != nil {
				c.report(&g.Object, g.Source.Position, "grant %s names somebody who is gone: %s", g.ID, some(names))
			}
		}
	},
}
