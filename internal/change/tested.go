package change

import (
	"context"
	"errors"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/verify"
)

// bearing is what an edit can do to a test.
type bearing int

const (
	// onAll: it is run on both sides, about everybody.
	onAll bearing = iota
	// onSome: it is the same, and can be run for those whose access can differ, by the pair, and for all others, by the
	// gate that is at hand.
	onSome
	// onNobody: it comes out as before, since it is the same and asks about nobody whose access can differ.
	onNobody
)

// bearingOn tells it of a test. It is worked out once.
func (e *Effect) bearingOn(t *estate.Test) bearing {
	b, ok := e.bearings[t.ID]
	if !ok {
		b = e.bear(t)
		if e.bearings == nil {
			e.bearings = map[string]bearing{}
		}
		e.bearings[t.ID] = b
	}
	return b
}

func (e *Effect) bear(t *estate.Test) bearing {
	if e.others == nil || e.Before.Tests[t.ID] == nil || e.After.Tests[t.ID] == nil || e.restated("tests", t) {
		return onAll
	}
	anybody, apart := false, e.known() && !e.Rezoned()
	for _, list := range whomTestedBy(t) {
		var some [2]bool // on either side, some whose access can differ
		rest := false    // there are others
		for k, g := range []*gate.Gate{e.Gates.Old, e.Gates.New} {
			for _, p := range g.Of(list) {
				some[k] = some[k] || e.others[p]
				rest = rest || !e.others[p]
			}
		}
		anybody = anybody || some[0] || some[1]
		apart = apart && (rest || some[0] == some[1]) // a test of nobody says something else
	}
	switch {
	case !anybody:
		return onNobody
	case apart:
		return onSome
	}
	return onAll
}

// whomTestedBy lists the lists of subjects that a test asks about.
func whomTestedBy(t *estate.Test) []estate.Subjects {
	lists := []estate.Subjects{t.Who}
	for _, l := range t.Levels {
		lists = append(lists, estate.Subjects{{Principal: l.Subject}})
	}
	return lists
}

// known says that the gate at hand tells of the whole of either estate, and so of those whose access does not differ.
func (e *Effect) known() bool {
	return e.base != nil && e.base.Complete() && (e.base.Estate() == e.Before || e.base.Estate() == e.After)
}

func (e *Effect) tests(ctx context.Context, now clock.Instant) (out []Turned, err error) {
	before, err := e.asItWas()
	if err != nil {
		return nil, err
	}
	gates, err := e.everywhere()
	if err != nil {
		return nil, err
	}
	was := map[string]bool{} // whether it passed, of those that could be run
	alike := map[string]bool{}
	for _, t := range e.Before.Tests {
		if alike[t.ID] = e.comesOutAlike(gates, t, now); alike[t.ID] {
			continue
		}
		if r, err := e.run(before, t, now); err == nil {
			was[t.ID] = r
		}
	}
	var wrong diagnostic.List
	for _, t := range estate.Sorted(e.After.Tests) {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if alike[t.ID] {
			continue
		}
		passed, known := was[t.ID]
		passes, err := e.run(gates[1], t, now)
		var list diagnostic.List
		switch {
		case err == nil && (!known || passed != passes):
			out = append(out, Turned{What: "test", ID: t.ID, Passes: passes, Fresh: !known})
		case err == nil:
		case known && !slices.Contains(e.altered["tests"], t.ID):
			out = append(out, Turned{What: "test", ID: t.ID, Wrong: reason(err)})
		case errors.As(err, &list):
			if known || e.Before.Tests[t.ID] == nil || slices.Contains(e.altered["tests"], t.ID) {
				wrong = append(wrong, list...) // by this edit
			}
		default:
			return nil, err
		}
	}
	if len(wrong) > 0 {
		return nil, wrong.Sort()
	}
	return out, nil
}

// comesOutAlike says that a test comes out as before, as far as those alone tell whose access can differ.
func (e *Effect) comesOutAlike(gates [2]*gate.Gate, t *estate.Test, now clock.Instant) bool {
	if e.untouched(t, now) || e.alikeWhereRelisted(gates, t, now) {
		return true
	}
	b := e.bearingOn(t)
	if b != onSome {
		return b == onNobody
	}
	was, wrong := e.passes(gates[0], t, now, true)
	is, err := e.passes(gates[1], t, now, true)
	return wrong == nil && err == nil && was == is
}

// alikeWhereRelisted says that a test comes out alike where the estates list other resources, and so in the whole,
// since all else is as before. It is said of tests that select something else, too, and ask about the same subjects.
func (e *Effect) alikeWhereRelisted(gates [2]*gate.Gate, t *estate.Test, now clock.Instant) bool {
	was := e.Before.Tests[t.ID]
	switch {
	case !e.onlyRelisted() || e.newGate() == nil,
		was == nil || e.After.Tests[t.ID] == nil || e.restated("tests", t) || len(t.Levels) > 0 || t.Given.Roles != nil,
		!e.sinceThen(now) || t.Given.Time != nil && t.Given.Time.Instant < e.since, !e.alike(t.Who):
		return false
	}
	var passed [2]bool
	for k, g := range gates {
		r, beside, err := verify.RunOn(g, t, now, e.rowsRelisted(differing.Side(k)))
		if err != nil || !beside {
			return false
		}
		passed[k] = r.Passed()
	}
	return passed[0] == passed[1]
}

// onlyRelisted says that anybody's access can differ in the few places alone in which the estates list other resources.
func (e *Effect) onlyRelisted() bool {
	return e.relisted != nil && e.within != nil && len(e.within[0])+len(e.within[1]) == 2
}

// rowsRelisted tells of the listed resources of a side whether they lie where the estates list others.
func (e *Effect) rowsRelisted(k differing.Side) func(row int) bool {
	tree := []*estate.Tree{e.Before.Tree, e.After.Tree}[k]
	var spans [][2]int
	for _, t := range e.relisted {
		top, _ := t.In.Top()
		if row := tree.Find(top.String()); row >= 0 {
			spans = append(spans, [2]int{row, tree.End(row)})
		}
	}
	return func(row int) bool {
		return slices.ContainsFunc(spans, func(s [2]int) bool { return s[0] <= row && row < s[1] })
	}
}

// run runs a test on one side.
func (e *Effect) run(g *gate.Gate, t *estate.Test, now clock.Instant) (passed bool, err error) {
	if e.bearingOn(t) == onAll {
		r, err := verify.Run(g, t, now)
		return err == nil && r.Passed(), err
	}
	if passed, err = e.passes(g, t, now, true); err != nil || !passed {
		return passed, err
	}
	return e.passes(e.base, t, now, false)
}

// passes runs a test about those whose access can differ, or about all others.
func (e *Effect) passes(g *gate.Gate, t *estate.Test, now clock.Instant, differs bool) (bool, error) {
	r, err := verify.RunOf(g, t, now, func(p estate.Principal) bool { return e.others[p] == differs })
	return err == nil && r.Passed(), err
}
