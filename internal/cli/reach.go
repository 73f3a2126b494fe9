package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/survey"
	"hiddengate/internal/view"
)

func (a *app) reachCommand() *cobra.Command {
	var all, visible bool
	c := &cobra.Command{
		Use:   "reach SUBJECT",
		Short: "Show all that a subject may do, and where",
		Long: `Lists what a person, a service or anonymous may do, system by system. A place with all inside it
is one line where the answer is the same throughout, and a whole level one word. Of a group it
shows what a new member would get who is in nothing else.`,
		Example: `  hgate reach lucas.amarel
  hgate reach group:visitors --at any
  hgate reach marek.dvorin --all --network 10.40.3.7
  hgate reach tomas.velho --visible`,
		Args:              takes(1, 1),
		ValidArgsFunction: a.completeFirst(a.subjectsAndGroups),
	}
	flags := a.circumstances(c)
	a.lentFlag(c)
	c.Flags().BoolVar(&all, "all", false, "one line for each resource and operation that is not denied")
	c.Flags().BoolVar(&visible, "visible", false, "the resources that the subject sees")
	c.MarkFlagsMutuallyExclusive("all", "visible")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		g, err := a.compiledLent()
		if err != nil {
			return err
		}
		who, err := estate.ParsePrincipal(args[0])
		if err != nil {
			return err
		}
		if who.Kind == estate.IsGroup {
			if g.Estate().Groups[who.ID] == nil {
				return unknown("group", who.ID, ids(g.Estate().Section("groups")))
			}
			with, member := g.Estate().WithNewMember(who.ID)
			if g, err = gate.Compile(with, nil); err != nil {
				return err
			}
			who = member
		} else if err := g.Subject(who); err != nil {
			return err
		}
		ctx, said, err := flags.build(a, cmd, g)
		if err != nil {
			return err
		}
		q := asked{g, ctx, args[0], said}
		switch {
		case visible:
			return a.visible(q, who)
		case all:
			return a.reachAll(g, who, ctx)
		}
		done := a.progress("looking through the resources")
		rows, err := survey.Reach(g, who, ctx)
		done()
		if err != nil {
			return err
		}
		judged, err := a.judged(g, ctx, map[estate.Principal]bool{who: true}, wanted{})
		if err != nil {
			return err
		}
		if a.format == "json" {
			return a.reachJSON(rows, judged)
		}
		a.reachText(q, who, rows, judged)
		return nil
	}
	a.formats(c, "text", "json")
	return c
}

func (a *app) reachJSON(rows []survey.Row, judged []judgedRow) error {
	type row struct {
		Resource   string   `json:"resource"`
		Inside     bool     `json:"inside"`
		Operations []string `json:"operations"`
		Decision   string   `json:"decision"`
		Grants     []string `json:"grants"`
	}
	return a.jsonObject(jsonPart{"rows", eachAs(rows, func(r survey.Row) row {
		one := row{Resource: r.Resource.Address.String(), Inside: r.Inside, Decision: r.Outcome.String(),
			Operations: []string{}, Grants: []string{}}
		for _, o := range r.Operations {
			one.Operations = append(one.Operations, o.Name)
		}
		for _, part := range r.Through {
			one.Grants = append(one.Grants, part.Grant)
		}
		return one
	})}, jsonPart{"judged", judged})
}

func (a *app) reachText(q asked, who estate.Principal, rows []survey.Row, judged []judgedRow) {
	p := a.page(a.Out)
	for i := range judged {
		judged[i].Subjects = nil // the one that is asked about
	}
	defer judgedText(p, judged)
	if len(rows) == 0 {
		nothing := "reaches nothing"
		if len(judged) > 0 {
			nothing += " that is listed"
		}
		p.Line("%s %s", subjectOfReach(q.about), p.Paint(view.No, nothing))
		p.Line("%s", p.Paint(view.Faint, q.said))
		return
	}
	systems := map[string]bool{}
	for _, r := range rows {
		systems[r.Resource.System.ID] = true
	}
	p.Line("%s", p.Paint(view.Heading,
		fmt.Sprintf("%s reaches %s", subjectOfReach(q.about), count(len(systems), "system"))))
	p.Line("%s", p.Paint(view.Faint, q.said+"; /… is all inside too"))
	groups := survey.Grouped(rows)
	if len(groups) > mostListed {
		p.Line("Here are the first %d of %d answers: `--format json` has them all.", mostListed, len(groups))
		groups = groups[:mostListed]
	}
	for i := 0; i < len(groups); {
		system := groups[i][0].Resource.System
		title := system.ID + ", a " + system.Kind.ID
		if system.Title != "" {
			title = system.ID + ", " + system.Title
		}
		p.Line("\n%s", p.Paint(view.Heading, title))
		var cells [][]view.Cell
		for ; i < len(groups) && groups[i][0].Resource.System == system; i++ {
			cells = append(cells, reachCells(q.gate, who, groups[i])...)
		}
		p.Table(2, []string{"place", "may", "through grant (to)"}, cells)
	}
}

// subjectOfReach says whose reach it is.
func subjectOfReach(about string) string {
	if strings.HasPrefix(about, "group:") {
		return "a new member of " + about
	}
	return about
}

// reachCells writes places that have the same answer: a line for each grant that gives some of it.
func reachCells(g *gate.Gate, who estate.Principal, rows []survey.Row) [][]view.Cell {
	place := rows[0].Resource.Address.String()
	const most = 3
	for i, r := range rows[1:] {
		if i == most {
			place += fmt.Sprintf(" and %d more", len(rows)-1-most)
			break
		}
		if r.Resource.Parent == rows[i].Resource.Parent { // the one before it
			place += ", " + r.Resource.Address.Name()
		} else {
			place += ", " + r.Resource.Address.String()
		}
	}
	if rows[0].Inside {
		place += "/…"
	}
	var cells [][]view.Cell
	for _, part := range rows[0].Through {
		what := view.Cell{Text: strings.Join(part.Words, ", ")}
		if rows[0].Outcome == gate.Depends {
			what = view.Cell{Text: "depends: " + what.Text, Style: view.Maybe}
		}
		to := view.ShortSelection(g.Who(g.Estate().Grants[part.Grant].To, who))
		cells = append(cells, []view.Cell{{Text: place}, what, {Text: part.Grant + " (" + to + ")", Style: view.Faint}})
		place = ""
	}
	return cells
}

func (a *app) reachAll(g *gate.Gate, who estate.Principal, ctx *gate.Context) error {
	type row struct {
		Resource  string `json:"resource"`
		Operation string `json:"operation"`
		Decision  string `json:"decision"`
	}
	if a.format == "json" {
		return a.jsonRows(func(yield func(any) bool) error {
			return g.Reach(who, ctx, func(answer gate.Answer) bool {
				return yield(row{answer.Resource.Address.String(), answer.Operation.Name, answer.Outcome.String()})
			})
		})
	}
	p := a.page(a.Out)
	var cells [][]view.Cell
	err := g.Reach(who, ctx, func(answer gate.Answer) bool {
		style := view.Yes
		if answer.Outcome != gate.Allow {
			style = view.Maybe
		}
		cells = append(cells, []view.Cell{{Text: answer.Resource.Address.String()}, {Text: answer.Operation.Name},
			{Text: answer.Outcome.String(), Style: style}})
		return true
	})
	if err != nil {
		return err
	}
	p.Table(0, []string{"resource", "operation", "decision"}, cells)
	return nil
}

func (a *app) visible(q asked, who estate.Principal) error {
	seen, err := survey.Visible(q.gate, who, q.context)
	if err != nil {
		return err
	}
	if a.format == "json" {
		type row struct {
			Resource string `json:"resource"`
		}
		return a.jsonRows(eachAs(seen, func(r *estate.Resource) row { return row{r.Address.String()} }))
	}
	p := a.page(a.Out)
	p.Line("%s sees %d of %s, %s", q.about, len(seen), count(q.gate.Estate().Tree.Len(), "resource"), q.said)
	if len(seen) > mostListed {
		p.Line("Here are the first %d: `--format json` has them all.", mostListed)
		seen = seen[:mostListed]
	}
	for _, r := range seen {
		p.Line("  %s%s", strings.Repeat("  ", r.Address.Depth()), r.Address)
	}
	return nil
}

func unknown(what, id string, known []string) error {
	help := ""
	if near := nearest(id, known); near != "" {
		help = "; did you mean " + near + "?"
	}
	return fmt.Errorf("there is no %s %q%s", what, id, help)
}
