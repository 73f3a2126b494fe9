package cli

import (
	"fmt"
	"io"
	"strings"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/view"
)

// judgedRow is what some subjects may do to what no inventory lists and a system judges.
type judgedRow struct {
	Subjects   []string `json:"subjects"`
	Operations []string `json:"operations"`
	Places     []string `json:"places"`
	Decision   string   `json:"decision"`
}

// judged tells what may be done to what no inventory lists, in a context; none where no system judges such.
func (a *app) judged(g *gate.Gate, c *gate.Context, who map[estate.Principal]bool, of wanted) ([]judgedRow, error) {
	since, timed := c.Moment()
	if !timed {
		since = clock.Beginning
	}
	e, err := change.Judged(a.ctx, g.Estate(), who, since)
	if err != nil || e == nil {
		return []judgedRow{}, err
	}
	rows := []judgedRow{}
	lines, outcomes := e.In(c, g, of.fitsOperation, of.fitsPlace)
	for i := range lines {
		l := &lines[i]
		one := judgedRow{Operations: l.Operations, Places: e.Places(l), Decision: outcomes[i].String()}
		for _, p := range l.Subjects {
			one.Subjects = append(one.Subjects, p.String())
		}
		rows = append(rows, one)
	}
	return rows, nil
}

// judgedMarkdown writes it as a table below another.
func judgedMarkdown(w io.Writer, rows []judgedRow) {
	if len(rows) == 0 {
		return
	}
	fmt.Fprint(w,
		"\nAnd to what no inventory lists, where that is judged:\n\n| who | places | operations | decision |\n| --- | --- | "+
			"--- | --- |\n")
	for _, r := range rows {
		line := fmt.Sprintf("| %s | %s | %s | %s |\n", strings.Join(r.Subjects, ", "), strings.Join(r.Places, ", "),
			strings.Join(r.Operations, ", "), r.Decision)
		fmt.Fprint(w, strings.NewReplacer("*", "\\*", "~", "\\~").Replace(line))
	}
}

// judgedText writes it below what is listed, with the subjects of rows that name any.
func judgedText(p *view.Page, rows []judgedRow) {
	if len(rows) == 0 {
		return
	}
	p.Line("\n%s", p.Paint(view.Heading, "And to what no inventory lists, where that is judged"))
	var cells [][]view.Cell
	for _, r := range rows {
		what := view.Cell{Text: strings.Join(r.Operations, ", ")}
		if len(r.Operations) > 6 {
			what.Text = strings.Join(r.Operations[:5], ", ") + " and " + count(len(r.Operations)-5, "more operation")
		}
		if r.Decision == gate.Depends.String() {
			what = view.Cell{Text: "depends: " + what.Text, Style: view.Maybe}
		}
		places := r.Places
		if len(places) > 3 {
			places = append(places[:2:2], count(len(places)-2, "more place"))
		}
		row := []view.Cell{{Text: strings.Join(places, ", ")}, what}
		if who := r.Subjects; len(who) > 0 {
			if len(who) > 4 {
				who = append(who[:3:3], count(len(who)-3, "more subject"))
			}
			row = append([]view.Cell{{Text: strings.Join(who, ", ")}}, row...)
		}
		cells = append(cells, row)
	}
	p.Table(2, nil, cells)
}
