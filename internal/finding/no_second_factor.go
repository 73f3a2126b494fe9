package finding

import (
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var noSecondFactor = &Finding{
	Code: "no-second-factor", Severity: diagnostic.Warning,
	Doc: "Somebody signs in to a system with a password that was set here and with no second factor, and a grant lets " +
		"them decide there who else may what, or do what can do great harm, without asking for one (mfa).",
	Cure: "give the account one with `hgate credential second-factor`, have them sign in with a certificate or a key, " +
		"or ask for mfa in the grant",
	find: func(c *check) {
		if c.set == nil {
			return
		}
		strong := map[string][]*estate.Grant{}
		for _, account := range c.set.WithPassword(c.now) {
			p := c.set.Passwords[account]
			if c.set.Factors[account] != nil {
				continue
			}
			if _, known := strong[account.System]; !known {
				strong[account.System] = c.strong(c.estate.Systems[account.System])
			}
			for _, g := range strong[account.System] {
				if c.gate.Selects(g.To, p.For) {
					c.report(&g.Object, g.Source.Position, "%s signs in to %s with a password alone, and grant %s gives %s there",
						p.For, account.System, g.ID, some(operationNames(c.gate.Gives(g), isStrong)))
				}
			}
		}
	},
}

func isStrong(o *estate.Operation) bool { return o.HighRisk || o.Level == estate.Govern }

// strong lists the grants that are looked at, are not over, and give something in a system that has to be done with
// care, whether or not with a second factor.
func (c *check) strong(s *estate.System) (out []*estate.Grant) {
	reached := c.gate.Reached(estate.Resources{{Everything: true}}, estate.Address{System: s.ID})
	offered := c.estate.Offer(s.Kind.ID)
	for _, g := range estate.Sorted(c.about.Grants) {
		asks := g.When != nil && slices.ContainsFunc(g.When.Facts, func(t estate.FactTerm) bool {
			return t.Fact == "mfa" && slices.Equal(t.Values, []string{estate.Yes})
		})
		if asks || g.Ends != nil && g.Ends.OverAt(c.estate.Zone, c.now) || !reached.By(g) {
			continue
		}
		if slices.ContainsFunc(c.gate.Gives(g), func(o *estate.Operation) bool {
			return isStrong(o) && offered.Has(o.Name)
		}) {
			out = append(out, g)
		}
	}
	return out
}
