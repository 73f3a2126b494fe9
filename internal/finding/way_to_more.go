package finding

import (
	"fmt"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/escalation"
	"hiddengate/internal/estate"
)

var wayToMore = &Finding{
	Code: "way-to-more", Severity: diagnostic.Warning,
	Doc: "Somebody can get to a govern or high-risk operation that they do not have, neither standing nor for the " +
		"asking: by opening another's account, by setting tags that " +
		"a rule reads, by writing into roles, by joining a group that is theirs to fill, or by what they may hand to " +
		"themselves. `hgate holders OPERATION RESOURCE --eventual` shows the steps.",
	Cure:      "take out what the first step takes, narrow where it holds, or accept it",
	expensive: true,
	find: func(c *check) {
		ways, err := escalation.Work(c.ctx, c.estate, c.now, c.gate)
		if err != nil {
			c.report(nil, diagnostic.Position{File: "."}, "ways to more were not looked for: %s", err)
			return
		}
		all, err := ways.More(c.ctx, func(o *estate.Operation) bool { return o.HighRisk || o.Level == estate.Govern })
		if err != nil {
			c.report(nil, diagnostic.Position{File: "."}, "ways to more were not looked for: %s", err)
			return
		}
		for _, m := range all {
			var names []string
			for _, who := range m.Subjects {
				names = append(names, who.String())
			}
			steps := "one step"
			if n := len(m.Chain.Steps); n > 1 {
				steps = fmt.Sprintf("%d steps", n)
			}
			first := ""
			if s := m.Chain.Steps[0]; s.Operation != "" {
				first = fmt.Sprintf(", through %s on %s", s.Operation, s.Resource)
			}
			c.report(m.Object, m.Object.Source.Position, "%s %s lets %s get to %s on %s in %s%s", m.What, m.Object.ID,
				some(names), some(m.Operations), m.Resource, steps, first)
		}
	},
}
