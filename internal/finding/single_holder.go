package finding

import (
	"slices"

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
		operations, places := map[string][]string{}, map[string][]string{}
		var order []string
		all, err := auditing.SingleHolders(c.ctx, c.gate, c.now,
			func(o *estate.Operation) bool { return o.HighRisk || o.Level == estate.Govern })
		if err != nil {
			c.report(nil, diagnostic.Position{File: "."}, "what one person alone may do was not looked for: %s", err)
			return
		}
		for _, a := range all {
			who := a.Who.String()
			if operations[who] == nil {
				order = append(order, who)
			}
			operations[who] = append(operations[who], a.Operation)
			places[who] = append(places[who], a.Resources...)
		}
		for _, who := range order {
			s := c.estate.People[who]
			c.report(&s.Object, s.Source.Position, "nobody but %s may do %s, for example on %s", who, some(operations[who]),
				some(distinct(places[who])))
		}
	},
}

// distinct sorts names and drops those that occur twice.
func distinct(names []string) []string {
	slices.Sort(names)
	return slices.Compact(names)
}
