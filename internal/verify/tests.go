// Package verify holds an estate to its tests.
package verify

import (
	"context"
	"fmt"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
)

// Run judges a test; now is its time where it gives none. It is an error, with a position, if the test selects
// nothing, names what is not listed, or asks what can't be asked.
func Run(g *gate.Gate, t *estate.Test, now clock.Instant) (Result, error) {
	return run([]*gate.Gate{g}, t, []*gate.Context{given(g, t, &now)})
}

// RunOf is Run as far as a test is about some subjects alone; of nobody it says nothing.
func RunOf(g *gate.Gate, t *estate.Test, now clock.Instant, among func(estate.Principal) bool) (Result, error) {
	r := running{gates: []*gate.Gate{g}, contexts: []*gate.Context{given(g, t, &now)}, among: among,
		Result: Result{Test: t, gate: g}}
	return r.run()
}

// RunOn is Run as far as a test without levels is about some listed resources alone, by rows. Beside says that each
// of its selections selects something else, too, so that it can be run of that alone.
func RunOn(g *gate.Gate, t *estate.Test, now clock.Instant, on func(row int) bool) (r Result, beside bool, err error) {
	some := running{gates: []*gate.Gate{g}, contexts: []*gate.Context{given(g, t, &now)}, on: on, beside: true,
		Result: Result{Test: t, gate: g}}
	r, err = some.run()
	return r, some.beside, err
}

// RunAll judges tests; what is wrong with any of them is reported together.
func RunAll(ctx context.Context, g *gate.Gate, tests []*estate.Test, now clock.Instant) ([]Result, error) {
	var results []Result
	var wrong diagnostic.List
	for _, t := range tests {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		r, err := Run(g, t, now)
		if list, ok := err.(diagnostic.List); ok {
			wrong = append(wrong, list...)
		} else if err != nil {
			return nil, err
		}
		results = append(results, r)
	}
	if len(wrong) > 0 {
		return nil, wrong.Sort()
	}
	return results, nil
}

// run judges a test by the first of some gates, and says of the others whether anything comes out otherwise.
func run(gates []*gate.Gate, t *estate.Test, contexts []*gate.Context) (Result, error) {
	r := running{gates: gates, contexts: contexts, Result: Result{Test: t, gate: gates[0]}}
	return r.run()
}

func (r *running) run() (Result, error) {
	t := r.Test
	for _, sel := range t.Allowed {
		if err := r.selection(sel, gate.Allow); err != nil || r.enough() {
			return r.Result, err
		}
	}
	for _, sel := range t.Denied {
		if err := r.selection(sel, gate.Deny); err != nil || r.enough() {
			return r.Result, err
		}
	}
	for _, rule := range t.Levels {
		if err := r.level(rule); err != nil || r.enough() {
			return r.Result, err
		}
	}
	return r.Result, nil
}

// running is a test on its way to a result.
type running struct {
	gates    []*gate.Gate
	contexts []*gate.Context             // of each
	among    func(estate.Principal) bool // whom alone it asks about; nil: everybody
	on       func(row int) bool          // of what alone it asks, by row; nil: of everything
	beside   bool                        // so far each selection selects something else, too
	compares bool                        // only whether the gates differ is asked
	Result
}

// enough says that all that is asked is known.
func (r *running) enough() bool { return r.compares && r.differs }

// members lists whom it asks about in a list.
func (r *running) members(list estate.Subjects) []estate.Principal {
	all := r.gates[0].Members(list)
	if r.among == nil {
		return all
	}
	return slices.DeleteFunc(all, func(p estate.Principal) bool { return !r.among(p) })
}

// given makes the context of a test's requests. A nil now leaves a time that is not given open.
func given(g *gate.Gate, t *estate.Test, now *clock.Instant) *gate.Context {
	c := g.NewContext()
	c.SayAll(&t.Given, now)
	return c
}

func wrong(at diagnostic.Position, t, format string, args ...any) error {
	return diagnostic.List{{Severity: diagnostic.Error, Position: at, Message: "test " + t + ": " +
		fmt.Sprintf(format, args...)}}
}

// places gives the rows of what a place selects. A plain address must be listed.
func places(g *gate.Gate, test string, place estate.ResourceTerm, at diagnostic.Position) ([]int, error) {
	if place.In != nil && place.In.Plain() && g.Estate().Listed(place.In.Address()) == nil {
		return nil, wrong(at, test, "%s is not listed", place.In)
	}
	return slices.Collect(g.Selected(estate.Resources{place})), nil
}

// ask asks about some subjects on some resources, class by class of those who are alike: each is told what comes of the
// operations on some rows, and done who they are, by their places. any says whether anything was asked.
func (r *running) ask(who []estate.Principal, rows []int, operations func(*estate.Operation) bool,
	each func(*counting.Told, []int), done func([]int)) (any bool, err error) {
	parts := counting.NewPortions(r.gates, r.contexts, operations, who, rows)
	for i := range parts.Classes {
		class := &parts.Classes[i]
		portions := parts.Of(class)
		first, err := parts.Ask(0, class, portions)
		if err != nil {
			return any, err
		}
		for n, told := range first {
			any = any || len(told.Operations) > 0
			each(told, portions[n].Rows)
		}
		for k := 1; k < len(r.gates); k++ {
			other, err := parts.Ask(k, class, portions)
			if err != nil {
				return any, err
			}
			for n := range other {
				r.differs = r.differs || !slices.Equal(first[n].Outcomes, other[n].Outcomes)
			}
		}
		if done(class.Subjects); r.enough() {
			break
		}
	}
	return any, nil
}

func (r *running) selection(sel estate.Selection, want gate.Outcome) error {
	g, t := r.gates[0], r.Test
	rows, err := places(g, t.ID, sel.Place, sel.Position)
	if err != nil {
		return err
	}
	fits := func(o *estate.Operation) bool { return sel.Operation.Fits(o, g.Estate().Edition) }
	if r.on != nil {
		r.beside = r.beside && slices.ContainsFunc(rows, func(row int) bool { return !r.on(row) && applies(g, row, fits) })
		rows = slices.DeleteFunc(rows, func(row int) bool { return !r.on(row) })
	}
	failed := failing{who: r.members(t.Who), Failure: Failure{Expected: want.String(), Position: sel.Position,
		Context: r.contexts[0], Single: true}}
	var wrongs []unmet
	any, err := r.ask(failed.who, rows, fits, func(told *counting.Told, rows []int) {
		for i, outcome := range told.Outcomes {
			if outcome != want {
				wrongs = append(wrongs, unmet{operation: told.Operations[i].Name, got: outcome.String(), rows: rows})
			}
		}
	}, func(who []int) {
		failed.add(who, wrongs)
		wrongs = nil
	})
	if err != nil {
		return wrong(sel.Position, t.ID, "%s", err)
	}
	if !any && r.among == nil && r.on == nil {
		return wrong(sel.Position, t.ID, "%q selects nothing%s", sel.Text, hint(g, t, sel, len(rows)))
	}
	r.failed = append(r.failed, failed)
	return nil
}

// applies says that one of some operations applies to the listed resource of a row.
func applies(g *gate.Gate, row int, operations func(*estate.Operation) bool) bool {
	tree := g.Estate().Tree
	at := tree.Rows[row]
	offer := g.Estate().Offer(tree.Systems[at.System].Kind.ID)
	return slices.ContainsFunc(offer.On(tree.Types[at.Type]), operations)
}

func hint(g *gate.Gate, t *estate.Test, sel estate.Selection, resources int) string {
	switch {
	case len(g.Members(t.Who)) == 0:
		return ": nobody is among who"
	case resources == 0:
		return ": no resource is there"
	case sel.Operation.Kind == estate.ByName && g.Estate().Operations[sel.Operation.Name] == nil:
		return ": there is no such operation"
	}
	return ": no such operation applies to what is there"
}

// reached is how far a subject gets in some resources: per level, whether something is allowed, and whether
// something is allowed or depends.
type reached struct{ some, open [4]bool }

func (l reached) String() string {
	for level := estate.Govern; level >= estate.View; level-- {
		if l.some[level] {
			return level.String()
		}
		if l.open[level] {
			return level.String() + ", which depends"
		}
	}
	return "none"
}

func (r *running) level(rule estate.LevelRule) error {
	g := r.gates[0]
	rows, err := places(g, r.Test.ID, rule.Place, rule.Position)
	if err != nil {
		return err
	}
	want := "none"
	if !rule.None {
		want = rule.Level.String()
		if rule.All {
			want = "all " + want
		}
	}
	failed := failing{who: r.members(estate.Subjects{{Principal: rule.Subject}}), Failure: Failure{Expected: want,
		Position: rule.Position, Context: r.contexts[0]}}
	var l reached
	var bad *unmet // the first operation that shows the rule is not met, if one does
	any, err := r.ask(failed.who, rows, nil, func(told *counting.Told, rows []int) {
		for i, o := range told.Operations {
			outcome := told.Outcomes[i]
			l.some[o.Level] = l.some[o.Level] || outcome == gate.Allow
			l.open[o.Level] = l.open[o.Level] || outcome != gate.Deny
			if above := rule.None || o.Level > rule.Level; bad == nil &&
				(above && outcome != gate.Deny || rule.All && !above && outcome != gate.Allow) {
				bad = &unmet{operation: o.Name, rows: rows[:1]}
			}
		}
	}, func(who []int) {
		switch {
		case bad != nil:
			bad.got = l.String()
			failed.add(who, []unmet{*bad})
		case !rule.None && !l.some[rule.Level] && !rule.All:
			failed.add(who, []unmet{{operation: "levels", got: l.String(), place: rule.Place.String()}})
		}
		l, bad = reached{}, nil
	})
	if err != nil {
		return wrong(rule.Position, r.Test.ID, "%s", err)
	}
	if !any && r.among == nil {
		return wrong(rule.Position, r.Test.ID, "the levels of %s on %s select nothing", rule.Subject, rule.Place)
	}
	r.failed = append(r.failed, failed)
	return nil
}

// HangsOnTheClock says whether a test that gives no time would come out differently at a later one. from is the gate of
// the estate as it is from now on.
func HangsOnTheClock(g, from *gate.Gate, t *estate.Test, now clock.Instant) bool {
	if t.Given.Time != nil {
		return false
	}
	contexts := []*gate.Context{given(g, t, &now), given(from, t, nil)}
	both := running{gates: []*gate.Gate{g, from}, contexts: contexts, compares: true, Result: Result{Test: t, gate: g}}
	r, err := both.run()
	if err != nil { // of the one or the other
		_, err = run([]*gate.Gate{g}, t, contexts[:1])
		return err == nil
	}
	return r.differs
}
