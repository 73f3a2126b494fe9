package finding

import (
	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var farEnd = &Finding{
	Code: "far-end", Severity: diagnostic.Warning,
	Doc:  "An entry ends more than three years from now. By then nobody will remember why it was given.",
	Cure: "choose a nearer end and renew it, or take it out and say that there is none",
	find: func(c *check) {
		c.ends(func(what string, o *estate.Object, ends *estate.Moment) {
			if !ends.OverAt(c.estate.Zone, c.now+3*365*clock.Day) {
				c.report(o, o.Source.Position, "%s ends only %s", named(what, o), ends.Text)
			}
		})
	},
}
