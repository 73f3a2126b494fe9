package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/target"
	"hiddengate/internal/view"
)

func (a *app) compileCommand() *cobra.Command {
	var fidelity bool
	var driver string
	c := &cobra.Command{
		Use: "compile SYSTEM", Short: "Print what a real system has to be told, and what becomes of each operation",
		Long: `Prints what a system that has what the inventory lists, and gives nothing to anybody yet, has to be told
so that it allows what the policy allows now: each line with the grant that caused it. It reads the
policy alone, and reaches no system. Where several drivers carry a kind of system, and your settings do
not say how this one is reached, it takes the first; --driver takes another.

Then it tells what becomes of each operation: as-written; narrower, and why; to-everybody, where the
system gives it to every account; or nothing, where it has no right for it. What hangs on more than
the moment, as on a network, is left out: the system never gives more than the policy.`,
		Example: "  hgate compile obsdb\n  hgate compile obsdb --fidelity\n  hgate compile obsdb --driver mariadb\n" +
			"  hgate compile obsdb --format json",
		Args: takes(1, 1),
	}
	a.systemArg(c)
	c.Flags().BoolVar(&fidelity, "fidelity", false, "tell what becomes of each operation alone")
	c.Flags().StringVar(&driver, "driver", "",
		"the `driver`, as if your settings named it: "+strings.Join(driverNames(), ", "))
	a.formats(c, "text", "json")
	c.RunE = func(_ *cobra.Command, args []string) error {
		c, err := a.carried(args[0], driver)
		if err != nil {
			return err
		}
		state := inventoryState(c.gate, c.id)
		arrangement, err := a.arranged(c, state)
		if err != nil {
			return err
		}
		to := target.Connection{System: c.id}
		if c.reach != nil {
			to.At = c.reach.At
		}
		plan := c.driver.Blank(to, state).Plan(arrangement)
		state = arrangement.State // with the rows that are told apart
		carried := arrangement.Fidelity()
		forbidden := arrangement.Forbidden()
		explain(carried, forbidden)
		if a.format == "json" {
			if err := a.compileJSON(c, state, plan, carried); err != nil || len(forbidden) == 0 {
				return err
			}
			return answered(exitNo)
		}
		p := a.page(a.Out)
		if !fidelity {
			p.Line("%s", p.Paint(view.Heading, fmt.Sprintf("%s, told to %s", c.id, c.driver.About)))
			a.statementsText(p, plan)
			p.Line("")
		}
		a.fidelityText(p, c, state, carried)
		for _, one := range forbidden {
			p.Line("%s %s can use %s on %s whatever the policy says, and %s forbids it", p.Paint(view.No, "error:"),
				one.Subject, one.Operation, state.Address(c.id, one.Place), one.By)
		}
		a.asideText(arrangement.Wanted, state)
		if len(forbidden) > 0 {
			return answered(exitNo)
		}
		return nil
	}
	return c
}

// explain adds to what becomes of operations which test or guarantee forbids that.
func explain(carried []target.Carried, forbidden []target.Forbidden) {
	for i := range carried {
		for _, f := range forbidden {
			if one := &carried[i]; one.Operation == f.Operation && one.Place == f.Place {
				one.Why += "; " + f.By + " forbids it"
			}
		}
	}
}

func (a *app) compileJSON(c *carrying, state *target.State, plan *target.Plan, carried []target.Carried) error {
	lines, fidelity := []object{}, []object{}
	for _, s := range plan.Statements {
		lines = append(lines, object{{"text", s.Text}, {"grants", append([]string{}, s.Grants...)}})
	}
	for _, one := range carried {
		fidelity = append(fidelity, object{{"operation", one.Operation},
			{"resource", state.Address(c.id, one.Place).String()},
			{"subjects", one.Subjects}, {"carried", string(one.How)}, {"why", one.Why}})
	}
	return a.json(object{{"system", c.id}, {"lines", lines}, {"fidelity", fidelity}})
}

// statementsText prints statements, each with its grants or its reason.
func (a *app) statementsText(p *view.Page, plan *target.Plan) {
	if len(plan.Statements) == 0 {
		p.Line("  nothing")
	}
	styles := map[target.Doing]view.Style{target.Add: view.Yes, target.Remove: view.No, target.Alter: view.Maybe}
	last := ""
	for _, s := range plan.Statements {
		from := s.Why
		if len(s.Grants) > 0 {
			from = "by " + strings.Join(s.Grants, ", ")
		}
		if from != last && from != "" {
			p.Line("  %s", p.Paint(view.Faint, from))
		}
		last = from
		p.Line("    %s  %s", p.Paint(styles[s.Do], fmt.Sprintf("%-6s", s.Do)), s.Text)
	}
}

// fidelityText tells what becomes of each operation, those of one fate and reason together.
func (a *app) fidelityText(p *view.Page, c *carrying, state *target.State, carried []target.Carried) {
	type fate struct {
		how target.How
		why string
	}
	type group struct {
		operations []*estate.Operation
		places     map[estate.Address]bool
	}
	groups := map[fate]*group{}
	var order []fate
	for _, one := range carried {
		if one.Subjects == 0 && one.How != target.ToEverybody {
			continue
		}
		k := fate{one.How, one.Why}
		if groups[k] == nil {
			groups[k] = &group{places: map[estate.Address]bool{}}
			order = append(order, k)
		}
		g := groups[k]
		if o := c.gate.Estate().Operations[one.Operation]; !slices.Contains(g.operations, o) {
			g.operations = append(g.operations, o)
		}
		g.places[state.Address(c.id, one.Place)] = true
	}
	rank := []target.How{target.AsWritten, target.Narrower, target.ToEverybody, target.NotCarried}
	slices.SortStableFunc(order, func(a, b fate) int { return slices.Index(rank, a.how) - slices.Index(rank, b.how) })
	styles := map[target.How]view.Style{target.AsWritten: view.Yes, target.Narrower: view.Maybe,
		target.ToEverybody: view.Maybe, target.NotCarried: view.No}
	var rows [][]view.Cell
	for _, k := range order {
		g := groups[k]
		var where []string
		for _, place := range slices.SortedFunc(maps.Keys(g.places), estate.Address.Compare) {
			where = append(where, place.String())
		}
		rows = append(rows, []view.Cell{{Text: string(k.how), Style: styles[k.how]},
			{Text: p.Operations(namingOf(g.operations))}, {Text: someTexts(where)}, {Text: k.why, Style: view.Faint}})
	}
	if len(rows) == 0 {
		p.Line("Nobody with an account may do anything there.")
		return
	}
	p.Table(0, []string{"carried", "operations", "where", "why"}, rows)
}
