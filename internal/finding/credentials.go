package finding

import (
	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/lending"
)

// soonOver is how long before its end a credential is told of.
const soonOver = 14 * 24 * clock.Hour

var credentialExpiring = &Finding{
	Code: "credential-expiring", Severity: diagnostic.Note,
	Doc: "A credential ends within 14 days, or within the last tenth of its time if that is less, and none that follows " +
		"it was issued.",
	Cure: "renew it with `hgate credential renew`, or let it end",
	find: func(c *check) {
		followed := map[int64]bool{}
		c.eachCredential(func(r *lending.Request) { followed[r.Credential.Renews] = true })
		c.eachCredential(func(r *lending.Request) {
			i := r.Credential.Issued
			soon := min(soonOver, (i.Until-i.From)/10)
			if _, why := c.book().Barring(r, c.now); why != "" || followed[r.Number] || c.now < i.Until-soon {
				return
			}
			c.reportCredential(r, "credential %d of %s ends on %s", r.Number, r.Subject, c.estate.Zone.Format(i.Until))
		})
	},
}

var credentialOutlivesAccess = &Finding{
	Code: "credential-outlives-access", Severity: diagnostic.Warning,
	Doc: "A credential that nobody has revoked is in date, and its holder has left, may not hold it any more, or has no " +
		"grant in the system into which it leads.",
	Cure: "revoke it with `hgate credential revoke`, and publish what is revoked",
	find: func(c *check) {
		c.eachCredential(func(r *lending.Request) {
			if reason, why := c.book().Barring(r, c.now); reason != "" && reason != "certificate-hold" {
				c.reportCredential(r, "credential %d of %s is in date: %s", r.Number, r.Subject, why)
				return
			}
			if p := r.Credential.Profile; p.System.ID != "" && !c.peopleGranted(p.System.ID)[r.Subject] {
				c.reportCredential(r, "credential %d of %s leads into %s, where no grant gives them anything", r.Number, r.Subject,
					p.System.ID)
			}
		})
	},
}

func (c *check) book() *lending.Book { return &lending.Book{Gate: c.gate} }

// eachCredential visits what was signed, is in date and is not revoked.
func (c *check) eachCredential(visit func(*lending.Request)) {
	for _, r := range c.loans {
		if one := r.Credential; one != nil && one.Issued != nil && one.Revoked == nil && one.Issued.From <= c.now &&
			c.now < one.Issued.Until {
			visit(r)
		}
	}
}

// reportCredential reports at the profile, or at the authority where the profile is gone.
func (c *check) reportCredential(r *lending.Request, format string, args ...any) {
	head := &c.estate.Systems[r.Credential.Issued.Authority].Object
	if p := r.Credential.Profile; p != nil {
		head = &p.Object
	}
	c.report(head, head.Source.Position, format, args...)
}

// peopleGranted gathers to whom a grant that is not over gives something in a system, blocks aside. A grant for owners
// gives something to whoever owns anything there.
func (c *check) peopleGranted(system string) map[estate.Principal]bool {
	if out := c.granted[system]; out != nil {
		return out
	}
	out := map[estate.Principal]bool{}
	everything := c.gate.Reached(estate.Resources{{Everything: true}}, estate.Address{System: system})
	for _, g := range c.estate.Grants {
		if (g.Ends == nil || !g.Ends.OverAt(c.estate.Zone, c.now)) && everything.By(g) {
			for p := range c.gate.EachMember(g.To) {
				if g.When == nil || g.When.Owner == nil || !*g.When.Owner || c.owners(system)[p] {
					out[p] = true
				}
			}
		}
	}
	if c.granted == nil {
		c.granted = map[string]map[estate.Principal]bool{}
	}
	c.granted[system] = out
	return out
}

// owners gathers who owns anything that is listed in a system, for themselves or in a group.
func (c *check) owners(system string) map[estate.Principal]bool {
	if out := c.owning[system]; out != nil {
		return out
	}
	out, tree := map[estate.Principal]bool{}, c.estate.Tree
	known := map[estate.Principal]bool{}
	first := tree.Find(system)
	for i := first; i < tree.End(first); i++ {
		if owner := tree.Owners[tree.Rows[i].Owner]; owner != nil && !known[*owner] {
			known[*owner] = true
			for p := range c.gate.EachMember(estate.Subjects{{Principal: *owner}}) {
				out[p] = true
			}
		}
	}
	if c.owning == nil {
		c.owning = map[string]map[estate.Principal]bool{}
	}
	c.owning[system] = out
	return out
}
