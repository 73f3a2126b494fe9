package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var expired = &Finding{
	Code: "expired", Severity: diagnostic.Note,
	Doc:  "An entry's end is over, so it does nothing any more.",
	Cure: "take it out, or give it a new end",
	find: func(c *check) {
		c.ends(func(what string, o *estate.Object, ends *estate.Moment) {
			if ends.OverAt(c.estate.Zone, c.now) {
				c.report(o, o.Source.Position, "%s ended %s", named(what, o), ends.Text)
			}
		})
	},
}

// ends visits every entry that ends.
func (c *check) ends(visit func(what string, o *estate.Object, ends *estate.Moment)) {
	see := func(what string, o *estate.Object, ends *estate.Moment) {
		if ends != nil {
			visit(what, o, ends)
		}
	}
	for _, s := range c.people() {
		see("person", &s.Object, s.Ends)
	}
	for _, s := range c.services() {
		see("service", &s.Object, s.Ends)
	}
	for _, r := range estate.Sorted(c.about.Roles) {
		see("role", &r.Object, r.Ends)
	}
	for _, g := range estate.Sorted(c.about.Grants) {
		see("grant", &g.Object, g.Ends)
	}
	for _, b := range estate.Sorted(c.about.Blocks) {
		see("block", &b.Object, b.Ends)
	}
}
