package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var noEnd = &Finding{
	Code: "no-end", Severity: diagnostic.Warning,
	Doc: "Somebody is tagged as one who does not stay, and has no end. Which tags say so is the setting `temporary` " +
		"(kind: temporary, where left out).",
	Cure: "give the subject ends: DATE",
	find: func(c *check) {
		c.subjects(func(what string, s *estate.Subject) {
			if c.estate.IsTemporary(s) && s.Ends == nil && s.Status != "left" {
				c.report(&s.Object, s.Source.Position, "%s is temporary by the tags and has no end", named(what, &s.Object))
			}
		})
	},
}

// subjects visits people and services.
func (c *check) subjects(visit func(what string, s *estate.Subject)) {
	for _, s := range c.people() {
		visit("person", s)
	}
	for _, s := range c.services() {
		visit("service", s)
	}
}
