package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/starter"
	"hiddengate/internal/view"
)

func many() []string {
	var out []string
	for _, l := range listings {
		out = append(out, l.many)
	}
	return out
}

func (a *app) listCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "list WHAT",
		Short: "List people, roles, grants, kinds of system, operations, …",
		Long: `Lists one of ` + strings.Join(many(), ", ") + `.
Kinds, operations and findings are there without a workspace too.`,
		Example: `  hgate list grants
  hgate list kinds
  hgate list people --format json`,
		ValidArgs: many(),
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return fmt.Errorf("list takes one of %s", strings.Join(many(), ", "))
			}
			return nil
		},
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		for _, l := range listings {
			if l.many == args[0] || l.one == args[0] {
				g, err := a.compiledOrBare(l.many)
				if err != nil {
					return err
				}
				return a.list(g, l)
			}
		}
		return unknown("listing", args[0], many())
	}
	a.formats(c, "text", "json")
	return c
}

// compiledOrBare reads the workspace; what is built in can be looked at without one.
func (a *app) compiledOrBare(many string) (*gate.Gate, error) {
	if many == "kinds" || many == "operations" || many == "findings" {
		if _, err := a.folder(); err != nil && a.dir == "" {
			return bare()
		}
	}
	return a.compiled()
}

func (a *app) list(g *gate.Gate, l listed) error {
	if a.format == "json" {
		rows := []map[string]any{}
		for _, id := range l.ids(g) {
			rows = append(rows, said(l.describe(g, id)))
		}
		return a.json(map[string]any{"rows": rows})
	}
	p := a.page(a.Out)
	var cells [][]view.Cell
	for _, id := range l.ids(g) {
		byKey := map[string]string{}
		for _, kv := range l.describe(g, id) {
			byKey[kv.key] = kv.text()
		}
		var row []string
		for _, column := range l.columns {
			row = append(row, short(byKey[column]))
		}
		cells = append(cells, view.Row(row...))
	}
	if len(cells) == 0 {
		p.Line("There are no %s.", l.many)
		return nil
	}
	p.Table(0, l.columns, cells)
	p.Line("%s", p.Paint(view.Faint, fmt.Sprintf("%d; `hgate show %s ID` tells more", len(cells), l.one)))
	return nil
}

// short cuts a cell that would fill a page.
func short(text string) string {
	const most = 120
	if runes := []rune(text); len(runes) > most {
		return strings.TrimRight(string(runes[:most]), " ,") + "…"
	}
	return text
}

// said gives pairs as a JSON object, without the empty ones.
func said(pairs []pair) map[string]any {
	out := map[string]any{}
	for _, p := range pairs {
		if !p.empty() {
			out[p.key] = p.value
		}
	}
	return out
}

// bare is the gate of an estate with nothing but what is built in.
func bare() (*gate.Gate, error) {
	e, err := policyfile.Load(starter.Empty())
	if err != nil {
		return nil, err
	}
	return gate.Compile(e, nil)
}
