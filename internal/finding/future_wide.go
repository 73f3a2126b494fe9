package finding

import (
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
)

var futureWide = &Finding{
	Code: "future-wide", Severity: diagnostic.Note,
	Doc: "A pattern fits one or two resources today, and would fit anything new beside them: one of its segments, or " +
		"the system, is nothing but a wildcard.",
	Cure:      "name what is meant, or give it a tag and select by that",
	expensive: true,
	find: func(c *check) {
		type at struct {
			namedList
			estate.ResourceTerm
			pattern int
		}
		var wide []at
		var patterns []estate.Pattern
		known := map[string]int{} // many lists can name the same pattern
		for _, l := range c.lists() {
			if l.what != "scope" && l.what != "grant" {
				continue
			}
			for _, t := range l.Resources {
				if t.Not || t.In == nil || t.In.Plain() || t.Tags != nil || t.Owners != nil || !bareWildcard(t.In.String()) {
					continue
				}
				i, ok := known[t.In.String()]
				if !ok {
					i = len(patterns)
					known[t.In.String()], patterns = i, append(patterns, *t.In)
				}
				wide = append(wide, at{l, t, i})
			}
		}
		fits := placemap.Matched(c.estate, patterns)
		for _, l := range wide {
			if n := fits[l.pattern]; n == 1 || n == 2 {
				c.report(l.entry, l.ResourceTerm.Position, "%s: %s fits %d today and anything new",
					named(l.what, l.entry), l.ResourceTerm, n)
			}
		}
	},
}

// bareWildcard says whether a whole segment of a pattern, or its system, is a wildcard.
func bareWildcard(pattern string) bool {
	system, path, _ := strings.Cut(pattern, ":")
	for segment := range strings.SplitSeq(path, "/") {
		if segment == "*" || segment == "**" {
			return true
		}
	}
	return system == "*"
}
