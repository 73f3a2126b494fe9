package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/verify"
)

var clockDependentTest = &Finding{
	Code: "clock-dependent-test", Severity: diagnostic.Warning,
	Doc: "A test gives no time and would come out differently at a later one: it passes today and fails some day, or " +
		"the other way round.",
	Cure: "give it a time, as given: {time: 2027-12-01T22:00}",
	find: func(c *check) {
		var from *gate.Gate
		for _, t := range estate.Sorted(c.about.Tests) {
			if t.Given.Time != nil || c.over != nil && c.over(t) {
				continue
			}
			if from == nil {
				var err error
				if from, err = c.fromNow(); err != nil {
					return
				}
			}
			if verify.HangsOnTheClock(c.gate, from, t, c.now) {
				c.report(&t.Object, t.Source.Position, "the result of test %s depends on when it runs", t.ID)
			}
		}
	},
}

// fromNow gives the gate of the estate as it decides from now on.
func (c *check) fromNow() (*gate.Gate, error) {
	e := c.estate.From(c.now)
	if e == c.estate {
		return c.gate.WithLent(nil)
	}
	return gate.Carried(e, c.gate)
}
