package finding

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

// A namedList is a list of subjects, operations or resources in an entry.
type namedList struct {
	what  string // the entry's sort, in a sentence
	entry *estate.Object
	policyfile.Naming
}

// lists gives every list of the entries that are looked at, section by section.
func (c *check) lists() []namedList {
	if c.listed == nil {
		c.listed = c.namings(func(n policyfile.Naming) bool { return n.IsList })
	}
	return c.listed
}

// namings gives what the entries that are looked at name, as far as it is wanted.
func (c *check) namings(wanted func(policyfile.Naming) bool) []namedList {
	out := []namedList{}
	for _, section := range estate.SectionNames {
		for _, o := range c.section(section) {
			policyfile.EachNaming(section, c.about.Entry(section, o.ID), func(n policyfile.Naming) {
				if wanted(n) {
					out = append(out, namedList{estate.Singular(section), o, n})
				}
			})
		}
	}
	return out
}
