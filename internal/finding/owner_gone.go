package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var ownerGone = &Finding{
	Code: "owner-gone", Severity: diagnostic.Warning,
	Doc: "The owner of an entry has left, is suspended, has ended, or is a group with nobody active in it: nobody " +
		"answers for it.",
	Cure: "name another owner",
	find: func(c *check) {
		for _, section := range estate.SectionNames {
			for _, o := range c.section(section) {
				if o.Owner != nil && !c.anybody(*o.Owner) {
					c.report(o, o.Source.Position, "the owner of %s %s is gone: %s", estate.Singular(section), o.ID, o.Owner)
				}
			}
		}
		gone := map[estate.Principal][]string{}
		at := map[estate.Principal]*estate.Entry{}
		tree := c.about.Tree
		for i, row := range tree.Rows {
			owner := tree.Owners[row.Owner]
			if owner == nil || c.anybodyKnown(*owner) {
				continue
			}
			if entry := tree.Entry(i); entry != nil && entry.Owner != nil {
				gone[*owner] = append(gone[*owner], tree.Address(i))
				if at[*owner] == nil {
					at[*owner] = entry
				}
			}
		}
		for _, owner := range sortedPrincipals(gone) {
			c.report(&at[owner].Object, at[owner].Source.Position, "the owner of %s is gone: %s", some(gone[owner]), owner)
		}
	},
}

// anybody says whether somebody active stands behind an owner.
func (c *check) anybody(p estate.Principal) bool {
	if p.Kind == estate.IsGroup {
		for m := range c.gate.EachMember(estate.InGroup(p.ID)) {
			if c.anybody(m) {
				return true
			}
		}
		return false
	}
	s := c.estate.Subject(p)
	return s != nil && (s.Status == "active" || s.Status == "invited") &&
		(s.Ends == nil || !s.Ends.OverAt(c.estate.Zone, c.now))
}

// anybodyKnown is anybody, remembered.
func (c *check) anybodyKnown(p estate.Principal) bool {
	if c.there == nil {
		c.there = map[estate.Principal]bool{}
	}
	is, known := c.there[p]
	if !known {
		is = c.anybody(p)
		c.there[p] = is
	}
	return is
}
