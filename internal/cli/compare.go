package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/view"
)

func (a *app) compareCommand() *cobra.Command {
	var expand bool
	var failOn []string
	c := &cobra.Command{
		Use:   "compare OLD [NEW]",
		Short: "Tell what differs between two revisions, folders, roles, people or groups",
		Long: `Tells whose access differs between two workspaces, over all contexts from now (or --at) on. OLD and NEW
are Git revisions, or folders, which begin with ./, ../ or /; without NEW it is the workspace as it is.
Each change comes with the entries that made it so, and with the tests that come out otherwise.
--expand tells it row by row.

Two roles, people or groups of the workspace, as role:A role:B, are compared likewise: what only one
has, and what both have. Of a group it is what a new member gets.`,
		Example: `  hgate compare main
  hgate compare HEAD main --format md
  hgate compare person:ines.okafor person:marek.dvorin`,
		ValidArgsFunction: a.completeCompared,
		Args:              takes(1, 2),
	}
	c.Flags().BoolVar(&expand, "expand", false, "tell it row by row")
	c.Flags().StringSliceVar(&failOn, "fail-on", nil, "`what` to exit with 1 on: gained, lost, changed")
	_ = c.RegisterFlagCompletionFunc("fail-on",
		cobra.FixedCompletions([]string{"gained", "lost", "changed"}, cobra.ShellCompDirectiveNoFileComp))
	a.moment(c)
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if expand && a.format != "text" {
			return fmt.Errorf("--expand goes with --format text: %s", map[string]string{
				"json": "JSON has every cell anyway", "md": "the table of --format md is folded"}[a.format])
		}
		for _, word := range failOn {
			if !slices.Contains([]string{"gained", "lost", "changed"}, word) {
				return fmt.Errorf("--fail-on %s is not one of gained, lost, changed", word)
			}
		}
		kind, _, isEntry := strings.Cut(args[0], ":")
		if isEntry && slices.Contains(comparedKinds, kind) {
			if len(args) < 2 {
				return fmt.Errorf("name the one to compare %s with, as in: hgate compare %s %s:OTHER", args[0], args[0], kind)
			}
			if name := givenOf(cmd, "expand", "fail-on"); name != "" {
				return fmt.Errorf("--%s goes with revisions and folders; leave it out beside two entries", name)
			}
			return a.compareEntries(args[0], args[1])
		}
		effect, now, err := a.compareWorkspaces(args)
		if err != nil {
			return err
		}
		switch a.format {
		case "json":
			err = a.compareJSON(effect, now)
		case "md":
			err = a.compareMarkdown(effect, now)
		default:
			err = a.compareText(effect, now, expand)
		}
		if err == nil && differsIn(effect, failOn) {
			err = answered(exitNo)
		}
		return err
	}
	a.formats(c, "text", "json", "md")
	return c
}

// comparedKinds are the sorts of entries of which two can be compared.
var comparedKinds = []string{"role", "person", "service", "group"}

var wayStyles = map[string]view.Style{"gained": view.Yes, "lost": view.No, "changed": view.Maybe}

func differsIn(e *change.Effect, words []string) bool {
	return slices.ContainsFunc(slices.Concat(e.Lines, e.Coming),
		func(l change.Line) bool { return slices.Contains(words, l.Way.Word()) })
}

func (a *app) compareWorkspaces(args []string) (*change.Effect, clock.Instant, error) {
	dir := "."
	if found, err := a.folder(); err == nil {
		dir = found
	} else if len(args) < 2 {
		return nil, 0, err
	}
	done := a.progress("reading both")
	before, after, kept, err := a.readBoth(dir, args)
	done()
	if err != nil {
		return nil, 0, err
	}
	now, err := a.day(after.Zone)
	if err != nil {
		return nil, 0, err
	}
	if before, after, err = a.bothCertified(before, after, nil); err != nil {
		return nil, 0, err
	}
	defer a.progress("comparing")()
	effect, err := change.Of(a.ctx, before, after, change.How{Since: now, Beside: kept})
	return effect, now, err
}

// readBoth reads the workspaces that are compared. What files say that are as in the workspace at hand, where that is
// kept, or as in the first, is shared; the gate is that of the workspace at hand, nil where none is kept.
func (a *app) readBoth(dir string, args []string) (before, after *estate.Estate, kept *gate.Gate, err error) {
	isOne := len(args) == 1 // that of the two
	var here *readWorkspace
	root, _, err := a.workspace()
	if err == nil {
		defer root.Close()
		defer a.release()
		here, kept, err = a.readHere(root, dir, isOne)
	}
	if err != nil && isOne {
		return nil, nil, nil, err
	}
	was, err := a.readAt(dir, args[0], here)
	if err != nil {
		return nil, nil, nil, err
	}
	defer was.close()
	is := here
	if !isOne {
		if here == nil {
			here = was
		}
		if is, err = a.readAt(dir, args[1], here); err != nil {
			return nil, nil, nil, err
		}
		defer is.close()
	}
	return was.Estate, is.Estate, kept, nil
}

// readHere gives the workspace at hand, with its gate, as it is kept; where it is not, it reads the files if it must.
func (a *app) readHere(root *os.Root, dir string, must bool) (*readWorkspace, *gate.Gate, error) {
	if g, ok := a.cache(dir).Open(root.FS()); ok {
		return &readWorkspace{Estate: g.Estate(), files: root.FS()}, g, nil
	}
	if !must {
		return nil, nil, nil
	}
	e, err := policyfile.Load(root.FS())
	return &readWorkspace{Estate: e, files: root.FS()}, nil, err
}

func (a *app) compareText(e *change.Effect, now clock.Instant, expand bool) error {
	p := a.page(a.Out)
	zoneText(p, e)
	if expand {
		a.expandText(p, e)
	} else {
		a.effectText(p, e, withCauses)
	}
	turned, err := e.Turned(a.ctx, now)
	if err != nil {
		return err
	}
	a.consequencesText(p, change.Consequences{Turned: turned})
	return nil
}

// zoneText tells that local times are of another time zone, where that is so.
func zoneText(p *view.Page, e *change.Effect) {
	if e.Rezoned() {
		p.Line("%s", p.Paint(view.Maybe,
			fmt.Sprintf("The time zone was %s and is %s: hours and dates are compared as if it had been so before.",
				e.Before.Zone.Name(), e.After.Zone.Name())))
	}
}

// unlistedText says which systems decide about addresses that no inventory lists in one of the estates alone.
func unlistedText(p *view.Page, e *change.Effect) {
	decided, refused := e.Unlisted()
	for _, id := range decided {
		p.Line("%s", p.Paint(view.Maybe, fmt.Sprintf("Addresses of %s that no inventory lists were refused, and are decided "+
			"about now: whoever may do something on what is added to %s may do it on them.", id, id)))
	}
	for _, id := range refused {
		p.Line("%s", p.Paint(view.Maybe, fmt.Sprintf("Addresses of %s that no inventory lists were decided about, and are "+
			"refused now.", id)))
	}
}

// nobodysAccess says that an effect is empty.
func nobodysAccess(e *change.Effect) string {
	if decided, refused := e.Unlisted(); len(decided)+len(refused) > 0 {
		return "Nobody's access to what is listed changes."
	}
	return "Nobody's access changes."
}

// expandText tells an effect cell by cell, each with the entries behind it.
func (a *app) expandText(p *view.Page, e *change.Effect) {
	unlistedText(p, e)
	if e.Empty() {
		p.Line("%s", p.Paint(view.Heading, nobodysAccess(e)))
		return
	}
	var rows [][]view.Cell
	add := func(l *change.Line, who estate.Principal, operation, resource, when string, by []string) {
		kind := l.Way.Word()
		rows = append(rows, []view.Cell{{Text: kind, Style: wayStyles[kind]}, {Text: who.String()},
			{Text: onRequest(l) + operation}, {Text: resource}, {Text: when, Style: view.Faint},
			{Text: strings.Join(by, ", "), Style: view.Faint}})
	}
	for i := range e.Lines {
		l := &e.Lines[i]
		behind, when := e.Behind(l), whenOf(l)
		for _, who := range l.Subjects {
			for pile := range l.Piles.All() {
				for address := range pile.Addresses() {
					for _, op := range l.Operations {
						add(l, who, op, address, when, texts(behind.Causes(behind.Of(pile, who, op))))
					}
				}
			}
		}
	}
	for i := range e.Coming {
		l := &e.Coming[i]
		by := texts(e.Causes(l))
		for _, who := range l.Subjects {
			for _, op := range l.Operations {
				add(l, who, op, e.Where(l), whenOf(l), by)
			}
		}
	}
	p.Table(0, nil, rows)
}

// whenOf says when it may be done, and was.
func whenOf(l *change.Line) string {
	switch {
	case l.Way == change.Loses:
		return ""
	case l.Way == change.Gains:
		return l.Is()
	}
	return l.Is() + " (was: " + l.Was() + ")"
}

func (a *app) compareJSON(e *change.Effect, now clock.Instant) error {
	turned, err := e.Turned(a.ctx, now)
	if err != nil {
		return err
	}
	return a.jsonObject(differencesOf(e, turned)...)
}

// unlistedRow is a system that decides about addresses in no inventory, or refuses those, as it did not before.
type unlistedRow struct {
	System  string `json:"system"`
	Decided bool   `json:"decided"`
}

type rezoned struct {
	Was string `json:"was"`
	Is  string `json:"is"`
}

type differenceRow struct {
	Subject   string   `json:"subject"`
	Operation string   `json:"operation"`
	Resource  string   `json:"resource"`
	When      string   `json:"when"`
	Was       string   `json:"was,omitempty"`
	OnRequest bool     `json:"on_request,omitempty"`
	Through   []string `json:"through"`
}

type turnedRow struct {
	Name   string `json:"name"`
	Passes bool   `json:"passes"`
	New    bool   `json:"new"`
}

// differencesOf gives what an effect tells, cell by cell, in the fixed shape.
func differencesOf(e *change.Effect, turned []change.Turned) []jsonPart {
	of := func(word string, row func(change.Row) differenceRow) jsonPart {
		told := func(l *change.Line) bool { return l.Way.Word() == word }
		all := cells{e, cellIndent, told, true, func(r change.Row, by []change.Cause) any {
			one := row(r)
			one.Through = append(one.Through, texts(by)...)
			return one
		}}
		return jsonPart{word, elements(all.each)}
	}
	is := func(r change.Row) differenceRow {
		return differenceRow{r.Subject.String(), r.Operation, r.Resource, r.Line.Is(), "", r.Line.OnRequest, []string{}}
	}
	out := []jsonPart{of("gained", is),
		of("lost", func(r change.Row) differenceRow {
			one := is(r)
			one.When = r.Line.Was()
			return one
		}),
		of("changed", func(r change.Row) differenceRow {
			one := is(r)
			one.Was = r.Line.Was()
			return one
		}),
		{"coming", comingRows(e)}}
	if e.ComingInPart {
		out = append(out, jsonPart{"coming_in_part", true})
	}
	var unlisted []unlistedRow
	decided, refused := e.Unlisted()
	for i, id := range slices.Concat(decided, refused) {
		unlisted = append(unlisted, unlistedRow{id, i < len(decided)})
	}
	if len(unlisted) > 0 {
		out = append(out, jsonPart{"unlisted", unlisted})
	}
	if e.Rezoned() {
		out = append(out, jsonPart{"timezone", rezoned{e.Before.Zone.Name(), e.After.Zone.Name()}})
	}
	tests, guarantees := []turnedRow{}, []turnedRow{}
	for _, t := range turned {
		list := &tests
		if t.What == "guarantee" {
			list = &guarantees
		}
		*list = append(*list, turnedRow{t.ID, t.Passes, t.Fresh})
	}
	return append(out, jsonPart{"tests", tests}, jsonPart{"guarantees", guarantees})
}

// comingRow is a change of access to what may come.
type comingRow struct {
	Way        string   `json:"way"`
	Subjects   []string `json:"subjects"`
	Operations []string `json:"operations"`
	Places     []string `json:"places"`
	When       string   `json:"when,omitempty"`
	Was        string   `json:"was,omitempty"`
	OnRequest  bool     `json:"on_request,omitempty"`
	Through    []string `json:"through"`
}

func comingRows(e *change.Effect) []comingRow {
	out := []comingRow{}
	for i := range e.Coming {
		l := &e.Coming[i]
		one := comingRow{Way: l.Way.Word(), Operations: l.Operations, Places: e.Places(l), OnRequest: l.OnRequest,
			Through: append([]string{}, texts(e.Causes(l))...)}
		for _, who := range l.Subjects {
			one.Subjects = append(one.Subjects, who.String())
		}
		if l.Way != change.Loses {
			one.When = l.Is()
		}
		if l.Way != change.Gains {
			one.Was = l.Was()
		}
		out = append(out, one)
	}
	return out
}

func (a *app) compareMarkdown(e *change.Effect, now clock.Instant) error {
	p := a.page(a.Out)
	cell := func(text string) string { return strings.NewReplacer("|", "\\|", "\n", " ").Replace(text) }
	zoneText(p, e)
	unlistedText(p, e)
	if decided, refused := e.Unlisted(); e.Rezoned() || len(decided)+len(refused) > 0 {
		fmt.Fprintln(p) // a table begins apart
	}
	if e.Empty() {
		fmt.Fprintln(p, nobodysAccess(e))
	} else {
		fmt.Fprintln(p, "| who | | what | where | when | through |\n|---|---|---|---|---|---|")
		var lines []change.Line
		for _, all := range [][]change.Line{e.Lines, e.Coming} {
			for i := 0; i < len(all); {
				n := 1
				for i+n < len(all) && all[i].SameButWhere(&all[i+n]) {
					n++
				}
				lines = append(lines, e.ByPlace(all[i:i+n])...)
				i += n
			}
		}
		for i := range lines {
			l := &lines[i]
			through := texts(e.Causes(l))
			what := onRequest(l) + p.Operations(e.What(l))
			fmt.Fprintf(p, "| %s | %s | %s | %s | %s | %s |\n", cell(e.Who(l)), ways[l.Way].one, cell(what), cell(e.Where(l)),
				cell(whenOf(l)), cell(strings.Join(through, ", ")))
		}
	}
	turned, err := e.Turned(a.ctx, now)
	for i, t := range turned {
		if i == 0 {
			fmt.Fprintln(p)
		}
		fmt.Fprintf(p, "- %s `%s` %s\n", t.What, t.ID, turnedWords[t.What].is[t.Passes])
	}
	return err
}

// compareEntries compares two roles, people, services or groups of the workspace.
func (a *app) compareEntries(one, other string) error {
	if a.format == "md" {
		return fmt.Errorf("--format md goes with revisions and folders; two entries are written as text and json")
	}
	g, err := a.compiled()
	if err != nil {
		return err
	}
	e := g.Estate()
	if role, ok := strings.CutPrefix(one, "role:"); ok {
		second, ok := strings.CutPrefix(other, "role:")
		if !ok {
			return fmt.Errorf("a role is compared with a role; %s is none", other)
		}
		return a.compareRoles(g, role, second)
	}
	now, err := a.day(e.Zone)
	if err != nil {
		return err
	}
	var who [2]estate.Principal
	for i, text := range []string{one, other} {
		p, err := estate.ParsePrincipal(text)
		if err != nil {
			return err
		}
		if p.Kind == estate.IsGroup {
			if e.Groups[p.ID] == nil {
				return unknown("group", p.ID, keys(e.Groups))
			}
			e, p = e.WithNewMember(p.ID)
		}
		who[i] = p
	}
	effect, err := change.Between(a.ctx, e, who[0], who[1], now, g)
	if err != nil {
		return err
	}
	if a.format == "json" {
		return a.betweenJSON(effect)
	}
	p := a.page(a.Out)
	heads := []struct {
		title string
		is    func(change.Way) bool
	}{
		{"Only " + one, func(w change.Way) bool { return w == change.Loses }},
		{"Only " + other, func(w change.Way) bool { return w == change.Gains }},
		{"Both, under other conditions",
			func(w change.Way) bool { return w == change.Wider || w == change.Narrows || w == change.Other }},
		{"Both", func(w change.Way) bool { return w == change.Alike }},
	}
	for i, h := range heads {
		var lines []change.Line
		for _, l := range effect.Lines {
			if h.is(l.Way) {
				lines = append(lines, l)
			}
		}
		if i > 0 {
			p.Line("")
		}
		p.Line("%s", p.Paint(view.Heading, h.title))
		var rows [][]view.Cell
		for _, l := range effect.ByPlaceAndWhen(lines) {
			when := ""
			switch {
			case h.is(change.Other):
				when = l.Was() + "; the other: " + l.Is()
			case l.Way == change.Loses:
				when = l.Was()
			default:
				when = l.Is()
			}
			if when == "always" {
				when = ""
			}
			rows = append(rows, []view.Cell{{Text: effect.Where(&l)}, {Text: p.Operations(effect.What(&l))},
				{Text: when, Style: view.Faint},
				{Text: grantsText(effect.Grants(&l)), Style: view.Faint}})
		}
		if len(rows) == 0 {
			rows = append(rows, []view.Cell{{Text: "nothing", Style: view.Faint}})
		}
		p.Table(2, nil, rows)
	}
	return nil
}

// grantsText names the grants through which one has something, and the other.
func grantsText(one, other []string) string {
	switch {
	case len(one) == 0:
		one = other
	case len(other) > 0 && !slices.Equal(one, other):
		one = append(slices.Clone(one), "and the other "+strings.Join(other, ", "))
	}
	return "through " + strings.Join(one, ", ")
}

func (a *app) betweenJSON(e *change.Effect) error {
	type row struct {
		Operation string `json:"operation"`
		Resource  string `json:"resource"`
		First     string `json:"first,omitempty"`
		Second    string `json:"second,omitempty"`
		// Grants through which each has it.
		FirstGrants  []string `json:"first_grants,omitempty"`
		SecondGrants []string `json:"second_grants,omitempty"`
	}
	type through struct{ first, second []string }
	known := map[*change.Line]through{}
	// Of what only one has, that one's times are told.
	of := func(list string, told func(change.Way) bool, first, second bool) jsonPart {
		all := cells{e, cellIndent, func(l *change.Line) bool { return told(l.Way) }, false,
			func(r change.Row, _ []change.Cause) any {
				grants, ok := known[r.Line]
				if !ok {
					grants.first, grants.second = e.Grants(r.Line)
					known[r.Line] = grants
				}
				one := row{r.Operation, r.Resource, "", "", grants.first, grants.second}
				if first {
					one.First = r.Line.Was()
				}
				if second {
					one.Second = r.Line.Is()
				}
				return one
			}}
		return jsonPart{list, elements(all.each)}
	}
	loses := func(w change.Way) bool { return w == change.Loses }
	gains := func(w change.Way) bool { return w == change.Gains }
	return a.jsonObject(of("both", func(w change.Way) bool { return !loses(w) && !gains(w) }, true, true),
		of("first", loses, true, false), of("second", gains, false, true))
}

// compareRoles compares what two roles have.
func (a *app) compareRoles(g *gate.Gate, one, other string) error {
	for _, id := range []string{one, other} {
		if g.Estate().Roles[id] == nil {
			return unknown("role", id, keys(g.Estate().Roles))
		}
	}
	lists := map[string][]string{"first": {}, "second": {}, "both": {}}
	for _, o := range estate.Sorted(g.Estate().Operations) {
		switch a, b := g.RoleHas(one, o.Name), g.RoleHas(other, o.Name); {
		case a && b:
			lists["both"] = append(lists["both"], o.Name)
		case a:
			lists["first"] = append(lists["first"], o.Name)
		case b:
			lists["second"] = append(lists["second"], o.Name)
		}
	}
	if a.format == "json" {
		return a.json(lists)
	}
	p := a.page(a.Out)
	n := [3]int{len(lists["first"]), len(lists["second"]), len(lists["both"])}
	p.Line("%s has %s and %s %d; both have %d of them", one, count(n[0]+n[2], "operation"), other, n[1]+n[2], n[2])
	for i, id := range []string{one, other} {
		key := [...]string{"first", "second"}[i]
		p.Line("\n%s", p.Paint(view.Heading, fmt.Sprintf("Only %s (%d)", id, n[i])))
		a.operationsByLevel(p, g.Estate(), lists[key])
	}
	p.Line("\n%s", p.Paint(view.Heading, fmt.Sprintf("Both (%d)", n[2])))
	a.operationsByLevel(p, g.Estate(), lists["both"])
	return nil
}

// operationsByLevel lists operations under their levels, the highest first.
func (a *app) operationsByLevel(p *view.Page, e *estate.Estate, names []string) {
	var rows [][]view.Cell
	for level := estate.Govern; level >= estate.View; level-- {
		heading := level.String()
		for _, name := range names {
			o := e.Operations[name]
			if o.Level != level {
				continue
			}
			style := view.Faint
			if o.Caution() != "" {
				style = view.Risk
			}
			rows = append(rows, []view.Cell{{Text: heading, Style: view.Faint}, {Text: name},
				{Text: described(o), Style: style}})
			heading = ""
		}
	}
	if len(rows) == 0 {
		rows = append(rows, []view.Cell{{Text: "nothing", Style: view.Faint}})
	}
	p.Table(2, nil, rows)
}
