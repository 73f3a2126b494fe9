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
)

// Result is what became of one test.
type Result struct {
	Test     *estate.Test
	Failures []Failure
	outcomes []gate.Outcome // of every decision made
}

// Passed says whether every expectation was met.
func (r Result) Passed() bool { return len(r.Failures) == 0 }

// Failure is one expectation that was not met. Expected and Got are outcomes, or levels.
type Failure struct {
	Subject   estate.Principal
	Operation string // the operation, or what a levels rule speaks of
	Resource  string
	Expected  string
	Got       string
	Position  diagnostic.Position
	Context   *gate.Context // of the request, to explain it
	Single    bool          // one request can show it
}

// Run judges a test; now is its time where it gives none. It is an error, with a position, if the test selects
// nothing, names what is not listed, or asks what can't be asked.
func Run(g *gate.Gate, t *estate.Test, now clock.Instant) (Result, error) {
	return run(g, t, given(g, t, &now))
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

func run(g *gate.Gate, t *estate.Test, c *gate.Context) (Result, error) {
	r := running{gate: g, context: c, Result: Result{Test: t}}
	for _, sel := range t.Allowed {
		if err := r.selection(sel, gate.Allow); err != nil {
			return r.Result, err
		}
	}
	for _, sel := range t.Denied {
		if err := r.selection(sel, gate.Deny); err != nil {
			return r.Result, err
		}
	}
	for _, rule := range t.Levels {
		if err := r.level(rule); err != nil {
			return r.Result, err
		}
	}
	return r.Result, nil
}

// running is a test on its way to a result.
type running struct {
	gate    *gate.Gate
	context *gate.Context
	Result
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

// places lists what a place selects. A plain address must be listed.
func places(g *gate.Gate, test string, place estate.ResourceTerm, at diagnostic.Position) ([]*estate.Resource, error) {
	if place.In != nil && place.In.Plain() && g.Estate().Listed(place.In.Address()) == nil {
		return nil, wrong(at, test, "%s is not listed", place.In)
	}
	return g.Resources(estate.Resources{place}), nil
}

func (r *running) selection(sel estate.Selection, want gate.Outcome) error {
	g, t, c := r.gate, r.Test, r.context
	resources, err := places(g, t.ID, sel.Place, sel.Position)
	if err != nil {
		return err
	}
	sought := gate.Sought{Context: c, Resources: slices.Values(resources),
		Operations: func(o *estate.Operation) bool { return sel.Operation.Fits(o, g.Estate().Edition) }}
	before := len(r.outcomes)
	for _, who := range g.Members(t.Who) {
		err := g.Answers(who, sought, func(a gate.Answer) bool {
			r.outcomes = append(r.outcomes, a.Outcome)
			if a.Outcome != want {
				r.Failures = append(r.Failures, Failure{
					Subject: who, Operation: a.Operation.Name, Resource: a.Resource.Address.String(),
					Expected: want.String(), Got: a.Outcome.String(), Position: sel.Position, Context: c, Single: true,
				})
			}
			return true
		})
		if err != nil {
			return wrong(sel.Position, t.ID, "%s", err)
		}
	}
	if len(r.outcomes) == before {
		return wrong(sel.Position, t.ID, "%q selects nothing%s", sel.Text, hint(g, t, sel, resources))
	}
	return nil
}

func hint(g *gate.Gate, t *estate.Test, sel estate.Selection, resources []*estate.Resource) string {
	switch {
	case len(g.Members(t.Who)) == 0:
		return ": nobody is among who"
	case len(resources) == 0:
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
	g, c := r.gate, r.context
	resources, err := places(g, r.Test.ID, rule.Place, rule.Position)
	if err != nil {
		return err
	}
	members := g.Members(estate.Subjects{{Principal: rule.Subject}})
	before := len(r.outcomes)
	for _, who := range members {
		var l reached
		var bad gate.Answer // the operation that shows the rule is not met, if one does
		var badFound bool
		err := g.Answers(who, gate.Sought{Context: c, Resources: slices.Values(resources)}, func(a gate.Answer) bool {
			r.outcomes = append(r.outcomes, a.Outcome)
			level := a.Operation.Level
			l.some[level] = l.some[level] || a.Outcome == gate.Allow
			l.open[level] = l.open[level] || a.Outcome != gate.Deny
			if above := rule.None || level > rule.Level; !badFound &&
				(above && a.Outcome != gate.Deny || rule.All && !above && a.Outcome != gate.Allow) {
				bad, badFound = a, true
			}
			return true
		})
		if err != nil {
			return wrong(rule.Position, r.Test.ID, "%s", err)
		}
		met, want := !badFound, "none"
		if !rule.None {
			want = rule.Level.String()
			if rule.All {
				want = "all " + want
			}
			met = met && (l.some[rule.Level] || rule.All)
		}
		if !met {
			f := Failure{Subject: who, Operation: "levels", Resource: rule.Place.String(), Expected: want, Got: l.String(),
				Position: rule.Position, Context: c}
			if badFound {
				f.Operation, f.Resource, f.Single = bad.Operation.Name, bad.Resource.Address.String(), true
			}
			r.Failures = append(r.Failures, f)
		}
	}
	if len(r.outcomes) == before {
		return wrong(rule.Position, r.Test.ID, "the levels of %s on %s select nothing", rule.Subject, rule.Place)
	}
	return nil
}

// HangsOnTheClock says whether a test that gives no time would come out differently at a later one. from is the gate of
// the estate as it is from now on.
func HangsOnTheClock(g, from *gate.Gate, t *estate.Test, now clock.Instant) bool {
	if t.Given.Time != nil {
		return false
	}
	today, err := Run(g, t, now)
	if err != nil {
		return false
	}
	ever, err := run(from, t, given(from, t, nil))
	return err != nil || !slices.Equal(today.outcomes, ever.outcomes)
}
