package finding

import (
	"strings"

	"github.com/mtibben/confusables"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var idsLookAlike = &Finding{
	Code: "ids-look-alike", Severity: diagnostic.Warning,
	Doc: "Two entries of a section have ids that look the same, with letters of different alphabets: one passes for the " +
		"other.",
	Cure:      "rename one of them, and find out who wrote it",
	expensive: true,
	find: func(c *check) {
		for _, section := range estate.SectionNames {
			lookAlike(c, section)
		}
	},
}

// lookAlike compares the ids of a section by their skeletons (Unicode Technical Standard #39, section 4).
func lookAlike(c *check, section string) {
	foreign := false
	c.estate.Each(section, func(o *estate.Object) { foreign = foreign || !ascii(o.ID) })
	if !foreign {
		return
	}
	first := map[string]*estate.Object{}
	for _, o := range c.estate.Section(section) {
		look := confusables.Skeleton(o.ID)
		switch f := first[look]; {
		case f == nil:
			first[look] = o
		case !ascii(f.ID) || !ascii(o.ID):
			c.report(o, o.Source.Position, "%s: %s looks like %s (%s)", section, o.ID, f.ID, f.Source.Position.Short())
		}
	}
}

func ascii(text string) bool {
	return strings.IndexFunc(text, func(r rune) bool { return r > '~' }) < 0
}
