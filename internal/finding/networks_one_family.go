package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var networksOneFamily = &Finding{
	Code: "networks-one-family", Severity: diagnostic.Warning,
	Doc:  "A condition keeps networks of one family of addresses out, and so lets every address of the other family in.",
	Cure: "name the networks that are meant, or add those of the other family (::/0 or 0.0.0.0/0 is all of it)",
	find: func(c *check) {
		see := func(what string, o *estate.Object, when *estate.Condition) {
			if family := oneFamily(when, 0); family != "" {
				c.report(o, o.Source.Position, "%s keeps %s networks out and lets all others in", named(what, o), family)
			}
		}
		for _, g := range estate.Sorted(c.about.Grants) {
			see("grant", &g.Object, g.When)
		}
		for _, g := range estate.Sorted(c.about.Guarantees) {
			see("guarantee", &g.Object, g.Requires)
		}
		for _, b := range estate.Sorted(c.about.Blocks) {
			// What a block says holds where it stops: there it is the networks themselves that leave the others free.
			if b.When != nil && b.When.Not == nil && len(b.When.Any) == 0 {
				if family := familyOf(b.When); family != "" {
					c.report(&b.Object, b.Source.Position, "block %s stops %s networks alone", b.ID, family)
				}
			}
		}
	},
}

// oneFamily finds networks of one family that stand under a `not`; nots is how many stand around the condition.
func oneFamily(c *estate.Condition, nots int) string {
	if c == nil {
		return ""
	}
	if family := familyOf(c); nots%2 == 1 && family != "" {
		return family
	}
	if family := oneFamily(c.Not, nots+1); family != "" {
		return family
	}
	for i := range c.Any {
		if family := oneFamily(&c.Any[i], nots); family != "" {
			return family
		}
	}
	return ""
}

// familyOf names the family of a condition's networks, if all are of one.
func familyOf(c *estate.Condition) string {
	four, six := 0, 0
	for _, p := range c.Network {
		if p.Addr().Is4() {
			four++
		} else {
			six++
		}
	}
	switch {
	case four > 0 && six == 0:
		return "IPv4"
	case six > 0 && four == 0:
		return "IPv6"
	}
	return ""
}
