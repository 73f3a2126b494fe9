package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/auditing"
)

var singleHolder = &Finding{
	Code: "single-holder", Severity: diagnostic.Note,
	Doc: "One person alone may do a high-risk or govern operation on something listed, by standing grants: when they " +
		"are away, no person can. Services are not counted.",
	Cure:      "let a second person do it too, or grant it on request",
	expensive: true,
	find: func(c *check) {
		all, err := auditing.SingleHolders(c.ctx, c.gate, c.now, mostNamed+1,
			func(o *estate.Operation) bool { return o.HighRisk || o.Level == estate.Govern })
		if err != nil {
			c.report(nil, diagnostic.Position{File: "."}, "what one person alone may do was not looked for: %s", err)
			return
		}
		for _, a := range all {
			s := c.estate.People[a.Who.ID]
			c.report(&s.Object, s.Source.Position, "nobody but %s may do %s, for example on %s", a.Who, some(a.Operations),
				someOf(a.Count, func(i int) string { return a.Resources[i] }))
		}
	},
}
