package change

import (
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/placemap"
)

// untouched says that a test comes out as before: nobody's access differs to what it asks about, and it asks as of a
// time from which on the effect tells all that differs.
func (e *Effect) untouched(t *estate.Test, now clock.Instant) bool {
	was := e.Before.Tests[t.ID]
	switch {
	case was == nil || e.After.Tests[t.ID] == nil || e.restated("tests", t) || !e.settled(now, whereAsked(t)):
		return false
	case t.Given.Roles != nil: // of several roles that give the same, it may ask about one
		return false
	case t.Given.Time != nil && t.Given.Time.Instant < e.since:
		return false
	}
	asks := func(name string) bool {
		o := e.After.Operations[name]
		return slices.ContainsFunc(slices.Concat(t.Allowed, t.Denied),
			func(s estate.Selection) bool { return s.Operation.Fits(o, e.After.Edition) })
	}
	differs := map[string]bool{} // of operations, whether the test asks about them
	lists := whomTestedBy(t)
	for i, list := range lists {
		for _, p := range e.Gates.New.Of(list) {
			for _, l := range e.linesOf(p) {
				for _, name := range l.Operations {
					is, known := differs[name]
					if !known {
						is = asks(name)
						differs[name] = is
					}
					if is || i > 0 { // levels ask about all
						return false
					}
				}
			}
		}
	}
	return !e.altered.any("people", "services", "groups") || !slices.ContainsFunc(lists, func(list estate.Subjects) bool {
		return !e.alike(list)
	})
}

// whereAsked lists where a test asks.
func whereAsked(t *estate.Test) (out estate.Resources) {
	for _, s := range slices.Concat(t.Allowed, t.Denied) {
		out = append(out, s.Place)
	}
	for _, l := range t.Levels {
		out = append(out, l.Place)
	}
	return out
}

// settled says that both estates have the same in some places and mean the same by all that they say, so that whatever
// is asked there as of an instant comes out as before where no access differs. Where a session limits roles, what
// differs in one place can tell in another.
func (e *Effect) settled(now clock.Instant, on estate.Resources) bool {
	if e.Before.Tree != e.After.Tree {
		if e.relisted == nil {
			return false
		}
		if e.meetsRelisted(on) {
			return false
		}
	}
	return e.sinceThen(now) && !e.altered.any("systems", "scopes")
}

// meetsRelisted says that a list can cover something where the estates list other resources.
func (e *Effect) meetsRelisted(on estate.Resources) bool {
	if e.near == nil {
		e.near = placemap.NewNear(e.After, []estate.Resources{e.relisted})
	}
	return e.near.Meets(on)
}

// sinceThen says that the effect tells all that differs as of an instant, and that what differs in one place tells
// nothing of another.
func (e *Effect) sinceThen(now clock.Instant) bool {
	for _, s := range e.After.Separations {
		if s.Session {
			return false
		}
	}
	return now >= e.since && !e.Rezoned() && e.Before.Edition == e.After.Edition &&
		!e.altered.any("catalogs", "separations")
}

// reaches says that access differs, or may, to something of which a guarantee speaks.
func (e *Effect) reaches(g *estate.Guarantee) bool {
	may := slices.Concat(g.May, g.Both)
	if slices.ContainsFunc(e.After.Tree.Systems, func(s *estate.System) bool { return s.Judge }) &&
		(e.ComingInPart || len(e.about(may, e.Coming)) > 0) {
		return true
	}
	lines := e.about(may, e.Lines)
	if len(lines) == 0 {
		return false
	}
	on := make([]bool, e.After.Tree.Len())
	places := e.Gates.New
	if e.compiled.Where != nil {
		places = e.baseOf(differing.New)
	}
	if places == nil || places.Estate().Tree != e.After.Tree {
		gates, err := e.everywhere()
		if err != nil {
			return true
		}
		places = gates[differing.New]
	}
	for row := range places.Selected(g.On) {
		on[row] = true
	}
	there := map[*differing.Pair]*differing.Having{}
	return slices.ContainsFunc(lines, func(l *Line) bool {
		if there[l.pair] == nil {
			there[l.pair] = l.pair.Having(func(p *differing.Pile) bool {
				return p.Any(func(row int) bool { return row < 0 || on[row] })
			})
		}
		return there[l.pair].Any(l.Piles)
	})
}

// about gives those of some lines that are about some operations.
func (e *Effect) about(may estate.Operations, lines []Line) (out []*Line) {
	for i := range lines {
		if slices.ContainsFunc(lines[i].Operations, func(name string) bool {
			o := e.After.Operations[name]
			return o == nil || may.Fit(o, e.After.Edition)
		}) {
			out = append(out, &lines[i])
		}
	}
	return out
}

// linesOf gives the lines about a subject.
func (e *Effect) linesOf(p estate.Principal) []*Line {
	if e.linesAbout == nil {
		e.linesAbout = map[estate.Principal][]*Line{}
		for i := range e.Lines {
			for _, p := range e.Lines[i].Subjects {
				e.linesAbout[p] = append(e.linesAbout[p], &e.Lines[i])
			}
		}
	}
	return e.linesAbout[p]
}
