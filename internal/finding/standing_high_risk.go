package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var standingHighRisk = &Finding{
	Code: "standing-high-risk", Severity: diagnostic.Note,
	Doc: "A standing grant gives an operation that can do great harm. What is needed now and then is safer lent for a " +
		"limited time, with a reason and an approval.",
	Cure: "split the role, and grant the dangerous part with on-request",
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Grants) {
			if g.OnRequest != nil {
				continue
			}
			if names := operationNames(c.gate.Gives(g), func(o *estate.Operation) bool { return o.HighRisk }); names != nil {
				c.report(&g.Object, g.Source.Position, "grant %s gives %s at any time", g.ID, some(names))
			}
		}
	},
}

func operationNames(list []*estate.Operation, is func(*estate.Operation) bool) (out []string) {
	for _, o := range list {
		if is(o) {
			out = append(out, o.Name)
		}
	}
	return out
}
