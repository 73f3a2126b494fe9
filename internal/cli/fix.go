package cli

import (
	"fmt"
	"strings"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/gate"
	"hiddengate/internal/view"
)

// mostFixes bounds how many edits are told.
const mostFixes = 6

// fix proposes edits that would allow a request, or stop it.
func (a *app) fix(g *gate.Gate, req gate.Request, said string, lent bool) error {
	if lent {
		return fmt.Errorf("--fix is about what stands; leave --lent out")
	}
	outcome, err := g.Decide(req)
	if err != nil {
		return err
	}
	now := clock.Of(a.now())
	done := a.progress("trying edits")
	fixes, untried, err := change.Fixes(a.ctx, g, req, now, mostFixes, a.format == "json", quoted)
	var turns []change.Consequences // of those that are told
	for i := 0; err == nil && i < min(len(fixes), mostFixes); i++ {
		var one change.Consequences
		one, err = fixes[i].Effect.Consequences(a.ctx, now)
		turns = append(turns, one)
	}
	done()
	if err != nil {
		return err
	}
	if a.format == "json" {
		err = a.fixJSON(fixed{outcome, fixes, untried, turns})
	} else {
		a.fixText(fixed{outcome, fixes, untried, turns}, req, said)
	}
	if err == nil && outcome != gate.Allow {
		err = answered(exitNo)
	}
	return err
}

// fixed is the answer to a request, with edits that would turn it and what the first of them turn beside.
type fixed struct {
	outcome gate.Outcome
	fixes   []change.Fix
	untried int
	turns   []change.Consequences
}

func (a *app) fixText(f fixed, req gate.Request, said string) {
	outcome, fixes := f.outcome, f.fixes
	p := a.page(a.Out)
	v := verdicts[outcome]
	p.Line("%s  %s  %s  %s", p.Paint(v.style, v.word), req.Subject, req.Operation, req.Resource)
	p.Line("%s", p.Paint(view.Faint, said))
	word := "allow"
	if outcome == gate.Allow {
		word = "stop"
	}
	if len(fixes) == 0 {
		p.Line("\nNo edit of one kind would %s it; `hgate try` without --fix says why it is so.", word)
		return
	}
	p.Line("\n%s", p.Paint(view.Heading, "Edits that would "+word+" it, least side effect first"))
	for i, one := range fixes[:min(len(fixes), mostFixes)] {
		p.Line("\n  %s", p.Paint(view.Maybe, one.Kind))
		for _, c := range one.Commands {
			p.Line("    %s", c)
		}
		p.Table(4, nil, [][]view.Cell{{{Text: besideOf(one), Style: view.Faint}}})
		for _, text := range turnsText(p, f.turns[i]) {
			p.Table(4, nil, [][]view.Cell{{{Text: text}}})
		}
	}
	if more := len(fixes) - mostFixes; more > 0 {
		p.Line("\n  and %d more: --format json lists them", more)
	}
	switch {
	case f.untried == 1:
		p.Line("\n  1 edit that seems broader was not tried")
	case f.untried > 1:
		p.Line("\n  %d edits that seem broader were not tried", f.untried)
	}
}

// turnsText says which tests and guarantees come out otherwise by an edit, and which findings come and go.
func turnsText(p *view.Page, c change.Consequences) (out []string) {
	for _, passes := range []bool{false, true} {
		style := map[bool]view.Style{false: view.No, true: view.Yes}[passes]
		for _, what := range []string{"test", "guarantee"} {
			var ids []string
			for _, t := range c.Turned {
				if t.What == what && t.Passes == passes && !t.Fresh {
					ids = append(ids, t.ID)
				}
			}
			if len(ids) > 0 {
				out = append(out, plural(len(ids), what)+" "+view.And(ids)+" "+
					p.Paint(style, map[bool]string{false: "would fail", true: "would come right"}[passes]))
			}
		}
	}
	if len(c.Found) > 0 {
		out = append(out, p.Paint(view.Maybe, "new "+plural(len(c.Found), "finding"))+" "+codesOf(c.Found))
	}
	if len(c.Gone) > 0 {
		out = append(out, plural(len(c.Gone), "finding")+" resolved: "+codesOf(c.Gone))
	}
	return out
}

func besideOf(f change.Fix) string {
	b := f.Beside
	if f.Weight <= 1 && !b.Coming {
		return "nothing else changes"
	}
	verb, to := "changes", "for"
	switch {
	case f.Gives:
		verb, to = "gives", "to"
	case f.Takes:
		verb, to = "takes", "from"
	}
	what := count(len(b.Operations), "operation")
	if len(b.Operations) <= 3 {
		what = strings.Join(b.Operations, ", ")
	}
	text := fmt.Sprintf("%s %s on %s, %s ", verb, what, count(b.Resources, "resource"), to)
	switch b.Others {
	case 0:
		text += "nobody else"
	case 1:
		text += "one other too"
	default:
		text += fmt.Sprintf("%d others too", b.Others)
	}
	if b.Coming {
		text += "; on what is added later, too"
	}
	return text
}

func (a *app) fixJSON(of fixed) error {
	fixes, turns := of.fixes, of.turns
	told := func(yield func(any) bool) error {
		for i, f := range fixes {
			one := []jsonPart{{"kind", f.Kind}, {"commands", f.Commands}, {"beside", f.Beside}}
			if i < len(turns) { // of those that come first
				if len(f.Effect.Lines) > 0 {
					one = append(one, jsonPart{"changes", lostOrGained(f.Effect, "        ")})
				}
				if texts := turnsText(&view.Page{}, turns[i]); len(texts) > 0 {
					one = append(one, jsonPart{"turns", texts})
				}
			}
			if !yield(one) {
				return nil
			}
		}
		return nil
	}
	parts := []jsonPart{{"decision", of.outcome.String()}, {"fixes", elements(told)}}
	if of.untried > 0 {
		parts = append(parts, jsonPart{"untried", of.untried})
	}
	return a.jsonObject(parts...)
}

// lostOrGained tells an effect cell by cell, each with what becomes of it.
func lostOrGained(e *change.Effect, indent string) elements {
	all := cells{e, indent, func(*change.Line) bool { return true }, false, func(r change.Row, _ []change.Cause) any {
		return map[string]string{"subject": r.Subject.String(), "operation": r.Operation, "resource": r.Resource,
			"change": r.Line.Way.Word()}
	}}
	return all.each
}
