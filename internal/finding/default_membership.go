package finding

import (
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

var defaultMembership = &Finding{
	Code: "default-membership", Severity: diagnostic.Warning,
	Doc: "Somebody gets change or govern operations without anybody naming them: a standing grant goes to everyone, or " +
		"to a group that fills itself by tags.",
	Cure: "grant it to a group whose members are named, or narrow its condition and accept the finding",
	find: func(c *check) {
		for _, g := range estate.Sorted(c.about.Grants) {
			if g.OnRequest != nil {
				continue
			}
			for _, t := range g.To {
				through := ""
				switch {
				case t.Not:
				case t.Kind == estate.IsEveryone || t.Kind == estate.IsAnonymous:
					through = t.String()
				case t.Kind == estate.IsGroup:
					if filling := c.fillsItself(t.ID, map[string]bool{}); filling != "" {
						through = "whoever fits group " + filling
					}
				}
				if through == "" {
					continue
				}
				if names := operationNames(c.gate.Gives(g),
					func(o *estate.Operation) bool { return o.Level >= estate.Change }); names != nil {
					c.report(&g.Object, t.Position, "grant %s gives %s to %s", g.ID, some(names), through)
				}
			}
		}
	},
}

// fillsItself gives the group that fills itself by tags, of a group and those in it; "" if there is none.
func (c *check) fillsItself(id string, seen map[string]bool) string {
	if seen[id] {
		return ""
	}
	seen[id] = true
	g := c.estate.Groups[id]
	if g.Match != nil {
		return id
	}
	for _, t := range g.Members {
		switch {
		case t.Not:
		case t.Kind == estate.IsEveryone:
			return id
		case t.Kind == estate.IsGroup:
			if inner := c.fillsItself(t.ID, seen); inner != "" {
				return inner
			}
		}
	}
	return ""
}
