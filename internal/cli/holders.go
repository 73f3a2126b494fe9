package cli

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/escalation"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/view"
)

func (a *app) holdersCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "holders OPERATION RESOURCE",
		Short: "Show who may do an operation in a place",
		Long: `Lists everybody who may do it in a place or anything inside it (--exactly: in the place alone), and
through which grant. The operation may be a selector
('from change', 'table.*') and the resource a pattern or a scope: then it lists who may do any
of the operations anywhere there. With --eventual it goes on with whoever can get to it, through
operations that open more, delegations, groups that they look after, or on request, and shows the
shortest chain of steps for each. It exits with 1 if there is nobody.`,
		Example: `  hgate holders table.drop obsdb:sky
  hgate holders "from change" ridge-net:summit
  hgate holders "only govern" everything --at any
  hgate holders table.drop obsdb:sky --eventual`,
		Args:              takes(2, 2),
		ValidArgsFunction: a.completeHolders,
	}
	var eventual bool
	c.Flags().BoolVar(&eventual, "eventual", false, "count whoever can get to it step by step, too")
	var exactly, all bool
	c.Flags().BoolVar(&all, "all", false, "show all of them as text, however many there are")
	c.Flags().BoolVar(&exactly, "exactly", false, "ask about the place alone, and not about what is inside it")
	flags := a.circumstances(c)
	a.lentFlag(c)
	_ = c.Flags().MarkHidden("role") // a session is one subject's
	c.RunE = func(cmd *cobra.Command, args []string) error {
		g, err := a.compiledLent()
		if err != nil {
			return err
		}
		if cmd.Flags().Changed("role") {
			return fmt.Errorf("--role names the session of one subject; leave it out here")
		}
		operation, place, places, err := selected(g, args[0], args[1], extent(exactly))
		if err != nil {
			return err
		}
		ctx, said, err := flags.build(a, cmd, g)
		if err != nil {
			return err
		}
		fits := func(o *estate.Operation) bool { return operation.Fits(o, g.Estate().Edition) }
		q := asked{g, ctx, strings.Join(args, " on "), said}
		most := mostListed
		if all {
			most = math.MaxInt
		}
		if eventual {
			now, _, err := a.instant(g.Estate().Zone)
			if err != nil {
				return err
			}
			return a.eventualHolders(q, now, places, fits, most)
		}
		done := a.progress("asking for every subject")
		holders, err := counting.Holders(a.ctx, g, ctx, places, fits)
		done()
		if err != nil {
			return err
		}
		judged := []judgedRow{}
		if !exactly {
			of := wanted{fits, func(r *estate.Resource) bool { return g.CoversTerm(&place, r) }}
			if judged, err = a.judged(g, ctx, nil, of); err != nil {
				return err
			}
		}
		if a.format == "json" {
			err = a.holdersJSON(holders, judged)
		} else {
			err = a.holdersText(q, holders, judged, most)
		}
		if err == nil && len(holders)+len(judged) == 0 {
			err = answered(exitNo)
		}
		return err
	}
	a.formats(c, "text", "json")
	return c
}

// extent says how much of a place is meant.
type extent bool

// The place and all inside it, or the place alone.
const (
	throughout extent = false
	alone      extent = true
)

// selected reads an operation and a place, or selectors of them: the place is itself and all inside it, unless it is
// meant exactly. What selects nothing is an error.
func selected(g *gate.Gate, what, where string, of extent) (estate.OperationTerm, estate.ResourceTerm,
	counting.Places, error) {
	operation, err := estate.ParseOperationTerm(what)
	if err != nil {
		return operation, estate.ResourceTerm{}, counting.Places{}, err
	}
	place, err := estate.ParseResourceTerm(where)
	if err != nil {
		return operation, place, counting.Places{}, err
	}
	places, err := chosen(g, operation, place, of)
	return operation, place, places, err
}

// chosen lists the resources of a place on which an operation is asked about.
func chosen(g *gate.Gate, operation estate.OperationTerm, place estate.ResourceTerm, of extent) (counting.Places,
	error) {
	none := counting.Places{}
	if operation.Not || place.Not {
		return none, fmt.Errorf("`not` has nothing to take away from here")
	}
	e := g.Estate()
	if place.Scope != "" && e.Scopes[place.Scope] == nil {
		return none, unknown("scope", place.Scope, ids(e.Section("scopes")))
	}
	plain := place.In != nil && place.In.Plain()
	if of == alone && !plain {
		return none, fmt.Errorf("--exactly is about one place, and %s is none", place)
	}
	var one *estate.Resource
	if plain {
		var err error
		if one, err = g.Place(place.In.Address()); err != nil {
			return none, err
		}
		if operation.Kind == estate.ByName && (of == alone || one.Index < 0) {
			return counting.PlacesOf(one), g.Operation(operation.Name, one)
		}
		if of == alone || one.Index < 0 {
			return counting.PlacesOf(one), nil
		}
	}
	places := counting.Places{Rows: slices.Collect(g.Selected(estate.Resources{place}))}
	if places.Len() == 0 {
		return none, fmt.Errorf("%s fits no listed resource", place)
	}
	for _, row := range places.Rows {
		r := e.Tree.Rows[row]
		for _, o := range e.Offer(e.Tree.Systems[r.System].Kind.ID).On(e.Tree.Types[r.Type]) {
			if operation.Fits(o, e.Edition) {
				return places, nil
			}
		}
	}
	if one != nil && operation.Kind == estate.ByName {
		if one.System.Judge && appliesIn(e, one.System, operation.Name) {
			return places, nil // to what no inventory lists
		}
		return none, g.Operation(operation.Name, one)
	}
	return none, fmt.Errorf("no operation that %s names applies to anything in %s", operation, place)
}

// appliesIn says whether an operation applies to any type of resource of a system's kind.
func appliesIn(e *estate.Estate, s *estate.System, operation string) bool {
	offer := e.Offer(s.Kind.ID)
	return slices.ContainsFunc(offer.AllTypes, func(t string) bool { return offer.Valid(operation, t) != nil })
}

func (a *app) holdersJSON(holders []gate.Answer, judged []judgedRow) error {
	type row struct {
		Subject  string `json:"subject"`
		Decision string `json:"decision"`
	}
	rows := eachAs(holders, func(h gate.Answer) row { return row{h.Subject.String(), h.Outcome.String()} })
	return a.jsonObject(jsonPart{"rows", rows}, jsonPart{"judged", judged})
}

func (a *app) holdersText(q asked, holders []gate.Answer, judged []judgedRow, most int) error {
	p := a.page(a.Out)
	defer judgedText(p, judged)
	if len(holders) == 0 {
		nobody := "HELD BY NOBODY"
		if len(judged) > 0 {
			nobody += " ON WHAT IS LISTED"
		}
		p.Line("%s  %s", p.Paint(view.No, nobody), q.about)
		p.Line("%s", p.Paint(view.Faint, q.said))
		return nil
	}
	sure := len(slices.DeleteFunc(slices.Clone(holders), func(h gate.Answer) bool { return h.Outcome != gate.Allow }))
	p.Line("%s  %s", p.Paint(view.Heading, heldBy(sure, len(holders)-sure)), q.about)
	p.Line("%s\n", p.Paint(view.Faint, q.said))
	return holdersTable(p, q.gate, q.context, holders, most)
}

// heldBy counts who may, and of whom it depends.
func heldBy(sure, depends int) string {
	out := fmt.Sprint("HELD BY ", sure)
	if sure == 0 {
		out = "HELD BY NOBODY"
	}
	if depends > 0 {
		out += fmt.Sprintf(", DEPENDS FOR %d", depends)
	}
	return out
}

// holdersTable tells through which grants each may: of the first ones, as many as are wanted at most.
func holdersTable(p *view.Page, g *gate.Gate, ctx *gate.Context, holders []gate.Answer, most int) error {
	var cells [][]view.Cell
	if len(holders) > most {
		p.Line("Here are the first %d: narrow the place or the operation, or see --all.\n", most)
		holders = holders[:most]
	}
	for _, h := range holders {
		why, err := g.Explain(gate.Request{Subject: h.Subject, Operation: h.Operation.Name,
			Resource: h.Resource.Address.String(), Context: ctx})
		if err != nil {
			return err
		}
		var through []string
		for _, cause := range why.Grants {
			if cause.Met {
				through = append(through, cause.Grant.ID+" ("+view.ShortSelection(cause.Who)+")")
			}
		}
		cells = append(cells, []view.Cell{{Text: h.Subject.String()},
			{Text: h.Outcome.String(), Style: verdicts[h.Outcome].style},
			{Text: h.Operation.Name + " on " + h.Resource.Address.String()},
			{Text: strings.Join(through, ", "), Style: view.Faint}})
	}
	p.Table(2, []string{"who", "decision", "such as", "through grant (to)"}, cells)
	return nil
}

// eventualHolders tells who may, and who can get to it.
func (a *app) eventualHolders(q asked, now clock.Instant, places counting.Places,
	selects func(*estate.Operation) bool, most int) error {
	done := a.progress("looking for ways to more")
	ways, err := escalation.Work(a.ctx, q.gate.Estate(), now, q.gate)
	var holders []escalation.Holder
	if err == nil {
		holders, err = ways.Holders(a.ctx, q.context, q.gate, places, selects)
	}
	done()
	if err != nil {
		return err
	}
	a.sayUnseen(ways)
	var standing []gate.Answer
	for _, h := range holders {
		if len(h.Chain.Steps) == 0 {
			standing = append(standing, h.Answer)
		}
	}
	if a.format == "json" {
		type row struct {
			Subject   string     `json:"subject"`
			Decision  string     `json:"decision"`
			Operation string     `json:"operation"`
			Resource  string     `json:"resource"`
			As        string     `json:"as"`
			Steps     []stepJSON `json:"steps"`
		}
		err = a.jsonRows(eachAs(holders, func(h escalation.Holder) row {
			return row{h.Subject.String(), h.Outcome.String(), h.Operation.Name, h.Resource.Address.String(),
				h.Chain.As.String(), stepsJSON(h.Chain)}
		}))
	} else {
		err = a.eventualText(q, holders, standing, most)
	}
	if err == nil && len(holders) == 0 {
		err = answered(exitNo)
	}
	return err
}

func (a *app) eventualText(q asked, holders []escalation.Holder, now []gate.Answer, most int) error {
	p := a.page(a.Out)
	style := view.Heading
	if len(now) == 0 {
		style = view.No
	}
	sure := len(slices.DeleteFunc(slices.Clone(now), func(h gate.Answer) bool { return h.Outcome != gate.Allow }))
	held := heldBy(sure, len(now)-sure)
	if more := len(holders) - len(now); more > 0 {
		held += fmt.Sprintf(", IN REACH OF %d MORE", more)
	}
	p.Line("%s  %s", p.Paint(style, held), q.about)
	p.Line("%s", p.Paint(view.Faint, q.said))
	if len(now) > 0 {
		p.Line("")
		if err := holdersTable(p, q.gate, q.context, now, most); err != nil {
			return err
		}
	}
	for _, h := range holders[len(now):] {
		p.Line("\n%s  in %s", p.Paint(view.Heading, h.Subject.String()), count(len(h.Chain.Steps), "step"))
		chainText(p, 2, chained{q.gate.Estate(), h.Chain, h.Operation.Name, h.Resource.Address.String()})
	}
	return nil
}
