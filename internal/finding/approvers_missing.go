package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/lending"
)

var approversMissing = &Finding{
	Code: "approvers-missing", Severity: diagnostic.Warning,
	Doc: "A grant on request, or a profile, needs more approvals than there are active approvers who could give them; " +
		"or it does where an approver asks, since nobody approves their own request.",
	Cure: "name more approvers, or lower approvals",
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Grants) {
			if g.OnRequest == nil || g.OnRequest.Approvals == 0 {
				continue
			}
			there := (&lending.Book{Gate: c.gate}).Approvers(g, estate.Principal{}, c.now)
			if needed := g.OnRequest.Approvals; len(there) < needed {
				c.report(&g.Object, g.Source.Position, "grant %s needs %d approvals, and has %d active approvers", g.ID, needed,
					len(there))
			} else if len(there) == needed {
				var own []estate.Principal
				for _, p := range there {
					if c.gate.Selects(g.To, p) {
						own = append(own, p)
					}
				}
				if len(own) > 0 {
					c.report(&g.Object, g.Source.Position, "grant %s needs %d approvals, and too few approvers are left where one of "+
						"them asks: %s", g.ID, needed, some(principalNames(own)))
				}
			}
		}
		for _, p := range estate.Sorted(c.about.Profiles) {
			if there := len(c.book().Signers(p, c.now)); there < p.Approvals {
				c.report(&p.Object, p.Source.Position, "profile %s needs %d approvals, and has %d active approvers", p.ID,
					p.Approvals, there)
			}
		}
	},
}
