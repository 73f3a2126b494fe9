package cli

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
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
	done := a.working("trying edits")
	fixes, err := change.Fixes(g, req, clock.Of(a.now()), quoted)
	done()
	if err != nil {
		return err
	}
	if a.format == "json" {
		return a.fixJSON(outcome, fixes)
	}
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
		return nil
	}
	p.Line("\n%s", p.Paint(view.Heading, "Edits that would "+word+" it, least side effect first"))
	for _, f := range fixes[:min(len(fixes), mostFixes)] {
		p.Line("\n  %s", p.Paint(view.Maybe, f.Kind))
		for _, c := range f.Commands {
			p.Line("    %s", c)
		}
		p.Line("    %s", p.Paint(view.Faint, besideOf(f, req)))
	}
	if more := len(fixes) - mostFixes; more > 0 {
		p.Line("\n  and %d more: --format json lists them", more)
	}
	return nil
}

// beside is what an edit does apart from the request: to how many others, and what more for the one who asks.
type beside struct {
	Others     int      `json:"others"`
	Operations []string `json:"operations"`
	Resources  int      `json:"resources"`
	Coming     bool     `json:"coming,omitempty"` // it is about what may come, too
}

func besides(f change.Fix, req gate.Request) beside {
	others, names, places := map[estate.Principal]bool{}, map[string]bool{}, map[string]bool{}
	for _, l := range f.Effect.Lines {
		for _, who := range l.Subjects {
			if who != req.Subject {
				others[who] = true
			}
		}
		for _, o := range l.Operations {
			names[o] = true
		}
		for _, pile := range l.Piles {
			for at := range pile.Addresses() {
				places[at] = true
			}
		}
	}
	out := beside{Others: len(others), Operations: []string{}, Resources: len(places), Coming: len(f.Effect.Coming) > 0}
	for name := range names {
		out.Operations = append(out.Operations, name)
	}
	slices.Sort(out.Operations)
	return out
}

func besideOf(f change.Fix, req gate.Request) string {
	b := besides(f, req)
	if f.Weight <= 1 {
		return "nothing else changes"
	}
	verb, to := "changes", "for"
	if !slices.ContainsFunc(f.Effect.Lines, func(l change.Line) bool { return !l.Way.More() }) {
		verb, to = "gives", "to"
	} else if !slices.ContainsFunc(f.Effect.Lines, func(l change.Line) bool { return l.Way.More() }) {
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
		text += "; what comes later is concerned too"
	}
	return text
}

func (a *app) fixJSON(outcome gate.Outcome, fixes []change.Fix) error {
	type row struct {
		Kind     string              `json:"kind"`
		Commands []string            `json:"commands"`
		Changes  []map[string]string `json:"changes"`
	}
	rows := []row{}
	for _, f := range fixes {
		one := row{f.Kind, f.Commands, []map[string]string{}}
		f.Effect.Rows(func(r change.Row) {
			one.Changes = append(one.Changes, map[string]string{"subject": r.Subject.String(), "operation": r.Operation,
				"resource": r.Resource, "change": kindOf(r.Line.Way)})
		})
		rows = append(rows, one)
	}
	return a.json(map[string]any{"decision": outcome.String(), "fixes": rows})
}
