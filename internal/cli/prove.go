package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/draft"
	"hiddengate/internal/escalation"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
	"hiddengate/internal/verify"
	"hiddengate/internal/view"
)

func (a *app) proveCommand() *cobra.Command {
	var that string
	var inForce, eventual, all bool
	c := &cobra.Command{
		Use:   "prove [NAME…]",
		Short: "Prove the guarantees of the workspace, or refute them",
		Long: `Judges every guarantee, or those named, over all subjects, all resources and all contexts from now
(or --at) on: what holds is proved, not sampled. Where a system judges unlisted resources, those
that may come are looked at too. One that fails comes with a request that shows it, which was
decided, and with the fewest grants that make it so.

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
group that they look after. A failure then shows the shortest chain. It exits with 1 if one fails. Of
more than twenty that fail it tells the first, and of more than a hundred guarantees those alone that
fail, unless with --all.`,
		Example: `  hgate prove
  hgate prove visitors-alter-no-data --format json
  hgate prove --eventual
  hgate prove --that 'never group:visitors may from change on obsdb:sky'`,
		ValidArgsFunction: a.completeSection("guarantees"),
	}
	a.moment(c)
	c.Flags().StringVar(&that, "that", "", "judge this `statement`")
	c.Flags().BoolVar(&inForce, "in-force", false, "count what is lent, not what could be on request")
	c.Flags().BoolVar(&eventual, "eventual", false,
		"count what can still be got, step by step, through operations that open more")
	c.Flags().BoolVar(&all, "all", false, "as text: tell of all, however many there are")
	c.MarkFlagsMutuallyExclusive("in-force", "eventual")
	c.RunE = func(_ *cobra.Command, args []string) error {
		if that != "" && len(args) > 0 {
			return fmt.Errorf("--that is judged by itself; leave %s out", strings.Join(args, " "))
		}
		g, chosen, err := a.compiledWith(that)
		if err != nil {
			return err
		}
		now, err := a.day(g.Estate().Zone)
		if err != nil {
			return err
		}
		if that == "" && len(args) == 0 {
			chosen = estate.Sorted(g.Estate().Guarantees)
		}
		for _, name := range args {
			one := g.Estate().Guarantees[name]
			if one == nil {
				return unknown("guarantee", name, ids(g.Estate().Section("guarantees")))
			}
			chosen = append(chosen, one)
		}
		of := verify.Of{Since: now, InForce: inForce}
		if eventual {
			done := a.progress("looking for ways to more")
			of.Ways, err = escalation.Work(a.ctx, g.Estate(), now, g)
			done()
			if err != nil {
				return err
			}
			a.sayUnseen(of.Ways)
		}
		prover := verify.NewProver(g, of)
		var verdicts []verify.Verdict
		for _, one := range chosen {
			done := a.progress("proving " + one.ID)
			v, err := prover.Judge(a.ctx, one)
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
			a.proveText(g, verdicts, all || len(args) > 0)
		}
		if err == nil && slices.ContainsFunc(verdicts, func(v verify.Verdict) bool { return !v.Holds() }) {
			err = answered(exitNo)
		}
		return err
	}
	a.formats(c, "text", "json")
	return c
}

// compiledWith compiles the workspace with a statement as a guarantee of its own, if there is one.
func (a *app) compiledWith(statement string) (*gate.Gate, []*estate.Guarantee, error) {
	if statement == "" {
		g, err := a.compiled()
		return g, nil, err
	}
	root, dir, err := a.workspace()
	if err != nil {
		return nil, nil, err
	}
	defer root.Close()
	defer a.release()
	done := a.progress("reading the workspace")
	known, err := a.compiledIn(root, dir)
	done()
	if err != nil {
		return nil, nil, err
	}
	g, stated, err := a.stated(statement, root.FS(), known)
	if err != nil {
		return nil, nil, fmt.Errorf("--that: %w", err)
	}
	return g, []*estate.Guarantee{stated}, nil
}

// stated compiles the workspace of a gate with a statement.
func (a *app) stated(text string, files fs.FS, known *gate.Gate) (*gate.Gate, *estate.Guarantee, error) {
	before := known.Estate()
	value, err := verify.Statement(text)
	if err != nil {
		return nil, nil, err
	}
	body, err := splice.Value(value)
	if err != nil {
		return nil, nil, fmt.Errorf("it can't be read: %w", err)
	}
	id, file := "that", "that.yaml"
	for taken := true; taken; {
		_, err := fs.Stat(files, file)
		if taken = err == nil || before.Guarantees[id] != nil; taken {
			id, file = id+"-", "that-"+file
		}
	}
	d := draft.New(files, before)
	if err := d.Add("guarantees", id, body, file); err != nil {
		return nil, nil, err
	}
	e, err := policyfile.Reload(files, d.FS(), before, []string{file})
	var list diagnostic.List
	if errors.As(err, &list) {
		for _, d := range list {
			if d.Position.File == file {
				return nil, nil, errors.New(strings.TrimSuffix(d.Message+"; "+d.Help, "; "))
			}
		}
	}
	if err != nil {
		return nil, nil, err
	}
	if e, err = a.certified(e, nil); err != nil {
		return nil, nil, err
	}
	g := known.Restated(e)
	if g == nil {
		if g, err = gate.Carried(e, known); err != nil {
			return nil, nil, err
		}
	}
	return g, e.Guarantees[id], nil
}

// saidIn writes what a guarantee says, as --that reads it.
func saidIn(g *gate.Gate, gu *estate.Guarantee) string {
	return verify.Said(gu, func(c *estate.Condition) string { return view.Conditions(g, c, nil, nil) })
}

func (a *app) proveText(g *gate.Gate, verdicts []verify.Verdict, all bool) {
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
	listed := all || len(verdicts) <= mostTests
	if failed > mostFailing && !all {
		p.Line("Here are the first %d that fail: name some, as in hgate prove NAME, or see --all.", mostFailing)
	}
	for _, fails := range []bool{true, false} {
		told := 0
		for _, v := range verdicts {
			if v.Holds() == fails || !fails && !listed {
				continue
			}
			if told++; fails && told > mostFailing && !all {
				break
			}
			p.Line("")
			a.verdictText(p, g, v, v.Guarantee.ID+"  "+p.Paint(view.Faint, v.Guarantee.Source.Short()))
		}
	}
}

// verdictText tells what became of a guarantee, by its name if it has one.
func (a *app) verdictText(p *view.Page, g *gate.Gate, v verify.Verdict, name string) {
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
func (a *app) witnessText(p *view.Page, g *gate.Gate, v verify.Verdict) {
	w, e := v.Witness, g.Estate()
	if w.IsShort() {
		left := "nobody can"
		if len(w.Left) > 0 {
			left = "only " + strings.Join(texts(w.Left), ", ") + " can"
		}
		p.Line("       on %s at %s %s", p.Paint(view.Heading, w.Resource), p.Paint(view.Heading, e.Zone.Format(w.At)),
			p.Paint(view.Heading, left))
		p.Line("       %s", holdersLine(e, v))
		return
	}
	for _, r := range w.Reached {
		p.Line("       %s can get to %s on %s", p.Paint(view.Heading, r.Subject.String()), p.Paint(view.Heading, r.Operation),
			p.Paint(view.Heading, r.Resource))
		if e.Tree.Find(r.Resource) < 0 {
			p.Line("         a resource that may come: it is not listed yet")
		}
		chainText(p, 9, chained{e, r.Chain, r.Operation, r.Resource})
	}
	if w.Reached != nil {
		return
	}
	for _, r := range w.Requests {
		p.Line("       %s may %s on %s", p.Paint(view.Heading, r.Subject.String()), p.Paint(view.Heading, r.Operation),
			p.Paint(view.Heading, r.Resource))
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
func tryLine(e *estate.Estate, r verify.Shown) string {
	said := r.Context.Said(e.Zone)
	line := fmt.Sprintf("hgate try %s %s %s%s", r.Subject, r.Operation, quoted(r.Resource), askFlags(e.Zone, &said))
	if r.Lent != "" {
		line += " --lent " + r.Lent
	}
	return line
}

// holdersLine writes the command that shows who is left.
func holdersLine(e *estate.Estate, v verify.Verdict) string {
	return fmt.Sprintf("hgate holders %s %s --at %s", quoted(v.Guarantee.May[0].String()), quoted(v.Witness.Resource),
		quoted(e.Zone.Format(v.Witness.At)))
}

// requestJSON is a request of try, with a key for each fact that it says.
type requestJSON struct {
	subject, operation, resource string
	said                         estate.Given
	lent, command                string
}

func requestOf(e *estate.Estate, r verify.Shown) requestJSON {
	return requestJSON{r.Subject.String(), r.Operation, r.Resource, r.Context.Said(e.Zone), r.Lent, tryLine(e, r)}
}

// MarshalJSON writes the keys in the order in which a request is read.
func (r requestJSON) MarshalJSON() ([]byte, error) {
	out := object{{"subject", r.subject}, {"operation", r.operation}, {"resource", r.resource}}
	if r.said.Time != nil {
		out = append(out, member{"time", r.said.Time.Text})
	}
	for _, v := range r.said.Facts {
		var value any = v.Value
		if kind := estate.FactNamed(v.Fact).Kind; kind == estate.YesNo || kind == estate.Carried {
			value = v.Value == estate.Yes
		}
		out = append(out, member{v.Fact, value})
	}
	if len(r.said.Context) > 0 {
		attributes := map[string]string{}
		for _, tag := range r.said.Context {
			attributes[tag.Key] = tag.Value
		}
		out = append(out, member{"context", attributes})
	}
	if len(r.said.Roles) > 0 {
		var roles []string
		for _, ref := range r.said.Roles {
			roles = append(roles, ref.ID)
		}
		out = append(out, member{"roles", roles})
	}
	if r.lent != "" {
		out = append(out, member{"lent", r.lent})
	}
	return append(out, member{"command", r.command}).MarshalJSON()
}

// object is a JSON object whose keys keep their order.
type object []member

type member struct {
	key   string
	value any
}

// MarshalJSON writes the members in their order.
func (o object) MarshalJSON() ([]byte, error) {
	out := []byte{'{'}
	for i, m := range o {
		if i > 0 {
			out = append(out, ',')
		}
		key, err := json.Marshal(m.key)
		if err != nil {
			return nil, err
		}
		value, err := json.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		out = append(append(append(out, key...), ':'), value...)
	}
	return append(out, '}'), nil
}

func (a *app) proveJSON(g *gate.Gate, verdicts []verify.Verdict) error {
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
		case w.IsShort():
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
				one.Reached = append(one.Reached, gotJSON{r.Subject.String(), r.Operation, r.Resource, r.As.String(),
					stepsJSON(r.Chain)})
			}
			if len(one.Reached) > 0 {
				one.Witness = one.Reached[0]
			}
		}
		out.Guarantees = append(out.Guarantees, one)
	}
	return a.json(out)
}
