package change

import (
	"context"
	"errors"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/verify"
)

// Turned is a test or guarantee that comes out otherwise than before, or is new.
type Turned struct {
	What   string // "test" or "guarantee"
	ID     string
	Passes bool
	Fresh  bool
	// Wrong says why a test can't be run any more though nothing in it changes, as when nobody is left of whom it speaks.
	Wrong string
}

// Consequences is what an edit does beside the access itself.
type Consequences struct {
	Found, Gone []finding.Found
	Turned      []Turned
	Part        bool // not every finding was looked for
}

// Consequences works them out, as of now.
func (e *Effect) Consequences(ctx context.Context, now clock.Instant) (c Consequences, err error) {
	if e.Beyond > 0 {
		return c, errors.New("what an edit turns is not told of an effect on the first subjects alone")
	}
	if e.alone != nil { // all other findings are told of the same entry under its other id
		was, is := finding.OfIDs(e.Before, e.alone.Section, now), finding.OfIDs(e.After, e.alone.Section, now)
		c.Found, c.Gone = beyond(is, was), beyond(was, is)
		return c, nil
	}
	run := func(g *gate.Gate, _ *estate.Estate) ([]finding.Found, error) {
		return finding.RunButFor(ctx, g, now, func(t *estate.Test) bool { return e.bearingOn(t) == onNobody })
	}
	if c.Part = e.Part; c.Part {
		run = func(g *gate.Gate, about *estate.Estate) ([]finding.Found, error) {
			return finding.RunAbout(ctx, g, about, now)
		}
	}
	gates, err := e.everywhere()
	if err != nil {
		return c, err
	}
	old, fresh := e.Others()
	was, err := run(gates[0], old)
	if err != nil {
		return c, err
	}
	is, err := run(gates[1], fresh)
	if err != nil {
		return c, err
	}
	c.Found, c.Gone = beyond(is, was), beyond(was, is)
	c.Turned, err = e.Turned(ctx, now)
	return c, err
}

// Reasons is why somebody is asked before an edit is written.
type Reasons struct {
	Hands     []*estate.Operation // that somebody gets and that need a second look
	Red       []Turned            // tests and guarantees that passed and held
	Protected []estate.Principal  // who lose something though they are protected
	Findings  []finding.Found     // errors, ways to more, and names of what there is not
	Zone      bool                // local times are of another time zone
	// Systems that come to decide about addresses in no inventory, and such as come to refuse them.
	Decided, Refused []string
}

// Any says that there is a reason to ask.
func (r Reasons) Any() bool {
	return len(r.Hands)+len(r.Red)+len(r.Protected)+len(r.Findings)+len(r.Decided)+len(r.Refused) > 0 || r.Zone
}

// asked are the findings of which an edit that brings one is asked about, whatever their severity.
var asked = map[string]bool{"way-to-more": true, "unlisted-address": true, "unknown-operation": true}

// Reasons gives why somebody is asked before the edit is written. It is one rule for all edits.
func (e *Effect) Reasons(c Consequences) (out Reasons) {
	out.Hands, _ = e.Handed()
	out.Zone = e.Rezoned()
	out.Decided, out.Refused = e.Unlisted()
	for _, t := range c.Turned {
		if !t.Passes && !t.Fresh {
			out.Red = append(out.Red, t)
		}
	}
	for _, l := range slices.Concat(e.Lines, e.Coming) {
		if l.Way == Gains || l.Way == Wider || l.Way == Alike {
			continue
		}
		for _, p := range l.Subjects {
			if s := e.Before.Subject(p); s != nil && s.Protected && !slices.Contains(out.Protected, p) {
				out.Protected = append(out.Protected, p)
			}
		}
	}
	for _, f := range c.Found {
		if f.Severity == diagnostic.Error || asked[f.Code] {
			out.Findings = append(out.Findings, f)
		}
	}
	return out
}

// beyond gives the findings of one list that the other does not have, wherever they stand in the files.
func beyond(list, other []finding.Found) (out []finding.Found) {
	known := map[[2]string]bool{}
	for _, f := range other {
		known[[2]string{f.Code, f.Message}] = true
	}
	for _, f := range list {
		if !known[[2]string{f.Code, f.Message}] && f.Accepted == "" {
			out = append(out, f)
		}
	}
	return out
}

// Turned lists the tests and the guarantees that come out otherwise, or are new. Its error is a diagnostic.List if a
// test can't be run.
func (e *Effect) Turned(ctx context.Context, now clock.Instant) ([]Turned, error) {
	tests, err := e.tests(ctx, now)
	if err != nil {
		return nil, err
	}
	guarantees, err := e.guarantees(ctx, now)
	return append(tests, guarantees...), err
}

// restated says that an entry is not as it was, or names a scope that is not.
func (e *Effect) restated(section string, entry estate.Head) bool {
	if slices.Contains(e.altered[section], entry.Head().ID) {
		return true
	}
	if e.scopes == nil {
		e.scopes = setOf(e.altered["scopes"])
		for _, one := range []*estate.Estate{e.Before, e.After} {
			spread(e.scopes, one, "scopes")
		}
	}
	any := false
	policyfile.EachName(section, entry, func(_ string, n policyfile.Name) {
		any = any || n.Section == "scopes" && e.scopes[n.ID]
	})
	return any
}

// Rezoned says that local times are of another time zone than before.
func (e *Effect) Rezoned() bool { return e.Before.Zone.Name() != e.After.Zone.Name() }

// asItWas judges by the workspace before the change, and in its own time zone: where that changes, the pair's gate has
// hours and dates as the workspace after it.
func (e *Effect) asItWas() (*gate.Gate, error) {
	if !e.Rezoned() {
		gates, err := e.everywhere()
		return gates[0], err
	}
	return gate.Compile(e.Before, nil)
}

// reason says what is wrong, without the place.
func reason(err error) string {
	var list diagnostic.List
	if errors.As(err, &list) && len(list) > 0 {
		return list[0].Message
	}
	return err.Error()
}

func (e *Effect) guarantees(ctx context.Context, now clock.Instant) (out []Turned, err error) {
	if len(e.After.Guarantees) == 0 {
		return nil, nil
	}
	before, err := e.asItWas()
	if err != nil {
		return nil, err
	}
	gates, err := e.everywhere()
	if err != nil {
		return nil, err
	}
	of := func(only map[estate.Principal]bool) (p [2]*verify.Prover) {
		for k, g := range []*gate.Gate{before, gates[1]} {
			p[k] = verify.NewProver(g, verify.Of{Since: now, Only: only, Base: e.baseOf(differing.Side(k))})
		}
		return p
	}
	all, few := of(nil), of(e.others)
	var rest *verify.Prover // about all others
	if e.others != nil && e.known() && !e.Rezoned() {
		rest = verify.NewProver(e.base, verify.Of{Since: now, But: e.others, Base: e.base})
	}
	for _, g := range estate.Sorted(e.After.Guarantees) {
		was := e.Before.Guarantees[g.ID]
		if was != nil && (e.others != nil || e.onlyRelisted()) && !e.restated("guarantees", g) {
			if same, err := e.same(ctx, few, was, g, now); err != nil || same {
				if err != nil {
					return nil, err
				}
				continue
			}
			if rest != nil && !verify.KindOf(g).Together {
				turned, err := e.turns(ctx, few[1], rest, g)
				if err != nil {
					return nil, err
				}
				out = append(out, turned...)
				continue
			}
		}
		failed := false
		if was != nil {
			if failed, err = all[0].Fails(ctx, was); err != nil {
				return nil, err
			}
		}
		fails, err := all[1].Fails(ctx, g)
		if err != nil {
			return nil, err
		}
		if was == nil || fails != failed {
			out = append(out, Turned{What: "guarantee", ID: g.ID, Passes: !fails, Fresh: was == nil})
		}
	}
	return out, nil
}

// turns gives a guarantee that comes out otherwise for those whose access can differ, if no others make it fail anyway.
func (e *Effect) turns(ctx context.Context, few, rest *verify.Prover, g *estate.Guarantee) ([]Turned, error) {
	if anyway, err := rest.Fails(ctx, g); err != nil || anyway {
		return nil, err
	}
	fails, err := few.Fails(ctx, g)
	return []Turned{{What: "guarantee", ID: g.ID, Passes: !fails}}, err
}

// same says that a guarantee comes out as before, as far as that can be told from those alone whose access can differ.
// What it says of each subject by itself it says of them likewise; the others count people, or hold them against one
// another.
func (e *Effect) same(ctx context.Context, few [2]*verify.Prover, was, is *estate.Guarantee, now clock.Instant,
) (bool, error) {
	kind := verify.KindOf(is)
	switch {
	case e.others != nil && len(e.others) == 0:
		return true, nil
	case e.onlyRelisted() && e.sinceThen(now) && e.alike(is.Subjects) &&
		(!e.meetsRelisted(is.On) || !kind.Missing && !e.reaches(is)):
		return true, nil
	case e.settled(now, is.On) && !e.reaches(is) && e.alike(is.Subjects):
		return true, nil
	case e.others == nil:
		return false, nil
	}
	if kind.Headcount && was.Count == is.Count {
		before, err := few[0].People(ctx, was)
		if err != nil {
			return false, err
		}
		after, err := few[1].People(ctx, is)
		return before == after, err
	} else if kind.Together {
		return len(e.about(is.May, e.Lines)) == 0 && e.alike(is.Subjects), nil
	}
	failed, err := few[0].Fails(ctx, was)
	if err != nil {
		return false, err
	}
	fails, err := few[1].Fails(ctx, is)
	return failed == fails, err
}

// alike says that a list selects the same subjects as before.
func (e *Effect) alike(list estate.Subjects) bool {
	return slices.Equal(e.Gates.Old.Of(list), e.Gates.New.Of(list))
}
