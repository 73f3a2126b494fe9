package finding

import (
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/lending"
)

var noCertificateFits = &Finding{
	Code: "no-certificate-fits", Severity: diagnostic.Note,
	Doc: "A group matches a certificate, and none that was issued and counts says what it asks for: it gathers nobody " +
		"by that. A slip in a part of the name looks the same.",
	Cure: "see with `hgate credential show` what certificates say, and mend the match",
	find: func(c *check) {
		for _, g := range c.about.Certifying() {
			if !slices.ContainsFunc(c.loans, func(r *lending.Request) bool {
				return r.Says(g.Certificate) && c.book().Failing(r, c.now) == ""
			}) {
				c.report(&g.Object, g.Source.Position, "group %s asks for a certificate, and none that counts fits", g.ID)
			}
		}
	},
}
