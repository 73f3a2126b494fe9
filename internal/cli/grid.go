package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/lending"
	"hiddengate/internal/survey"
)

// gridFlags are what a grid is asked for.
type gridFlags struct {
	who, members, roles, where, what, levels, unfold []string
	groups, operations, describe, all                bool
	depth                                            int
	asTests, expect, file                            string
	edit                                             editing           // of the test
	signed                                           *signed           // what expect names
	heading                                          func() [][]string // what a sheet says of itself
}

// mostAnswers bounds how many answers a grid works out: columns times resources. mostColumns is how many stand side by
// side where a person reads them.
const (
	mostAnswers = 2_000_000_000
	mostColumns = 300
)

func (a *app) gridCommand() *cobra.Command {
	var f gridFlags
	c := &cobra.Command{
		Use:   "grid",
		Short: "Show one grid of people against places",
		Long: `Shows how far people, services, groups or roles get in each place and all inside it: view, use,
change or govern, whichever is the highest of which anything is allowed. What is inside a place is a
row of its own if it differs from the row above, down to --depth. A group's column is what a new member gets who is in
nothing else; a role's, what it gives on everything.

  change~    on some of what is there, not on all that offers it
  ?change    depends on what the request says: --mfa yes and the like say it
  +change    could be lent on request
  change!    some of it only by a grant to that subject, not to a group

A row speaks for its place and everything inside it. Where --where chooses only a part of a place,
the row says of how many of its resources it speaks.

--operations puts operations down instead of places. A sheet of --format csv says in its first lines
what it covers; --expect compares it with what is now, new people and places too, and exits with 1
if anything differs. --as-tests adds the grid to the workspace as a test.`,
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
	fl.StringVar(&f.asTests, "as-tests", "", "add it to the workspace as a test of this `name`")
	fl.StringVar(&f.file, "file", "", "with --as-tests, the `file` of the workspace to put it into")
	fl.BoolVar(&f.edit.dryRun, "dry-run", false, "with --as-tests, tell what would change, and write nothing")
	a.lentFlag(c)
	fl.StringVar(&f.expect, "expect", "", "compare with a signed CSV `file`, which says what it covers")
	_ = c.RegisterFlagCompletionFunc("levels",
		cobra.FixedCompletions(estate.LevelNames(), cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("roles", a.completeSection("roles"))
	_ = c.RegisterFlagCompletionFunc("members-of", a.completeSection("groups"))
	c.RunE = func(cmd *cobra.Command, _ []string) (err error) {
		if cmd.Flags().Changed("role") {
			return fmt.Errorf("--role names the session of one subject; --roles puts roles across")
		}
		down := f.operations || f.describe && len(f.roles) > 0
		if name := givenOf(cmd, "depth", "unfold", "as-tests", "expect"); down && name != "" {
			return fmt.Errorf("--%s goes with places down; leave it out where operations stand there", name)
		}
		if name := givenOf(cmd, "file", "dry-run"); f.asTests == "" && name != "" {
			return fmt.Errorf("--%s goes with --as-tests", name)
		}
		if f.describe && !down {
			return fmt.Errorf("--describe tells what operations do: put them down with --operations")
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
		if g, err = a.lentAt(g); err != nil {
			return err
		}
		q.Lent, q.Gate = lending.Elevations(a.lent), g
		var said string
		q.Ask = func(g *gate.Gate) (ctx *gate.Context, err error) {
			ctx, said, err = flags.build(a, cmd, g)
			return ctx, err
		}
		if n := len(q.Columns) * g.Estate().Tree.Len(); n > mostAnswers {
			return fmt.Errorf("%d columns over %d resources is too much for one grid; name fewer with --who or --members-of",
				len(q.Columns), g.Estate().Tree.Len())
		}
		if n := len(q.Columns); n > mostColumns && (a.format == "text" || a.format == "md") && f.expect+f.asTests == "" {
			return fmt.Errorf("%d columns are more than anybody reads side by side; name fewer with --who or --members-of, "+
				"or take --format csv", n)
		}
		done := a.progress("working out the grid")
		grid, err := survey.NewGrid(a.ctx, g.Estate(), q)
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

// folding reads which places are rows of their own.
func (f gridFlags) folding(g *gate.Gate) (out survey.Folding, err error) {
	out.Depth = f.depth
	unfold, named := map[estate.Address]bool{}, map[estate.Address]bool{}
	for _, text := range f.unfold {
		address, err := estate.ParseAddress(text)
		if err != nil {
			return out, fmt.Errorf("--unfold: %w", err)
		}
		if g.Estate().Listed(address) == nil {
			return out, fmt.Errorf("--unfold %s: nothing is listed there", text)
		}
		unfold[address] = true
	}
	for _, text := range f.where {
		if address, err := estate.ParseAddress(text); err == nil {
			named[address] = true
		}
	}
	out.Unfold = func(r *estate.Resource) bool { return unfold[r.Address] }
	out.Named = func(r *estate.Resource) bool { return named[r.Address] }
	return out, nil
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
		if len(inside.Unlisted) > 0 {
			return nil, fmt.Errorf("--where %s: this speaks of listed resources, and that is not listed", text)
		}
		t, _ := estate.ParseResourceTerm(text)
		out = append(out, t)
	}
	return out, nil
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
		s = operationSheet(grid, ops, cells, a.format == "text", f.describe)
	} else {
		folding, err := f.folding(g)
		if err != nil {
			return err
		}
		rows := grid.Rows(folding)
		switch {
		case f.asTests != "":
			return a.gridTest(g, grid, rows, askedTest{f.asTests, f.file, f.edit, q.Question})
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
			func(t estate.ResourceTerm) bool { return g.CoversTerm(&t, r) })
	}})
}
