package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/survey"
	"hiddengate/internal/view"
)

var rules = map[survey.Rule]struct{ word, text string }{
	survey.Alone:      {"alone", "nobody else who asks is allowed it"},
	survey.Precedence: {"precedence", "the role stands first in the precedence of %s"},
	survey.Keeps:      {"keeps", "no role stands before it in the precedence of %s, and whoever has it keeps it"},
	survey.First:      {"first", "no role stands before it in the precedence of %s, and they asked first"},
	survey.Tied: {"tied", "their roles stand equal in the precedence of %s, and nothing says who has it or asked first; " +
		"name them in the order in which they asked, or say --held-by"},
}

func (a *app) contestCommand() *cobra.Command {
	var holder string
	c := &cobra.Command{
		Use:   "contest OPERATION RESOURCE [SUBJECT…]",
		Short: "Show who wins an operation that one subject at a time may hold",
		Long: `Shows who wins an exclusive operation, such as control of a dish, when several subjects want it. It
goes to the subject who is allowed it through the role that comes first in the system's precedence.
On a tie the subject who holds it (--held-by) keeps it; otherwise the one who asked first wins, in
the order of the names. Without names it looks at everybody who may. It exits with 1 if nobody gets
it, or nothing decides between several.`,
		Example: `  hgate contest control.take north-dish --network 10.40.1.1
  hgate contest control.take north-dish marek.dvorin hana.kobari --held-by hana.kobari`,
		ValidArgsFunction: a.completeContest,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 2 {
				return fmt.Errorf("contest takes an operation, a resource and who wants it, as in: hgate contest control.take " +
					"north-dish marek.dvorin hana.kobari")
			}
			return nil
		},
	}
	flags := a.circumstances(c)
	a.lentFlag(c)
	_ = c.Flags().MarkHidden("role") // a session is one subject's
	c.Flags().StringVar(&holder, "held-by", "", "the `subject` who has it now")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		g, err := a.compiledLent()
		if err != nil {
			return err
		}
		if cmd.Flags().Changed("role") {
			return fmt.Errorf("--role names the session of one subject; leave it out here")
		}
		address, err := estate.ParseAddress(args[1])
		if err != nil {
			return err
		}
		place, err := g.Place(address)
		if err != nil {
			return err
		}
		if err := g.Operation(args[0], place); err != nil {
			return err
		}
		if !g.Estate().Operations[args[0]].Exclusive {
			return fmt.Errorf("%s is not exclusive: everybody who is allowed it may do it at the same time", args[0])
		}
		ctx, said, err := flags.build(a, cmd, g)
		if err != nil {
			return err
		}
		var who []estate.Principal
		for _, text := range args[2:] {
			p, err := subject(g, text)
			if err != nil {
				return err
			}
			who = append(who, p)
		}
		if len(who) == 0 {
			holders, err := counting.Holders(a.ctx, g, ctx, counting.PlacesOf(place),
				func(o *estate.Operation) bool { return o.Name == args[0] })
			if err != nil {
				return err
			}
			for _, h := range holders {
				who = append(who, h.Subject)
			}
		}
		var holds *estate.Principal
		if holder != "" {
			p, err := subject(g, holder)
			if err != nil {
				return fmt.Errorf("--held-by: %w", err)
			}
			holds = &p
		}
		all, rule, err := survey.Contest(g, survey.Contested{Operation: args[0], Resource: place, Context: ctx,
			InTurn: len(args) > 2, Who: who, Holder: holds})
		if err != nil {
			return err
		}
		if a.format == "json" {
			err = a.contestJSON(all, rule)
		} else {
			a.contestText(asked{g, ctx, args[0], said}, place, all, rule)
		}
		if err == nil && (rule == survey.NobodyMay || rule == survey.Tied) {
			err = answered(exitNo)
		}
		return err
	}
	a.formats(c, "text", "json")
	return c
}

func (a *app) contestText(q asked, place *estate.Resource, all []survey.Contestant, rule survey.Rule) {
	p := a.page(a.Out)
	who, because := p.Paint(view.No, "NOBODY"), nobodyText(all)
	switch rule {
	case survey.NobodyMay:
	case survey.Tied:
		var names []string
		for _, c := range survey.Leading(all) {
			names = append(names, c.Who.String())
		}
		who = p.Paint(view.Maybe, "TIED: "+view.And(names))
	default:
		who = p.Paint(view.Yes, all[0].Who.String())
	}
	if rule != survey.NobodyMay {
		if because = rules[rule].text; rule != survey.Alone {
			because = fmt.Sprintf(because, place.System.ID)
		}
		because += "  " + p.Paint(view.Faint, place.System.Source.Short())
	}
	gets := "gets"
	if rule == survey.Tied {
		gets = "for"
	}
	p.Line("%s  %s %s on %s", who, gets, q.about, place.Address)
	p.Line("%s", p.Paint(view.Faint, q.said))
	p.Table(0, nil, [][]view.Cell{{{Text: "because " + because}}})
	if len(all) == 0 {
		return
	}
	p.Line("")
	var rows [][]view.Cell
	for _, c := range all {
		rank, role, grant := "", "", ""
		if c.Outcome == gate.Allow {
			rank, role, grant = "not named", c.Role, c.Grant.ID
			if c.Rank < len(place.System.Precedence) {
				rank = fmt.Sprint(c.Rank + 1)
			}
		}
		v := verdicts[c.Outcome]
		rows = append(rows, []view.Cell{{Text: c.Who.String()}, {Text: v.word, Style: v.style}, {Text: role}, {Text: rank},
			{Text: grant, Style: view.Faint}, {Text: notAllowed(q, c), Style: view.Faint}})
	}
	p.Table(2, []string{"who", "", "role", "precedence", "grant", ""}, rows)
}

// nobodyText says why nobody gets it.
func nobodyText(all []survey.Contestant) string {
	depends := 0
	for _, c := range all {
		if c.Outcome == gate.Depends {
			depends++
		}
	}
	switch {
	case len(all) == 0:
		return "nobody is allowed it"
	case depends == 0:
		return "nobody who asks is allowed it"
	}
	return fmt.Sprintf("for %d of %d it depends on what the request does not say, and nobody else is allowed it", depends,
		len(all))
}

// notAllowed says why somebody is not allowed it, or on what it depends.
func notAllowed(q asked, c survey.Contestant) string {
	switch {
	case c.Outcome == gate.Allow:
		return ""
	case c.Outcome == gate.Depends:
		return view.Left(q.gate.Space(), c.Why.Left)
	case c.Why.Inactive:
		return "not active"
	}
	for _, b := range met(c.Why.Blocks) {
		return "stopped by block " + b.Block.ID
	}
	if len(c.Why.Grants) == 0 {
		return "no grant gives it"
	}
	return "grants give it in other circumstances"
}

func (a *app) contestJSON(all []survey.Contestant, rule survey.Rule) error {
	type row struct {
		Subject  string `json:"subject"`
		Decision string `json:"decision"`
		Role     string `json:"role"`
		Grant    string `json:"grant"`
	}
	out := struct {
		Winner string `json:"winner"`
		Rule   string `json:"rule"`
		Rows   []row  `json:"rows"`
	}{Rule: rules[rule].word, Rows: []row{}}
	if rule != survey.NobodyMay && rule != survey.Tied {
		out.Winner = all[0].Who.String()
	}
	for _, c := range all {
		one := row{c.Who.String(), c.Outcome.String(), c.Role, ""}
		if c.Grant != nil {
			one.Grant = c.Grant.ID
		}
		out.Rows = append(out.Rows, one)
	}
	return a.json(out)
}
