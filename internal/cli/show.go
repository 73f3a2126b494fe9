package cli

import (
	"fmt"
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

func ones() []string {
	var out []string
	for _, l := range listings {
		out = append(out, l.one)
	}
	return out
}

func (a *app) showCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "show WHAT ID",
		Short: "Show one entry, and what refers to it",
		Long: `Shows a ` + strings.Join(ones(), ", ") + `.
Of a role it lists the operations it comes to, of a group its members, of a scope what it covers,
of a kind everything that can be done to such a system, of a finding what it means. Of a grant, a role
and a group it says what it gives to how many, and what would be lost without it: by the first few
hundred subjects, or with --all by everybody. Long lists are cut short as text, unless with --all.`,
		Example: `  hgate show role looker-on
  hgate show kind database
  hgate show operation table.read
  hgate show finding missing-need`,
		ValidArgsFunction: a.completeShow,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return fmt.Errorf("show takes what to show and its id, as in: hgate show role looker-on (known: %s)",
					strings.Join(ones(), ", "))
			}
			return nil
		},
	}
	var all bool
	c.Flags().BoolVar(&all, "all", false, "cut no list short, and of what would be lost, look at everybody")
	c.RunE = func(_ *cobra.Command, args []string) error {
		for _, l := range listings {
			if l.one != args[0] && l.many != args[0] {
				continue
			}
			g, err := a.compiledOrBare(l.many)
			if err != nil {
				return err
			}
			known := l.ids(g)
			id := args[1]
			if l.one == "resource" {
				if address, err := estate.ParseAddress(id); err == nil {
					id = g.Estate().Canonical(address).String()
				}
			}
			for _, k := range known {
				if k == id {
					return a.show(g, l, id, all)
				}
			}
			return unknown(l.one, id, known)
		}
		return unknown("sort of entry", args[0], ones())
	}
	a.formats(c, "text", "json")
	return c
}

func (a *app) show(g *gate.Gate, l listed, id string, all bool) error {
	pairs := l.describe(g, id)
	for i := range pairs {
		pairs[i].value = pairs[i].get() // once
	}
	var refs []policyfile.Reference
	if l.section != "" {
		refs = policyfile.References(g.Estate(), l.section, id)
	}
	if o := g.Estate().Operations[id]; o != nil && l.section == policyfile.NamesOperation {
		refs = append(refs, policyfile.Selections(g.Estate(), o)...)
	}
	loss, err := a.loss(g, l.section, id, all)
	if err != nil {
		return err
	}
	lent, err := a.lentTo(g, l.section, id)
	if err != nil {
		return err
	}
	if a.format == "json" {
		out := said(pairs)
		if loss != nil {
			out["gives"], out["without_it"] = givesOf(g, l.section, id), lostOrGained(loss, cellIndent)
			out["not_looked_at"] = loss.Beyond
		}
		if lent != nil {
			out["requests"] = requestObjects(g.Estate(), lent, a.present())
		}
		list := []map[string]any{}
		for _, r := range refs {
			list = append(list, map[string]any{"section": r.Section, "id": r.ID, "key": r.Key, "file": r.Position.File,
				"line": r.Position.Line})
		}
		out["references"] = list
		var parts []jsonPart
		for _, key := range keys(out) {
			parts = append(parts, jsonPart{key, out[key]})
		}
		return a.jsonObject(parts...)
	}
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Heading, l.one+" "+id))
	if !all {
		pairs = firstOf(pairs)
	}
	facts(p, 2, slices.DeleteFunc(pairs[1:], func(kv pair) bool {
		return kv.key == "operations" && (l.one == "kind" || l.one == "role" && hasPair(pairs, "applies"))
	}))
	if l.one == "kind" {
		a.kindOperations(p, g, id)
	}
	if len(lent) > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "Asked for, and lent"))
		a.requestsTable(g.Estate(), lent, a.present())
	}
	if len(refs) > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "Named by"))
		var cells [][]view.Cell
		for _, r := range refs {
			cells = append(cells, []view.Cell{{Text: estate.Singular(r.Section) + " " + r.ID}, {Text: r.Key},
				{Text: r.Position.Short(), Style: view.Faint}})
		}
		// one that names it twice in a line is told once
		cells = slices.CompactFunc(cells, slices.Equal[[]view.Cell])
		if more := len(cells) - mostNamed; more > 0 && !all {
			cells = append(cells[:mostNamed], []view.Cell{{Text: fmt.Sprintf("and %d more: --all", more)}})
		}
		p.Table(2, nil, cells)
	}
	if loss != nil {
		p.Line("\n%s  %s", p.Paint(view.Heading, "Gives"), givesOf(g, l.section, id))
		p.Line("\n%s", p.Paint(view.Heading, "Without it"))
		if loss.Beyond > 0 {
			p.Line("of the first %d of %d subjects whom it concerns; --all looks at everybody", mostLosing,
				mostLosing+loss.Beyond)
		}
		switch {
		case !loss.Empty():
			a.effectText(p, loss, plain)
		case loss.Beyond > 0:
			p.Line("none of these would lose anything")
		default:
			p.Line("nobody would lose anything")
		}
	}
	return nil
}

// mostLosing is how many subjects are looked at for what they would lose.
const mostLosing = 300

// loss tells what would be lost without a grant, a role or the members of a group, by the first few hundred or by
// everybody; nil for other entries.
func (a *app) loss(g *gate.Gate, section, id string, all bool) (*change.Effect, error) {
	if section != "grants" && section != "roles" && section != "groups" {
		return nil, nil
	}
	defer a.progress("working out what would be lost without it")()
	how := change.How{Since: clock.Of(a.now()), Gate: g, Most: mostLosing, Few: -1}
	if all {
		how.Most = 0
	}
	return change.Of(a.ctx, g.Estate(), change.Without(g.Estate(), section, id), how)
}

// givesOf says how many a grant, a role or a group reaches, and what they get.
func givesOf(g *gate.Gate, section, id string) string {
	e := g.Estate()
	var who []estate.Principal
	var where string
	switch section {
	case "grants":
		gr := e.Grants[id]
		who = g.Members(gr.To)
		where = fmt.Sprintf("%s on %s", count(len(g.Gives(gr)), "operation"), count(g.Count(gr.On), "resource"))
	case "groups":
		who = g.Group(id)
		n := 0
		for _, gr := range e.Grants {
			if slices.ContainsFunc(gr.To,
				func(t estate.SubjectTerm) bool { return !t.Not && t.Kind == estate.IsGroup && t.ID == id }) {
				n++
			}
		}
		where = count(n, "grant") + " by its name"
	case "roles":
		grants := 0
		for _, gr := range e.Grants {
			if slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return g.Includes(ref.ID, id) }) {
				grants++
				who = append(who, g.Members(gr.To)...)
			}
		}
		where = fmt.Sprintf("%s by %s", count(len(g.Used(id)), "operation"), count(grants, "grant"))
	}
	people, services := map[estate.Principal]bool{}, map[estate.Principal]bool{}
	for _, p := range who {
		switch p.Kind {
		case estate.IsPerson:
			people[p] = true
		case estate.IsService:
			services[p] = true
		}
	}
	to := fmt.Sprintf("%d people", len(people))
	if len(people) == 1 {
		to = "one person"
	}
	if len(services) > 0 {
		to += " and " + count(len(services), "service")
	}
	return to + ": " + where
}

// mostNamed is how much of a list show writes, unless it is asked for all.
const mostNamed = 100

// firstOf cuts long lists of pairs short, and says of how many.
func firstOf(pairs []pair) []pair {
	pairs = slices.Clone(pairs)
	for i := range pairs {
		all, is := pairs[i].value.([]string)
		if more := len(all) - mostNamed; is && more > 0 {
			first := strings.Join(all[:mostNamed], ", ")
			pairs[i].value = fmt.Sprintf("%d: %s and %d more: --all", len(all), first, more)
		}
	}
	return pairs
}

// facts writes pairs, one a line, the empty ones left out.
func facts(p *view.Page, indent int, pairs []pair) {
	var rows [][]view.Cell
	for _, kv := range pairs {
		if !kv.empty() {
			rows = append(rows, []view.Cell{{Text: kv.key, Style: view.Faint}, {Text: kv.text()}})
		}
	}
	p.Table(indent, nil, rows)
}

func hasPair(pairs []pair, key string) bool {
	return slices.ContainsFunc(pairs, func(p pair) bool { return p.key == key && !p.empty() })
}

// kindOperations lists what a kind offers, level by level.
func (a *app) kindOperations(p *view.Page, g *gate.Gate, id string) {
	var cells [][]view.Cell
	for level := estate.View; level <= estate.Govern; level++ {
		heading := level.String()
		for _, o := range g.Estate().Offer(id).Operations {
			if o.Level != level {
				continue
			}
			risk := ""
			if o.HighRisk {
				risk = "high"
			}
			cells = append(cells, []view.Cell{{Text: heading, Style: view.Heading}, {Text: o.Name}, {Text: o.About},
				{Text: strings.Join(o.Types, ", "), Style: view.Faint}, {Text: risk, Style: view.No}})
			heading = ""
		}
	}
	p.Line("")
	p.Table(2, []string{"level", "operation", "what it does", "on", "risk"}, cells)
}
