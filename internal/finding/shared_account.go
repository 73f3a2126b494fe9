package finding

import (
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var sharedAccount = &Finding{
	Code: "shared-account", Severity: diagnostic.Warning,
	Doc: "Several people act as one: an account in a system belongs to a group with more than one member, or two people " +
		"or services list the same key. A log cannot tell which of them it was, and an end of one is no end of it.",
	Cure: "give each of them an account or key of their own",
	find: func(c *check) {
		tree := c.about.Tree
		for i, row := range tree.Rows {
			owner := tree.Owners[row.Owner]
			if owner == nil || owner.Kind != estate.IsGroup || tree.Types[row.Type] != "account" {
				continue
			}
			entry := tree.Entry(i)
			if n := c.gate.CountMembers(estate.InGroup(owner.ID)); entry != nil && entry.Owner != nil && n > 1 {
				c.report(&entry.Object, entry.Source.Position, "the account %s belongs to %s, which has %d members",
					tree.Address(i), owner, n)
			}
		}
		c.sharedKeys()
	},
}

// sharedKeys tells of each subject that is looked at with whom it shares a key.
func (c *check) sharedKeys() {
	looked := map[string]bool{} // by what of a key is the key itself
	each := func(e *estate.Estate, visit func(s *estate.Subject, key string)) {
		for _, all := range []map[string]*estate.Subject{e.People, e.Services} {
			for _, s := range estate.Sorted(all) {
				for _, key := range s.Keys {
					if fields := strings.Fields(key); len(fields) > 1 {
						visit(s, fields[1])
					}
				}
			}
		}
	}
	each(c.about, func(_ *estate.Subject, key string) { looked[key] = true })
	if len(looked) == 0 {
		return
	}
	first := map[string]*estate.Subject{}
	each(c.estate, func(s *estate.Subject, key string) {
		switch other := first[key]; {
		case !looked[key]:
		case other == nil:
			first[key] = s
		case other != s:
			c.report(&s.Object, s.Source.Position, "%s and %s list the same key", other.ID, s.ID)
		}
	})
}
