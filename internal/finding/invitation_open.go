package finding

import (
	"hiddengate/internal/diagnostic"
)

var invitationOpen = &Finding{
	Code: "invitation-open", Severity: diagnostic.Note,
	Doc: "Somebody who is invited has a code by which they can join, and has not joined; or the time of that code is " +
		"over. Whoever finds the code can join in their place.",
	Cure: "see that it has reached them, invite them again, or remove the person",
	find: func(c *check) {
		if c.set == nil {
			return
		}
		for _, s := range c.people() {
			if s.Status != "invited" {
				continue
			}
			i := c.set.InvitationOf(s.Principal())
			switch {
			case i == nil:
			case c.now < i.Ends:
				c.report(&s.Object, s.Source.Position, "person %s can join until %s, and has not", s.ID,
					c.estate.Zone.Format(i.Ends))
			default:
				c.report(&s.Object, s.Source.Position, "the invitation of person %s lapsed on %s", s.ID,
					c.estate.Zone.Format(i.Ends))
			}
		}
	},
}
