package finding

import (
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var idsDifferByCase = &Finding{
	Code: "ids-differ-by-case", Severity: diagnostic.Warning,
	Doc:       "Two entries of a section differ in nothing but capital letters; one is easily taken for the other.",
	Cure:      "rename one of them",
	expensive: true,
	find: func(c *check) {
		for _, section := range estate.SectionNames {
			differByCase(c, section)
		}
	},
}

// differByCase compares the ids of a section in small letters. Where none has a capital letter none is put in order, of
// which a large estate has many.
func differByCase(c *check, section string) {
	capitals := false
	c.estate.Each(section, func(o *estate.Object) { capitals = capitals || strings.ToLower(o.ID) != o.ID })
	if !capitals {
		return
	}
	first := map[string]*estate.Object{}
	for _, o := range c.estate.Section(section) {
		low := strings.ToLower(o.ID)
		if f := first[low]; f != nil {
			c.report(o, o.Source.Position, "%s: %s and %s differ only by case", section, f.ID, o.ID)
		} else {
			first[low] = o
		}
	}
}
