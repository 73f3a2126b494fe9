package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/further"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
	"hiddengate/internal/trial"
	"hiddengate/internal/view"
)

func (a *app) proveCommand() *cobra.Command {
	var that string
	var inForce, eventual bool
	c := &cobra.Command{
		Use:   "prove [NAME…]",
		Short: "Prove the guarantees of the workspace, or refute them",
		Long: `Judges every guarantee, or those named, over all subjects, all resources and all contexts from now (or --at) on: what holds is
proved, not sampled. Where a system judges unlisted resources, those that may come are looked at too. One that fails comes with a
request that shows it, which was decided, and with the fewest grants that make it so.

--that judges one statement that is in no file:
  only SUBJECTS may OPERATIONS on PLACES          nobody but these may
  never SUBJECTS may OPERATIONS on PLACES         none of these may
  at-most N may OPERATIONS on PLACES              no more people may
  at-least N may OPERATIONS on PLACES [for 30d]   so many people may, at every moment ahead (a week)
  never-both OPERATION and OPERATION on PLACES [same-resource]
  apart group:ONE, group:OTHER may OPERATIONS on PLACES
  may OPERATIONS on PLACES requires {mfa: true}   whoever may, only under this condition

Grants on request count as if they were lent; with --in-force only what is lent does. With --eventual
also what somebody could get by steps: opening another's account, setting tags that a scope reads, joining a
group that they look after. A failure then shows the shortest chain. It exits with 1 if one fails.`,
		Example: `  hgate prove
  hgate prove visitors-alter-no-data --format json
  hgate prove --eventual
  hgate prove --that 'never group:visitors may from change on obsdb:sky'`,
		ValidArgsFunction: a.completeSection("guarantees"),
	}
	a.moment(c)
	c.Flags().StringVar(&that, "that", "", "judge this `statement`")
	c.Flags().BoolVar(&inForce, "in-force", false, "count what is lent, not what could be on request")
	c.Flags().BoolVar(&eventual, "eventual", false, "count what can still be got, step by step, through operations that open more")
	c.MarkFlagsMutuallyExclusive("in-force", "eventual")
	c.RunE = func(_ *cobra.Command, args []string) error {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		now, err := a.day(g.Estate().Zone)
		if err != nil {
			return err
		}
		var chosen []*estate.Guarantee
		switch {
		case that != "" && len(args) > 0:
			return fmt.Errorf("--that is judged by itself; leave %s out", strings.Join(args, " "))
		case that != "":
			if g, chosen, err = a.stated(that); err != nil {
				return fmt.Errorf("--that: %w", err)
			}
		case len(args) == 0:
			chosen = estate.Sorted(g.Estate().Guarantees)
		}
		for _, name := range args {
			one := g.Estate().Guarantees[name]
			if one == nil {
				return unknown("guarantee", name, ids(g.Estate().Section("guarantees")))
			}
			chosen = append(chosen, one)
		}
		of := trial.Of{Since: now, InForce: inForce}
		if eventual {
			done := a.working("looking for ways to more")
			of.Ways, err = further.Work(g.Estate(), now)
			done()
			if err != nil {
				return err
			}
		}
		prover := trial.NewProver(g, of)
		var verdicts []trial.Verdict
		for _, one := range chosen {
			done := a.working("proving " + one.ID)
			v, err := prover.Judge(one)
			done()
			if err != nil {
				return err
			}
			if v.Empty && that != "" {
				return fmt.Errorf("--that: it speaks of nothing: no operation that it names applies to anything it names")
			}
			verdicts = append(verdicts, v)
		}
		switch {
		case a.format == "json":
			err = a.proveJSON(g, verdicts)
		case that != "":
			a.verdictText(a.page(a.Out), g, verdicts[0], "")
		default:
			a.proveText(g, verdicts)
		}
		if err == nil && slices.ContainsFunc(verdicts, func(v trial.Verdict) bool { return !v.Holds() }) {
			err = answered(exitNo)
		}
		return err
	}
	a.formats(c, "text", "json")
	return c
}

// stated compiles the workspace with a statement as a guarantee of its own.
func (a *app) stated(text string) (*gate.Gate, []*estate.Guarantee, error) {
	value, err := trial.Statement(text)
	if err != nil {
		return nil, nil, err
	}
	body, err := splice.Value(value)
	if err != nil {
		return nil, nil, fmt.Errorf("it can't be read: %w", err)
	}
	root, dir, err := a.workspace()
	if err != nil {
		return nil, nil, err
	}
	defer root.Close()
	defer a.release()
	before, _, err := a.estateIn(root, dir)
	if err != nil {
		return nil, nil, err
	}
	id, file := "that", "that.yaml"
	for taken := true; taken; {
		_, err := root.Stat(file)
		if taken = err == nil || before.Guarantees[id] != nil; taken {
			id, file = id+"-", "that-"+file
		}
	}
	d := draft.New(root.FS(), before)
	if err := d.Add("guarantees", id, body, file); err != nil {
		return nil, nil, err
	}
	e, err := policyfile.Reload(root.FS(), d.FS(), before, []string{file})
	var list diagnostic.List
	if errors.As(err, &list) {
		for _, d := range list {
			if d.Position.File == file {
				return nil, nil, fmt.Errorf("%s; %s", d.Message, d.Help)
			}
		}
	}
	if err != nil {
		return nil, nil, err
	}
	g, err := gate.Compile(e, nil)
	if err != nil {
		return nil, nil, err
	}
	return g, []*estate.Guarantee{e.Guarantees[id]}, nil
}

// saidIn writes what a guarantee says, as --that reads it.
func saidIn(g *gate.Gate, gu *estate.Guarantee) string {
	on := " on " + strings.Join(texts(gu.On), ", ")
	may := "may " + strings.Join(texts(gu.May), ", ")
	switch gu.Kind {
	case estate.OnlyMay, estate.NeverMay, estate.Apart:
		return string(gu.Kind) + " " + strings.Join(texts(gu.Subjects), ", ") + " " + may + on
	case estate.AtLeast, estate.AtMost:
		return fmt.Sprintf("%s %d %s%s", gu.Kind, gu.Count, may, on)
	case estate.NeverBoth:
		if gu.SameResource {
			on += " same-resource"
		}
		return "never-both " + strings.Join(texts(gu.Both), " and ") + on
	}
	return may + on + " requires: " + g.When(gu.Requires, nil, nil)
}

func (a *app) proveText(g *gate.Gate, verdicts []trial.Verdict) {
	p := a.page(a.Out)
	if len(verdicts) == 0 {
		p.Line("There are no guarantees. Judge one with --that, or write it down with `hgate add guarantee`.")
		return
	}
	failed := 0
	for _, v := range verdicts {
		if !v.Holds() {
			failed++
		}
	}
	word := "guarantees hold"
	if len(verdicts) == 1 {
		word = "guarantee holds"
	}
	p.Line("%s", p.Paint(view.Heading, fmt.Sprintf("%d of %d %s", len(verdicts)-failed, len(verdicts), word)))
	for _, fails := range []bool{true, false} {
		for _, v := range verdicts {
			if v.Holds() == fails {
				continue
			}
			p.Line("")
			a.verdictText(p, g, v, v.Guarantee.ID+"  "+p.Paint(view.Faint, v.Guarantee.Source.Short()))
		}
	}
}

// verdictText tells what became of a guarantee, by its name if it has one.
func (a *app) verdictText(p *view.Page, g *gate.Gate, v trial.Verdict, name string) {
	verdict := p.Paint(view.Yes, "HOLDS")
	if !v.Holds() {
		verdict = p.Paint(view.No, "FAILS")
	}
	if name == "" {
		p.Line("%s  %s", verdict, saidIn(g, v.Guarantee))
	} else {
		p.Line("%s  %s", verdict, name)
		p.Table(7, nil, [][]view.Cell{{{Text: saidIn(g, v.Guarantee)}}})
	}
	if v.Empty {
		p.Line("       It speaks of nothing: no operation that it names applies to anything it names.")
	}
	if !v.Holds() {
		a.witnessText(p, g, v)
	}
}

// witnessText tells why a guarantee fails, and how to see it.
func (a *app) witnessText(p *view.Page, g *gate.Gate, v trial.Verdict) {
	w, e := v.Witness, g.Estate()
	if v.Guarantee.Kind == estate.AtLeast {
		left := "nobody can"
		if len(w.Left) > 0 {
			left = "only " + strings.Join(texts(w.Left), ", ") + " can"
		}
		p.Line("       on %s at %s %s", p.Paint(view.Heading, w.Resource), p.Paint(view.Heading, e.Zone.Format(w.At)), p.Paint(view.Heading, left))
		p.Line("       %s", holdersLine(e, v))
		return
	}
	for _, r := range w.Reached {
		p.Line("       %s can get to %s on %s", p.Paint(view.Heading, r.Subject.String()), p.Paint(view.Heading, r.Operation), p.Paint(view.Heading, r.Resource))
		if e.Tree.Find(r.Resource) < 0 {
			p.Line("         a resource that may come: it is not listed yet")
		}
		chainText(p, 9, e, r.Chain, r.Operation, r.Resource)
	}
	if w.Reached != nil {
		return
	}
	for _, r := range w.Requests {
		p.Line("       %s may %s on %s", p.Paint(view.Heading, r.Subject.String()), p.Paint(view.Heading, r.Operation), p.Paint(view.Heading, r.Resource))
		if e.Tree.Find(r.Resource) < 0 {
			p.Line("         a resource that may come: it is not listed yet")
		}
		if r.Lent != "" {
			p.Line("         once grant %s is lent to them", r.Lent)
		}
		p.Line("         %s", tryLine(e, r))
	}
	var because []string
	for _, id := range w.Grants {
		because = append(because, fmt.Sprintf("grant %s %s", id, p.Paint(view.Faint, e.Grants[id].Source.Short())))
	}
	p.Line("       made so by %s", strings.Join(because, " with "))
	if len(w.Also) > 0 {
		p.Line("       and likewise by grant %s", strings.Join(w.Also, ", "))
	}
}

// tryLine writes the command that decides a witness's request.
func tryLine(e *estate.Estate, r trial.Shown) string {
	said := r.Context.Said()
	var at *clock.Instant
	if moment, ok := r.Context.Moment(); ok {
		at = &moment
	}
	line := fmt.Sprintf("hgate try %s %s %s%s", r.Subject, r.Operation, quoted(r.Resource), askFlags(e.Zone, at, said, r.Context.Roles))
	if r.Lent != "" {
		line += " --lent " + r.Lent
	}
	return line
}

// holdersLine writes the command that shows who is left.
func holdersLine(e *estate.Estate, v trial.Verdict) string {
	return fmt.Sprintf("hgate holders %s %s --at %s", quoted(v.Guarantee.May[0].String()), quoted(v.Witness.Resource), quoted(e.Zone.Format(v.Witness.At)))
}

// requestJSON is a request of try.
type requestJSON struct {
	Subject   string            `json:"subject"`
	Operation string            `json:"operation"`
	Resource  string            `json:"resource"`
	Time      string            `json:"time,omitempty"`
	Network   string            `json:"network,omitempty"`
	MFA       *bool             `json:"mfa,omitempty"`
	SignIn    string            `json:"sign-in,omitempty"`
	Reason    *bool             `json:"reason,omitempty"`
	Ticket    *bool             `json:"ticket,omitempty"`
	Context   map[string]string `json:"context,omitempty"`
	Roles     []string          `json:"roles,omitempty"`
	Lent      string            `json:"lent,omitempty"`
	Command   string            `json:"command"`
}

func requestOf(e *estate.Estate, r trial.Shown) requestJSON {
	said := r.Context.Said()
	out := requestJSON{
		Subject: r.Subject.String(), Operation: r.Operation, Resource: r.Resource, MFA: said.MFA, SignIn: said.SignIn, Reason: said.Reason, Ticket: said.Ticket,
		Context: said.Attributes, Roles: r.Context.Roles, Lent: r.Lent, Command: tryLine(e, r),
	}
	if at, ok := r.Context.Moment(); ok {
		out.Time = e.Zone.Format(at)
	}
	if said.Network != nil {
		out.Network = said.Network.String()
	}
	return out
}

func (a *app) proveJSON(g *gate.Gate, verdicts []trial.Verdict) error {
	type shortage struct {
		Resource string   `json:"resource"`
		Time     string   `json:"time"`
		Left     []string `json:"left"`
		Command  string   `json:"command"`
	}
	type guarantee struct {
		Name     string        `json:"name"`
		Holds    bool          `json:"holds"`
		Says     string        `json:"says"`
		Empty    bool          `json:"empty,omitempty"`
		Witness  any           `json:"witness,omitempty"`
		Requests []requestJSON `json:"requests,omitempty"`
		Grants   []string      `json:"grants,omitempty"`
		Also     []string      `json:"also,omitempty"`
		Reached  []gotJSON     `json:"reached,omitempty"`
	}
	out := struct {
		Guarantees []guarantee `json:"guarantees"`
	}{[]guarantee{}}
	e := g.Estate()
	for _, v := range verdicts {
		one := guarantee{Name: v.Guarantee.ID, Empty: v.Empty, Holds: v.Holds(), Says: saidIn(g, v.Guarantee)}
		switch w := v.Witness; {
		case v.Holds():
		case v.Guarantee.Kind == estate.AtLeast:
			one.Witness = shortage{w.Resource, e.Zone.Format(w.At), append([]string{}, texts(w.Left)...), holdersLine(e, v)}
		default:
			for _, r := range w.Requests {
				one.Requests = append(one.Requests, requestOf(e, r))
			}
			if len(one.Requests) > 0 {
				one.Witness = one.Requests[0]
			}
			one.Grants, one.Also = w.Grants, w.Also
			for _, r := range w.Reached {
				one.Reached = append(one.Reached, gotJSON{r.Subject.String(), r.Operation, r.Resource, r.As.String(), stepsJSON(r.Chain)})
			}
			if len(one.Reached) > 0 {
				one.Witness = one.Reached[0]
			}
		}
		out.Guarantees = append(out.Guarantees, one)
	}
	return a.json(out)
}
