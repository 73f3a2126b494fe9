package finding

import (
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var futureWide = &Finding{
	Code: "future-wide", Severity: diagnostic.Note,
	Doc: "A pattern fits one or two resources today, and would fit anything new beside them: one of its segments, or " +
		"the system, is nothing but a wildcard.",
	Cure:      "name what is meant, or give it a tag and select by that",
	expensive: true,
	find: func(c *check) {
		for _, l := range c.lists() {
			if l.what != "scope" && l.what != "grant" {
				continue
			}
			for _, t := range l.Resources {
				if t.Not || t.In == nil || t.In.Plain() || t.Tags != nil || t.Owners != nil || !bareWildcard(t.In.String()) {
					continue
				}
				n := c.matches(*t.In, 3)
				if n == 1 || n == 2 {
					c.report(l.entry, t.Position, "%s: %s fits %d today and anything new", named(l.what, l.entry), t, n)
				}
			}
		}
	},
}

// matches counts the listed resources that a pattern matches, up to a few. Where it begins plainly it looks no further
// than there.
func (c *check) matches(p estate.Pattern, most int) (n int) {
	tree := c.estate.Tree
	from := 0
	if top := p.Top(); top != "" {
		if from = tree.Find(top); from < 0 {
			return 0
		}
	}
	for i := from; i < tree.Len() && n < most; i++ {
		if p.Top() != "" && i > from && int(tree.Rows[i].Parent) <= from {
			break // it stands elsewhere
		}
		if r := tree.At(i); p.Matches(r.Address, c.estate.Folds(r.System)) {
			n++
		}
	}
	return n
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
