package escalation

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
)

// Unseen lists the groups, by id, that somebody can join and that take something away from whoever is in them: a block
// goes to them, or a list leaves them out. As all groups are joined at once, a way on which somebody joins others and
// not these is not looked at.
func (w *Ways) Unseen() []string {
	takes := map[string]bool{}
	leavesOut := func(list estate.Subjects) {
		for _, t := range list {
			if t.Not && t.Kind == estate.IsGroup {
				w.nested(t.ID, takes)
			}
		}
	}
	for _, b := range w.estate.Blocks {
		leavesOut(b.To)
		for _, t := range b.To {
			if t.Kind == estate.IsGroup {
				w.nested(t.ID, takes)
			}
		}
	}
	for _, g := range w.estate.Grants {
		leavesOut(g.To)
	}
	for _, g := range w.estate.Groups {
		leavesOut(g.Members)
		leavesOut(g.Stewards)
	}
	for _, d := range w.estate.Delegations {
		leavesOut(d.To)
	}
	joined := map[string]bool{}
	for _, m := range w.order {
		if m.Kind == Joins && takes[m.Entry] {
			joined[m.Entry] = true
		}
	}
	return slices.Sorted(maps.Keys(joined))
}

// nested adds a group and those whose members it has.
func (w *Ways) nested(id string, to map[string]bool) {
	if to[id] {
		return
	}
	to[id] = true
	for _, t := range w.estate.Groups[id].Members {
		if t.Kind == estate.IsGroup && !t.Not {
			w.nested(t.ID, to)
		}
	}
}
