package cli

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/tabular"
	"hiddengate/internal/view"

	"github.com/clipperhouse/displaywidth"
)

func (a *app) gridText(s sheet, said string, keep bool) {
	p := a.page(a.Out)
	if len(s.rows) == 0 {
		p.Line("Nobody gets anywhere there.")
		return
	}
	shows := [2]string{"how far each gets", "what each may do"}
	for prefix, words := range map[string][2]string{
		"group:":   {"how far a new member of each group gets", "what a new member of each group may do"},
		"service:": {"how far each service gets", "what each service may do"},
		"role:":    {"how far each role goes", "what each role has"},
	} {
		if !slices.ContainsFunc(s.columns, func(name string) bool { return !strings.HasPrefix(name, prefix) }) {
			shows = words
			for i := range s.columns {
				s.columns[i] = strings.TrimPrefix(s.columns[i], prefix)
			}
			for i := range s.empty {
				s.empty[i] = strings.TrimPrefix(s.empty[i], prefix)
			}
		}
	}
	which := 0
	if s.first == operationsDown {
		which = 1
	}
	p.Line("%s", p.Paint(view.Faint, shows[which]+", "+said))
	first := displaywidth.String(s.first)
	for _, r := range s.rows {
		first = max(first, r.indent+displaywidth.String(r.name))
	}
	about := 0
	if s.about {
		about = p.Width / 3
	}
	all := len(s.columns)
	for from := 0; from < all; {
		to, room := from, p.Width-min(first, p.Width/2)-about
		var widths []int
		for to < all {
			wide := 0
			for _, part := range nameParts(s.columns[to]) {
				wide = max(wide, displaywidth.String(part))
			}
			for _, r := range s.rows {
				wide = max(wide, displaywidth.String(r.cells[to]))
			}
			if room -= wide + 2; room < 0 && to > from {
				break
			}
			widths = append(widths, wide)
			to++
		}
		if whole := to - from; whole == all { // there may be room for whole names
			for _, name := range s.columns {
				room -= displaywidth.String(name)
			}
			for _, w := range widths {
				room += w
			}
			if room >= 0 {
				widths = slices.Repeat([]int{p.Width}, all)
			}
		}
		part := s
		kept := make([]int, 0, to-from)
		for c := from; c < to; c++ {
			kept = append(kept, c)
		}
		part.keep(kept)
		p.Line("")
		if to-from < all {
			p.Line("%s", p.Paint(view.Faint, fmt.Sprintf("columns %d to %d of %d", from+1, to, all)))
			if !keep {
				part.hideEmptyRows()
			}
		}
		a.gridPart(p, part, widths)
		from = to
	}
	a.gridLegend(p, s)
	if len(s.empty) > 0 {
		p.Line("\nWithout any access there: %s", named(s.empty))
	}
	if s.deeper > 0 {
		verb := "differ"
		if s.deeper == 1 {
			verb = "differs"
		}
		p.Line("\n%s %s inside, deeper than is shown; --depth and --unfold show it.", count(s.deeper, "place"), verb)
	}
}

// gridPart writes columns that fit beside one another.
func (a *app) gridPart(p *view.Page, s sheet, widths []int) {
	heading := []string{s.first}
	for i, name := range s.columns {
		heading = append(heading, broken(name, widths[i]))
	}
	if s.about {
		heading = append(heading, "what it does")
	}
	var rows [][]view.Cell
	for _, r := range s.rows {
		row := []view.Cell{{Text: r.name, Indent: r.indent}}
		for c, text := range r.cells {
			if text == "" && !r.heading {
				text = "·"
			}
			row = append(row, view.Cell{Text: text, Style: r.styles[c]})
		}
		if s.about {
			row = append(row, view.Cell{Text: r.about, Style: view.Faint})
		}
		rows = append(rows, row)
	}
	p.Table(0, heading, rows)
}

// nameParts takes a name apart where it may be broken.
func nameParts(name string) []string {
	return strings.Fields(strings.NewReplacer(":", ": ", ".", ". ", "-", "- ").Replace(name))
}

// broken breaks a name into lines of a width.
func broken(name string, width int) string {
	var lines []string
	for i, part := range nameParts(name) {
		gap := ""
		if part[0] == '(' {
			gap = " "
		}
		if last := len(lines) - 1; i > 0 && displaywidth.String(lines[last]+gap+part) <= width {
			lines[last] += gap + part
		} else {
			lines = append(lines, part)
		}
	}
	return strings.Join(lines, view.Break)
}

// gridLegend explains the marks that stand in the grid.
func (a *app) gridLegend(p *view.Page, s sheet) {
	var marks []string
	for _, m := range []struct{ mark, means string }{{"~", "not on all of it"}, {"?", "depends on the request"},
		{"+", "could be lent on request"}, {"!", "some of it granted directly"}} {
		if slices.ContainsFunc(s.rows, func(r sheetRow) bool {
			return slices.ContainsFunc(r.cells, func(text string) bool { return strings.Contains(text, m.mark) })
		}) {
			marks = append(marks, m.mark+" "+m.means)
		}
	}
	if s.first != operationsDown {
		marks = append([]string{strings.Join(estate.LevelNames(), " < ")}, marks...)
	}
	if len(marks) > 0 {
		p.Line("\n%s", p.Paint(view.Faint, strings.Join(marks, "; ")))
	}
}

func (a *app) gridCSV(s sheet, heading [][]string) error {
	w := tabular.NewWriter(a.exact())
	for _, row := range heading {
		w.Write(row)
	}
	head := append([]string{s.first}, s.columns...)
	if s.about {
		head = append(head, "about")
	}
	w.Write(head)
	for _, r := range s.rows {
		row := append([]string{r.name}, r.cells...)
		if s.about {
			row = append(row, r.about)
		}
		w.Write(row)
	}
	if err := w.Flush(); err != nil {
		return outside{err}
	}
	return nil
}

func (a *app) gridMarkdown(s sheet) {
	p := a.page(a.Out)
	line := func(cells []string) { fmt.Fprintf(p, "| %s |\n", strings.Join(cells, " | ")) }
	head := append([]string{s.first}, s.columns...)
	if s.about {
		head = append(head, "about")
	}
	line(head)
	line(slices.Repeat([]string{"---"}, len(head)))
	for _, r := range s.rows {
		row := append([]string{r.name}, r.cells...)
		if s.about {
			row = append(row, r.about)
		}
		for i := range row {
			row[i] = strings.NewReplacer("|", "\\|", "~", "\\~").Replace(row[i])
		}
		line(row)
	}
}

func (a *app) gridJSON(s sheet, invited []string, judged []judgedRow) error {
	columns := []string{}
	for _, name := range s.columns {
		columns = append(columns, strings.TrimSuffix(name, invitedMark))
	}
	return a.jsonObject(jsonPart{"columns", columns}, jsonPart{"invited", invited}, jsonPart{"judged", judged},
		jsonPart{"rows", eachAs(s.rows, func(r sheetRow) map[string]any { return r.json })})
}
