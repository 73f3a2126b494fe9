package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/gate/auditing"
)

var missingNeed = &Finding{
	Code: "missing-need", Severity: diagnostic.Warning,
	Doc: "Somebody may do an operation on something listed, but not one that it needs, so it is of no use to them. What " +
		"is needed is looked for at the resource itself, or at the nearest place above it where it applies.",
	Cure:      "add what is missing to the role or grant it beside it, or take the operation out",
	expensive: true,
	find: func(c *check) {
		all, err := auditing.Lacking(c.ctx, c.gate, mostNamed+1)
		if err != nil {
			c.report(nil, diagnostic.Position{File: "."}, "what operations need was not looked for: %s", err)
			return
		}
		for _, l := range all {
			g := c.estate.Grants[l.Grant]
			who := someOf(l.Number, func(i int) string { return l.Subjects[i].String() })
			where := someOf(l.Count, func(i int) string { return l.Places[i] })
			c.report(&g.Object, g.Source.Position,
				"grant %s gives %s to %s without %s, which it needs, for example on %s", l.Grant, l.Operation, who, l.Need, where)
		}
	},
}
