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
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeFirst(a.subjects(true)),
	}
	flags := a.circumstances(c)
	c.Flags().BoolVar(&all, "all", false, "one line for each resource and operation")
	c.Flags().BoolVar(&visible, "visible", false, "the resources that the subject sees")
	c.MarkFlagsMutuallyExclusive("all", "visible")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		g, err := a.compiled()
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
		switch {
		case visible:
			return a.visible(g, who, args[0], ctx, said)
		case all:
			return a.reachAll(g, who, ctx)
		}
		rows, err := survey.Reach(g, who, ctx)
		if err != nil {
			return err
		}
		if a.format == "json" {
			return a.reachJSON(rows)
		}
		a.reachText(g, who, args[0], said, rows)
		return nil
	}
	a.formats(c, "text", "json")
	return c
}

func (a *app) reachJSON(rows []survey.Row) error {
	type row struct {
		Resource   string   `json:"resource"`
		Inside     bool     `json:"inside"`
		Operations []string `json:"operations"`
		Decision   string   `json:"decision"`
		Grants     []string `json:"grants"`
	}
	out := struct {
		Rows []row `json:"rows"`
	}{[]row{}}
	for _, r := range rows {
		one := row{Resource: r.Resource.Address.String(), Inside: r.Inside, Decision: r.Outcome.String(), Operations: []string{}, Grants: r.Grants}
		for _, o := range r.Operations {
			one.Operations = append(one.Operations, o.Name)
		}
		out.Rows = append(out.Rows, one)
	}
	return a.json(out)
}

func (a *app) reachText(g *gate.Gate, who estate.Principal, name, said string, rows []survey.Row) {
	p := a.page(a.Out)
	if len(rows) == 0 {
		p.Line("%s reaches nothing, %s.", name, said)
		return
	}
	p.Line("%s", p.Paint(view.Heading, "What "+name+" may do"))
	p.Line("%s", p.Paint(view.Faint, said+"; …/ means all inside too"))
	e := g.Estate()
	shown := map[string]bool{}
	for i := 0; i < len(rows); {
		system := rows[i].Resource.System
		title := system.ID
		if system.Title != "" {
			title += ", " + strings.ToLower(system.Title[:1]) + system.Title[1:]
		}
		p.Line("\n%s", p.Paint(view.Heading, title+" ("+system.Kind.ID+")"))
		var cells [][]string
		for ; i < len(rows) && rows[i].Resource.System == system; i++ {
			r := rows[i]
			place := r.Resource.Address.String()
			if r.Inside {
				place += "/…"
			}
			what := strings.Join(r.Words, ", ")
			if r.Outcome == gate.Depends {
				what = p.Paint(view.Maybe, "depends") + ": " + what
			}
			var through []string
			for _, id := range r.Grants {
				through = append(through, id+" ("+g.Who(e.Grants[id].To, who)+")")
				shown[id] = true
			}
			cells = append(cells, []string{place, what, p.Paint(view.Faint, strings.Join(through, ", "))})
		}
		p.Table(2, []string{"place", "may", "through grant (to)"}, cells)
	}
}

func (a *app) reachAll(g *gate.Gate, who estate.Principal, ctx *gate.Context) error {
	type row struct {
		Resource  string `json:"resource"`
		Operation string `json:"operation"`
		Decision  string `json:"decision"`
	}
	out := struct {
		Rows []row `json:"rows"`
	}{[]row{}}
	err := g.Reach(who, ctx, func(answer gate.Answer) bool {
		out.Rows = append(out.Rows, row{answer.Resource.Address.String(), answer.Operation.Name, answer.Outcome.String()})
		return true
	})
	if err != nil {
		return err
	}
	if a.format == "json" {
		return a.json(out)
	}
	p := a.page(a.Out)
	var cells [][]string
	for _, r := range out.Rows {
		style := view.Yes
		if r.Decision != "allow" {
			style = view.Maybe
		}
		cells = append(cells, []string{r.Resource, r.Operation, p.Paint(style, r.Decision)})
	}
	p.Table(0, []string{"resource", "operation", "decision"}, cells)
	return nil
}

func (a *app) visible(g *gate.Gate, who estate.Principal, name string, ctx *gate.Context, said string) error {
	seen, err := survey.Visible(g, who, ctx)
	if err != nil {
		return err
	}
	if a.format == "json" {
		type row struct {
			Resource string `json:"resource"`
		}
		out := struct {
			Rows []row `json:"rows"`
		}{[]row{}}
		for _, r := range seen {
			out.Rows = append(out.Rows, row{r.Address.String()})
		}
		return a.json(out)
	}
	p := a.page(a.Out)
	p.Line("%s sees %d of %s, %s", name, len(seen), count(len(g.Estate().Resources), "resource"), said)
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
