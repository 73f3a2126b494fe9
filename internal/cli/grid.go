package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"github.com/clipperhouse/displaywidth"
	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/survey"
	"hiddengate/internal/tabular"
	"hiddengate/internal/view"
)

// gridFlags are what a grid is asked for.
type gridFlags struct {
	who, members, roles, where, what, levels, unfold []string
	groups, operations, describe, all                bool
	depth                                            int
	asTests, expect                                  string
	signed                                           *signed           // what expect names
	heading                                          func() [][]string // what a sheet says of itself
}

// mostAnswers bounds how many answers a grid works out: columns times resources.
const mostAnswers = 2_000_000_000

func (a *app) gridCommand() *cobra.Command {
	var f gridFlags
	c := &cobra.Command{
		Use:   "grid",
		Short: "Show one grid of people against places",
		Long: `Shows how far people, services, groups or roles get in each place and all inside it: view, use,
change or govern, whichever is the highest of which anything is allowed. What is inside a place is a
row of its own only if it says something else. A group's column is what a new member gets who is in
nothing else; a role's, what it gives on everything.

  change~    on some of what is there, not on all
  ?change    depends on what the request says: --mfa yes and the like say it
  +change    could be lent on request
  change!    by a grant that names the one directly, not through a group

--operations puts operations down instead of places. A sheet of --format csv says in its first lines
what it covers; --expect compares it with what is now, new people and places too, and exits with 1
if anything differs. --as-tests writes the grid as a test.`,
		Example: `  hgate grid --groups --where ridge-net
  hgate grid --members-of dome-crew --where summit-hosts,obsdb --mfa yes
  hgate grid --who lucas.amarel --where obsdb --operations
  hgate grid --levels change,govern
  hgate grid --roles night-operator,dish-driver --describe`,
		Args: takes(0, 0),
	}
	flags := a.circumstances(c)
	_ = c.Flags().MarkHidden("role") // a session is one subject's
	fl := c.Flags()
	fl.StringSliceVar(&f.who, "who", nil, "these `subjects` across")
	fl.BoolVar(&f.groups, "groups", false, "all groups across")
	fl.StringSliceVar(&f.members, "members-of", nil, "the members of these `groups` across")
	fl.StringSliceVar(&f.roles, "roles", nil, "these `roles` across")
	fl.StringSliceVar(&f.where, "where", nil, "these `places` down")
	fl.StringSliceVar(&f.what, "what", nil, "these `operations` alone, as 'table.*' or 'from change'")
	fl.StringSliceVar(&f.levels, "levels", nil, "operations of these `levels` alone")
	fl.BoolVar(&f.operations, "operations", false, "operations down, not places")
	fl.BoolVar(&f.describe, "describe", false, "what operations do, beside them")
	fl.IntVar(&f.depth, "depth", 1, "how `deep` places are unfolded below the first")
	fl.StringSliceVar(&f.unfold, "unfold", nil, "unfold these `places`, however deep")
	fl.BoolVar(&f.all, "all", false, "rows and columns that are empty, too")
	fl.StringVar(&f.asTests, "as-tests", "", "write it as a test of this `name`")
	fl.StringVar(&f.expect, "expect", "", "compare with a signed CSV `file`, which says what it covers")
	_ = c.RegisterFlagCompletionFunc("levels",
		cobra.FixedCompletions(estate.LevelNames(), cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("roles", a.completeSection("roles"))
	_ = c.RegisterFlagCompletionFunc("members-of", a.completeSection("groups"))
	c.RunE = func(cmd *cobra.Command, _ []string) (err error) {
		if cmd.Flags().Changed("role") {
			return fmt.Errorf("--role names the session of one subject; --roles puts roles across")
		}
		if f.expect != "" {
			if f.signed, err = a.signedSheet(cmd, f.expect); err != nil {
				return err
			}
		}
		g, err := a.compiled()
		if err != nil {
			return err
		}
		if f.signed != nil && !f.signed.settle(g, &f) {
			return a.differs(f.signed.gone, 0)
		}
		q, err := f.question(g)
		if err != nil {
			return err
		}
		var said string
		q.Ask = func(g *gate.Gate) (ctx *gate.Context, err error) {
			ctx, said, err = flags.build(a, cmd, g)
			return ctx, err
		}
		if n := len(q.Columns) * g.Estate().Tree.Len(); n > mostAnswers {
			return fmt.Errorf("%d columns over %d resources is too much for one grid; name fewer with --who or --members-of",
				len(q.Columns), g.Estate().Tree.Len())
		}
		done := a.working("working out the grid")
		grid, err := survey.NewGrid(g.Estate(), q)
		done()
		if err != nil {
			return err
		}
		f.heading = func() [][]string { return sheetHeading(cmd, said) }
		return a.grid(g, grid, f, askedGrid{q, said})
	}
	a.formats(c, "text", "csv", "md", "json")
	return c
}

// question reads the flags.
func (f gridFlags) question(g *gate.Gate) (q survey.Question, err error) {
	e := g.Estate()
	across, err := f.across(g)
	if err != nil {
		return q, err
	}
	if q.Columns = survey.Columns(g, across); len(q.Columns) == 0 {
		return q, fmt.Errorf("nobody is across: name subjects with --who, --members-of or --roles")
	}
	what, err := chosenOperations(f.what)
	if err != nil {
		return q, err
	}
	levels := map[estate.Level]bool{}
	for _, text := range f.levels {
		l, err := estate.ParseLevel(strings.TrimSpace(text))
		if err != nil {
			return q, fmt.Errorf("--levels: %w", err)
		}
		levels[l] = true
	}
	if what != nil || len(levels) > 0 {
		q.What = func(o *estate.Operation) bool {
			return (what == nil || what.Fit(o, e.Edition)) && (len(levels) == 0 || levels[o.Level])
		}
	}
	where, err := chosenPlaces(g, f.where)
	if err != nil {
		return q, err
	}
	if where != nil {
		q.Within = func(r *estate.Resource) bool { return g.Covers(where, r) }
	}
	return q, nil
}

// across reads who is across, and sees that they are there.
func (f gridFlags) across(g *gate.Gate) (out survey.Across, err error) {
	e := g.Estate()
	out.Groups = f.groups
	for _, text := range f.who {
		p, err := estate.ParsePrincipal(strings.TrimSpace(text))
		switch {
		case err != nil:
			return out, fmt.Errorf("--who: %w", err)
		case p.Kind == estate.IsGroup && e.Groups[p.ID] == nil:
			return out, unknown("group", p.ID, ids(e.Section("groups")))
		case p.Kind != estate.IsGroup && p.Kind != estate.IsEveryone:
			if err := g.Subject(p); err != nil {
				return out, err
			}
		}
		out.Who = append(out.Who, p)
	}
	for _, id := range f.members {
		id = strings.TrimPrefix(id, "group:")
		if e.Groups[id] == nil {
			return out, unknown("group", id, ids(e.Section("groups")))
		}
		out.MembersOf = append(out.MembersOf, id)
	}
	for _, id := range f.roles {
		id = strings.TrimPrefix(id, "role:")
		if e.Roles[id] == nil {
			return out, unknown("role", id, ids(e.Section("roles")))
		}
		out.Roles = append(out.Roles, id)
	}
	return out, nil
}

// chosenOperations reads --what; nil if it is not given.
func chosenOperations(texts []string) (out estate.Operations, err error) {
	for _, text := range texts {
		t, err := estate.ParseOperationTerm(text)
		if err != nil {
			return nil, fmt.Errorf("--what: %w", err)
		}
		out = append(out, t)
	}
	return out, nil
}

// chosenPlaces reads --where, of which each must be listed or select something; nil if it is not given.
func chosenPlaces(g *gate.Gate, texts []string) (out estate.Resources, err error) {
	for _, text := range texts {
		_, _, inside, err := selected(g, "all", text, throughout)
		if err != nil {
			return nil, fmt.Errorf("--where: %w", err)
		}
		if len(inside) == 1 && inside[0].Index < 0 {
			return nil, fmt.Errorf("--where %s: this speaks of listed resources, and that is not listed", text)
		}
		t, _ := estate.ParseResourceTerm(text)
		out = append(out, t)
	}
	return out, nil
}

// sheet is a grid as it is written: texts under a heading.
type sheet struct {
	first   string // over the first column
	columns []string
	rows    []sheetRow
	about   bool // rows have a description
}

// operationsDown stands over the first column of a sheet that has operations down, not places.
const operationsDown = "operation"

type sheetRow struct {
	name, about string
	indent      int
	cells       []string
	styles      []view.Style
	json        map[string]any
}

// askedGrid is what a grid was asked, and the circumstances as they are written.
type askedGrid struct {
	survey.Question
	said string
}

func (a *app) grid(g *gate.Gate, grid *survey.Grid, f gridFlags, q askedGrid) error {
	var s sheet
	if f.operations || f.describe && len(f.roles) > 0 {
		ops, cells, err := grid.Operations()
		if err != nil {
			return err
		}
		s = operationSheet(grid, ops, cells, f)
	} else {
		unfold := func(*estate.Resource) bool { return false }
		if len(f.unfold) > 0 {
			unfold = func(r *estate.Resource) bool { return slices.Contains(f.unfold, r.Address.String()) }
			for _, text := range f.unfold {
				if grid.Find(text) < 0 {
					return fmt.Errorf("--unfold %s: nothing is listed there", text)
				}
			}
		}
		rows := grid.Rows(f.depth, unfold)
		switch {
		case f.asTests != "":
			return a.gridTest(g, grid, rows, askedTest{f.asTests, q.Question})
		case f.signed != nil:
			return a.gridExpected(grid, rows, f.signed)
		}
		s = placeSheet(grid, rows, a.format == "text")
	}
	if f.asTests+f.expect != "" {
		return fmt.Errorf("--as-tests and --expect go with places down; leave --operations out")
	}
	if !f.all {
		s.hideEmpty()
	}
	invited := invitedOf(grid)
	judged, err := a.gridJudged(g, f, q.Question)
	if err != nil {
		return err
	}
	switch a.format {
	case "csv":
		if len(judged) > 0 {
			a.page(a.Err).Line("hgate: a CSV has listed places alone; what may be done to others, where that is judged, is " +
				"told by --format text, md and json")
		}
		heading := f.heading()
		if s.first == operationsDown {
			heading = nil // it is compared with nothing
		}
		return a.gridCSV(s, heading)
	case "md":
		a.gridMarkdown(s)
		judgedMarkdown(a.page(a.Out), judged)
		return nil
	case "json":
		return a.gridJSON(s, invited, judged)
	}
	a.gridText(s, q.said, f.all)
	p := a.page(a.Out)
	judgedText(p, judged)
	if len(invited) > 0 {
		p.Line("\nInvited, and without any access until they have come: %s", strings.Join(invited, ", "))
	}
	return nil
}

// invitedOf names the people across who have not come yet.
func invitedOf(grid *survey.Grid) []string {
	out := []string{}
	for _, c := range grid.Columns {
		if c.Invited {
			out = append(out, c.Name)
		}
	}
	return out
}

// gridJudged tells what the people and services across may do to what no inventory lists and a system judges.
func (a *app) gridJudged(g *gate.Gate, f gridFlags, q survey.Question) ([]judgedRow, error) {
	who := map[estate.Principal]bool{}
	for _, c := range q.Columns {
		if c.Role == "" && g.Estate().Subject(c.Subject) != nil {
			who[c.Subject] = true
		}
	}
	if len(who) == 0 {
		return []judgedRow{}, nil
	}
	var places []estate.ResourceTerm
	for _, text := range f.where {
		t, err := estate.ParseResourceTerm(text)
		if err != nil {
			return nil, err
		}
		places = append(places, t)
	}
	c, err := q.Ask(g)
	if err != nil {
		return nil, err
	}
	return a.judged(g, c, who, wanted{q.What, func(r *estate.Resource) bool {
		return len(places) == 0 || slices.ContainsFunc(places,
			func(t estate.ResourceTerm) bool { return g.CoversTerm(t, r) })
	}})
}

// invitedMark stands behind the name of somebody who has not come yet.
const invitedMark = " (invited)"

func headings(grid *survey.Grid) (out []string) {
	for _, c := range grid.Columns {
		name := c.Name
		if c.Invited {
			name += invitedMark
		}
		out = append(out, name)
	}
	return out
}

// reachedText writes how far somebody gets.
func reachedText(r survey.Reached) (string, view.Style) {
	text, style := "", view.Plain
	if r.Any {
		text = r.Level.String()
		style = [...]view.Style{view.Plain, view.Plain, view.Yes, view.No}[r.Level]
		if r.Partly {
			text += "~"
		}
		if r.Direct {
			text += "!"
		}
	}
	if r.Depends != nil {
		text += " ?" + r.Depends.String()
		style = view.Maybe
	}
	if r.OnRequest != nil {
		text += " +" + r.OnRequest.String()
		if !r.Any {
			style = view.Maybe
		}
	}
	return strings.TrimSpace(text), style
}

func placeSheet(grid *survey.Grid, rows []survey.GridRow, together bool) sheet {
	s := sheet{first: "place", columns: headings(grid)}
	for _, r := range rows {
		one := sheetRow{name: r.Place.Address.String(), indent: 2 * r.Depth}
		for _, c := range r.Cells {
			text, style := reachedText(c)
			one.cells, one.styles = append(one.cells, text), append(one.styles, style)
		}
		one.json = map[string]any{"place": one.name, "cells": reachedJSON(grid, r.Cells)}
		if !together {
			s.rows = append(s.rows, one)
			for _, r := range r.Alike {
				other := one
				other.name = r.Address.String()
				other.json = map[string]any{"place": other.name, "cells": one.json["cells"]}
				s.rows = append(s.rows, other)
			}
			continue
		}
		if n := len(r.Alike); n > 0 {
			one.name += fmt.Sprintf(" and %d like it", n)
		}
		s.rows = append(s.rows, one)
	}
	return s
}

func reachedJSON(grid *survey.Grid, cells []survey.Reached) map[string]any {
	out := map[string]any{}
	for i, c := range cells {
		one := map[string]any{"level": "none", "partly": c.Partly, "direct": c.Direct}
		if c.Any {
			one["level"] = c.Level.String()
		}
		if c.Depends != nil {
			one["depends"] = c.Depends.String()
		}
		if c.OnRequest != nil {
			one["on_request"] = c.OnRequest.String()
		}
		out[grid.Columns[i].Name] = one
	}
	return out
}

func operationSheet(grid *survey.Grid, ops []*estate.Operation, cells [][]survey.Answer, f gridFlags) sheet {
	s := sheet{first: operationsDown, columns: headings(grid), about: f.describe}
	for i, o := range ops {
		one := sheetRow{name: o.Name, about: o.Level.String() + ": " + o.About}
		if o.HighRisk {
			one.about = o.Level.String() + ", high-risk: " + o.About
		}
		out := map[string]any{}
		for c, answer := range cells[i] {
			text, style := "", view.Plain
			switch answer.Outcome {
			case gate.Allow:
				text, style = "yes", view.Yes
			case gate.Depends:
				text, style = "?", view.Maybe
			}
			if answer.Partly {
				text += "~"
			}
			if answer.Direct {
				text += "!"
			}
			if answer.OnRequest {
				text, style = text+"+", view.Maybe
			}
			one.cells, one.styles = append(one.cells, text), append(one.styles, style)
			out[grid.Columns[c].Name] = map[string]any{"decision": answer.Outcome.String(), "partly": answer.Partly,
				"on_request": answer.OnRequest, "direct": answer.Direct}
		}
		one.json = map[string]any{"operation": o.Name, "level": o.Level.String(), "about": o.About, "cells": out}
		s.rows = append(s.rows, one)
	}
	return s
}

// hideEmpty leaves columns and rows out in which nothing stands.
func (s *sheet) hideEmpty() {
	var kept []int
	for c := range s.columns {
		if slices.ContainsFunc(s.rows, func(r sheetRow) bool { return r.cells[c] != "" }) {
			kept = append(kept, c)
		}
	}
	var columns []string
	for _, c := range kept {
		columns = append(columns, s.columns[c])
	}
	for i := range s.rows {
		r := &s.rows[i]
		var cells []string
		var styles []view.Style
		for _, c := range kept {
			cells, styles = append(cells, r.cells[c]), append(styles, r.styles[c])
		}
		r.cells, r.styles = cells, styles
	}
	s.columns = columns
	s.hideEmptyRows()
}

// hideEmptyRows leaves rows out in which nothing stands, and in which no row stands that stays.
func (s *sheet) hideEmptyRows() {
	var rows []sheetRow
	for i := len(s.rows) - 1; i >= 0; i-- {
		r := s.rows[i]
		holds := len(rows) > 0 && rows[len(rows)-1].indent > r.indent
		if holds || slices.ContainsFunc(r.cells, func(text string) bool { return text != "" }) {
			rows = append(rows, r)
		}
	}
	slices.Reverse(rows)
	s.rows = rows
}

func (a *app) gridText(s sheet, said string, keep bool) {
	p := a.page(a.Out)
	if len(s.rows) == 0 {
		p.Line("Nobody gets anywhere there.")
		return
	}
	shows := [2]string{"how far each gets", "what each may do"}
	for prefix, words := range map[string][2]string{
		"group:":   {"how far a new member of each group gets", "what a new member of each group may do"},
		"service:": {"how far each service gets", "what each service may do"},
		"role:":    {"how far each role goes", "what each role has"},
	} {
		if !slices.ContainsFunc(s.columns, func(name string) bool { return !strings.HasPrefix(name, prefix) }) {
			shows = words
			for i := range s.columns {
				s.columns[i] = strings.TrimPrefix(s.columns[i], prefix)
			}
		}
	}
	which := 0
	if s.first == operationsDown {
		which = 1
	}
	p.Line("%s", p.Paint(view.Faint, shows[which]+", "+said))
	first := displaywidth.String(s.first)
	for _, r := range s.rows {
		first = max(first, r.indent+displaywidth.String(r.name))
	}
	about := 0
	if s.about {
		about = p.Width / 3
	}
	all := len(s.columns)
	for from := 0; from < all; {
		to, room := from, p.Width-min(first, p.Width/2)-about
		var widths []int
		for to < all {
			wide := 0
			for _, part := range nameParts(s.columns[to]) {
				wide = max(wide, displaywidth.String(part))
			}
			for _, r := range s.rows {
				wide = max(wide, displaywidth.String(r.cells[to]))
			}
			if room -= wide + 2; room < 0 && to > from {
				break
			}
			widths = append(widths, wide)
			to++
		}
		if whole := to - from; whole == all { // there may be room for whole names
			for _, name := range s.columns {
				room -= displaywidth.String(name)
			}
			for _, w := range widths {
				room += w
			}
			if room >= 0 {
				widths = slices.Repeat([]int{p.Width}, all)
			}
		}
		part := s
		part.columns = s.columns[from:to]
		part.rows = slices.Clone(s.rows)
		for i := range part.rows {
			part.rows[i].cells, part.rows[i].styles = part.rows[i].cells[from:to], part.rows[i].styles[from:to]
		}
		p.Line("")
		if to-from < all {
			p.Line("%s", p.Paint(view.Faint, fmt.Sprintf("columns %d to %d of %d", from+1, to, all)))
			if !keep {
				part.hideEmptyRows()
			}
		}
		a.gridPart(p, part, widths)
		from = to
	}
	a.gridLegend(p, s)
}

// gridPart writes columns that fit beside one another.
func (a *app) gridPart(p *view.Page, s sheet, widths []int) {
	heading := []string{s.first}
	for i, name := range s.columns {
		heading = append(heading, broken(name, widths[i]))
	}
	if s.about {
		heading = append(heading, "what it does")
	}
	var rows [][]view.Cell
	for _, r := range s.rows {
		row := []view.Cell{{Text: strings.Repeat("\u00a0", r.indent) + r.name}}
		for c, text := range r.cells {
			if text == "" {
				text = "·"
			}
			row = append(row, view.Cell{Text: text, Style: r.styles[c]})
		}
		if s.about {
			row = append(row, view.Cell{Text: r.about, Style: view.Faint})
		}
		rows = append(rows, row)
	}
	p.Table(0, heading, rows)
}

// nameParts takes a name apart where it may be broken.
func nameParts(name string) []string {
	return strings.Fields(strings.NewReplacer(":", ": ", ".", ". ", "-", "- ").Replace(name))
}

// broken breaks a name into lines of a width.
func broken(name string, width int) string {
	var lines []string
	for i, part := range nameParts(name) {
		gap := ""
		if part[0] == '(' {
			gap = " "
		}
		if last := len(lines) - 1; i > 0 && displaywidth.String(lines[last]+gap+part) <= width {
			lines[last] += gap + part
		} else {
			lines = append(lines, part)
		}
	}
	return strings.Join(lines, view.Break)
}

// gridLegend explains the marks that stand in the grid.
func (a *app) gridLegend(p *view.Page, s sheet) {
	var marks []string
	for _, m := range []struct{ mark, means string }{{"~", "not on all of it"}, {"?", "depends on the request"},
		{"+", "could be lent on request"}, {"!", "granted directly"}} {
		if slices.ContainsFunc(s.rows, func(r sheetRow) bool {
			return slices.ContainsFunc(r.cells, func(text string) bool { return strings.Contains(text, m.mark) })
		}) {
			marks = append(marks, m.mark+" "+m.means)
		}
	}
	if s.first != operationsDown {
		marks = append([]string{strings.Join(estate.LevelNames(), " < ")}, marks...)
	}
	if len(marks) > 0 {
		p.Line("\n%s", p.Paint(view.Faint, strings.Join(marks, "; ")))
	}
}

func (a *app) gridCSV(s sheet, heading [][]string) error {
	w := tabular.NewWriter(a.exact())
	for _, row := range heading {
		w.Write(row)
	}
	head := append([]string{s.first}, s.columns...)
	if s.about {
		head = append(head, "about")
	}
	w.Write(head)
	for _, r := range s.rows {
		row := append([]string{r.name}, r.cells...)
		if s.about {
			row = append(row, r.about)
		}
		w.Write(row)
	}
	if err := w.Flush(); err != nil {
		return outside{err}
	}
	return nil
}

func (a *app) gridMarkdown(s sheet) {
	p := a.page(a.Out)
	line := func(cells []string) { fmt.Fprintf(p, "| %s |\n", strings.Join(cells, " | ")) }
	head := append([]string{s.first}, s.columns...)
	if s.about {
		head = append(head, "about")
	}
	line(head)
	line(slices.Repeat([]string{"---"}, len(head)))
	for _, r := range s.rows {
		row := append([]string{r.name}, r.cells...)
		if s.about {
			row = append(row, r.about)
		}
		for i := range row {
			row[i] = strings.NewReplacer("|", "\\|", "~", "\\~").Replace(row[i])
		}
		line(row)
	}
}

func (a *app) gridJSON(s sheet, invited []string, judged []judgedRow) error {
	rows := []map[string]any{}
	for _, r := range s.rows {
		rows = append(rows, r.json)
	}
	columns := []string{}
	for _, name := range s.columns {
		columns = append(columns, strings.TrimSuffix(name, invitedMark))
	}
	return a.json(map[string]any{"columns": columns, "rows": rows, "invited": invited, "judged": judged})
}

// askedTest is the test that a grid is to be written as.
type askedTest struct {
	id string
	survey.Question
}

// gridTest writes the grid as a test of levels, and leaves out what a test can't say or what members of a group have
// beyond it.
func (a *app) gridTest(g *gate.Gate, grid *survey.Grid, rows []survey.GridRow, q askedTest) error {
	if err := estate.CheckID(q.id); err != nil {
		return fmt.Errorf("--as-tests: %w", err)
	}
	if q.What != nil {
		return fmt.Errorf("--as-tests speaks of levels, of all operations; leave --what out")
	}
	if old := g.Estate().Tests[q.id]; old != nil {
		return fmt.Errorf("--as-tests: there is a test %s already (%s); choose another id", q.id, old.Source.Short())
	}
	ctx, err := q.Ask(g)
	if err != nil {
		return err
	}
	if _, timed := ctx.Moment(); !timed {
		return fmt.Errorf("--as-tests needs a time; leave --at any out")
	}
	said := ctx.Said(g.Estate().Zone)
	var left, written []string
	for _, l := range grid.Levels(g, rows, estate.Test{Object: estate.Object{ID: q.id}, Given: said}) {
		if l.Nobody {
			left = append(left, l.Column.Name+" (a test is of somebody who can sign in)")
		}
		for _, place := range l.Left {
			left = append(left, l.Column.Name+" on "+place.String())
		}
		var levels []string
		for _, rule := range l.Rules {
			word := "none"
			if !rule.None {
				word = rule.Level.String()
			}
			levels = append(levels, yamlText(rule.Place.String())+": "+word)
		}
		if len(levels) > 0 {
			written = append(written, fmt.Sprintf("      %s: {%s}\n", l.Column.Name, strings.Join(levels, ", ")))
		}
	}
	if len(written) > 0 { // a test that expects nothing is no test
		fmt.Fprintf(a.page(a.Out), "tests:\n  %s:\n    given: {%s}\n    levels:\n%s", q.id,
			strings.Join(givenText(&said), ", "),
			strings.Join(written, ""))
	}
	if len(left) > 0 {
		a.page(a.Err).Line("hgate: left out, where it depends on the request or members have more by other ways: %s",
			strings.Join(left, "; "))
	}
	return nil
}

// yamlText writes a text as YAML that reads it back.
func yamlText(text string) string {
	out, err := json.Marshal(text) // YAML 1.2 takes JSON's texts
	if err != nil || !strings.ContainsFunc(text, unicode.IsControl) {
		return "'" + strings.ReplaceAll(text, "'", "''") + "'"
	}
	return string(out)
}

// givenText writes what a request says as the keys of a test's given.
func givenText(said *estate.Given) (out []string) {
	out = append(out, "time: "+said.Time.Text)
	for _, v := range said.Facts {
		value := v.Value
		switch estate.FactNamed(v.Fact).Kind {
		case estate.YesNo, estate.Carried:
			value = fmt.Sprint(value == estate.Yes)
		case estate.FromNetwork:
			value = yamlText(value)
		}
		out = append(out, v.Fact+": "+value)
	}
	var pairs []string
	for _, tag := range said.Context {
		pairs = append(pairs, tag.Key+": "+yamlText(tag.Value))
	}
	if pairs != nil {
		out = append(out, "context: {"+strings.Join(pairs, ", ")+"}")
	}
	return out
}
