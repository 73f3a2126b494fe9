package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
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
of a kind everything that can be done to such a system, of a finding what it means.`,
		Example: `  hgate show role looker-on
  hgate show kind database
  hgate show operation table.read
  hgate show finding missing-need`,
		ValidArgsFunction: a.completeShow,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return fmt.Errorf("show takes what to show and its id, as in: hgate show role looker-on (known: %s)", strings.Join(ones(), ", "))
			}
			return nil
		},
	}
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
					return a.show(g, l, id)
				}
			}
			return unknown(l.one, id, known)
		}
		return unknown("sort of entry", args[0], ones())
	}
	a.formats(c, "text", "json")
	return c
}

func (a *app) show(g *gate.Gate, l listed, id string) error {
	pairs := l.describe(g, id)
	var refs []estate.Reference
	if l.section != "" {
		refs = g.Estate().References(l.section, id)
	}
	if a.format == "json" {
		out := said(pairs)
		list := []map[string]any{}
		for _, r := range refs {
			list = append(list, map[string]any{"section": r.Section, "id": r.ID, "key": r.Key, "file": r.Position.File, "line": r.Position.Line})
		}
		out["references"] = list
		return a.json(out)
	}
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Heading, l.one+" "+id))
	facts(p, 2, slices.DeleteFunc(pairs[1:], func(kv pair) bool {
		return kv.key == "operations" && (l.one == "kind" || l.one == "role" && hasPair(pairs, "used"))
	}))
	if l.one == "kind" {
		a.kindOperations(p, g, id)
	}
	if len(refs) > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "Named by"))
		var cells [][]view.Cell
		for _, r := range refs {
			cells = append(cells, []view.Cell{{Text: singular(r.Section) + " " + r.ID}, {Text: r.Key}, {Text: r.Position.Short(), Style: view.Faint}})
		}
		p.Table(2, nil, cells)
	}
	return nil
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

func singular(section string) string {
	for _, l := range listings {
		if l.many == section {
			return l.one
		}
	}
	return strings.TrimSuffix(section, "s")
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
			cells = append(cells, []view.Cell{{Text: heading, Style: view.Heading}, {Text: o.Name}, {Text: o.About}, {Text: strings.Join(o.Types, ", "), Style: view.Faint}, {Text: risk, Style: view.No}})
			heading = ""
		}
	}
	p.Line("")
	p.Table(2, []string{"level", "operation", "what it does", "on", "risk"}, cells)
}
