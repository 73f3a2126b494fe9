package finding

import (
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/lending"
)

var noSignIn = &Finding{
	Code: "no-sign-in", Severity: diagnostic.Warning,
	Doc: "A system says how people sign in there (`sign-in`), and somebody has a grant in it and nothing of that sort: " +
		"no key in the policy, no certificate that counts, no password and no token that was set here. A system that lists " +
		"passkey is not looked at, since nothing here knows of those.",
	Cure: "give them one, as with `hgate request credential` or `hgate credential password`, or take the grant away",
	find: func(c *check) {
		for _, s := range estate.Sorted(c.about.Systems) {
			if len(s.SignIn) == 0 {
				continue
			}
			var without []string
			for _, p := range c.withoutSignIn(s) {
				without = append(without, p.String())
			}
			if len(without) > 0 {
				c.report(&s.Object, s.Source.Position, "%s can sign in to %s by nothing that is known here, and a grant gives "+
					"them something there", some(without), s.ID)
			}
		}
	},
}

// WithoutSignIn lists who is active, has a grant in a system, and has nothing by which people sign in there as the
// system says; nobody where it does not say.
func WithoutSignIn(g *gate.Gate, s *estate.System, now clock.Instant, loans []*lending.Request,
	set *lending.SignIns) []estate.Principal {
	return (&check{estate: g.Estate(), about: g.Estate(), gate: g, now: now, loans: loans, set: set}).withoutSignIn(s)
}

func (c *check) withoutSignIn(s *estate.System) (out []estate.Principal) {
	if len(s.SignIn) == 0 {
		return nil
	}
	for _, p := range sortedPrincipals(c.peopleGranted(s.ID)) {
		if who := c.estate.Subject(p); who != nil && who.ActiveAt(c.estate.Zone, c.now) && !c.signsIn(s, p) {
			out = append(out, p)
		}
	}
	return out
}

func (c *check) signsIn(s *estate.System, p estate.Principal) bool {
	return slices.ContainsFunc(s.SignIn, func(how string) bool {
		switch how {
		case "key":
			return len(c.estate.Subject(p).Keys) > 0
		case "certificate":
			return c.leading(s.ID)[p]
		case "password":
			return c.set.HasPassword(s.ID, p, c.now)
		case "token":
			return c.set.HasToken(s.ID, p, c.now)
		}
		return true // of the others nothing is known here
	})
}

// leading gathers who holds a certificate that counts and leads into a system.
func (c *check) leading(system string) map[estate.Principal]bool {
	if c.certified == nil {
		c.certified = map[string]map[estate.Principal]bool{}
		c.eachCredential(func(r *lending.Request) {
			if p := r.Credential.Profile; p != nil && c.book().Failing(r, c.now) == "" {
				if c.certified[p.System.ID] == nil {
					c.certified[p.System.ID] = map[estate.Principal]bool{}
				}
				c.certified[p.System.ID][r.Subject] = true
			}
		})
	}
	return c.certified[system]
}
