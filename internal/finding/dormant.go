package finding

import (
	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var dormant = &Finding{
	Code: "dormant", Severity: diagnostic.Warning,
	Doc: "Somebody active has not been seen for long. After how long is the setting `dormant-after` (90d, where left " +
		"out); who was never seen is not told.",
	Cure: "suspend them, or find out whether they are still there",
	find: func(c *check) {
		after := clock.Instant(c.estate.DormantAfter.Microseconds())
		c.subjects(func(what string, s *estate.Subject) {
			if s.LastSeen == nil || s.Status != "active" || s.Reserve || s.Ends != nil && s.Ends.OverAt(c.estate.Zone, c.now) {
				return
			}
			if s.LastSeen.OverAt(c.estate.Zone, c.now-after) {
				c.report(&s.Object, s.Source.Position, "%s was last seen %s", named(what, &s.Object), s.LastSeen.Text)
			}
		})
	},
}
