// Package view is how answers look: styles and tables. It decides nothing.
package view

import (
	"fmt"
	"io"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"hiddengate/internal/diagnostic"
)

// Page is where an answer is written. Width is in columns.
type Page struct {
	io.Writer
	Color bool
	Width int
}

// Style is the weight of a text.
type Style int

// The styles: what is allowed, denied or in between, a heading, and what stands in the background.
const (
	Plain Style = iota
	Yes
	No
	Maybe
	Heading
	Faint
)

var styles = map[Style]lipgloss.Style{
	Plain:   lipgloss.NewStyle(),
	Yes:     lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Color("35")),
	No:      lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Color("167")),
	Maybe:   lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Color("178")),
	Heading: lipgloss.NewStyle().Bold(true),
	Faint:   lipgloss.NewStyle().Foreground(lipgloss.Color("245")),
}

// Paint gives the text in a style, or as it is where there is no colour.
func (p *Page) Paint(s Style, text string) string {
	if !p.Color || s == Plain || text == "" {
		return text
	}
	return styles[s].Render(text)
}

// Severity paints a severity's words.
func (p *Page) Severity(s diagnostic.Severity, text string) string {
	return p.Paint(map[diagnostic.Severity]Style{diagnostic.Error: No, diagnostic.Warning: Maybe, diagnostic.Note: Faint}[s], text)
}

// Line writes a line.
func (p *Page) Line(format string, args ...any) {
	fmt.Fprintf(p, format+"\n", args...)
}

// Table writes rows in columns that line up, under a heading if there is one. What does not fit into the page's
// width is wrapped in the column that is widest.
func (p *Page) Table(indent int, heading []string, rows [][]string) {
	all := rows
	if heading != nil {
		painted := make([]string, len(heading))
		for i, h := range heading {
			painted[i] = p.Paint(Faint, h)
		}
		all = append([][]string{painted}, rows...)
	}
	var widths []int
	for _, row := range all {
		for i, cell := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], ansi.StringWidth(cell))
		}
	}
	const gap = 2
	for total := indent - gap; ; {
		total = indent - gap
		widest := 0
		for i, w := range widths {
			total += w + gap
			if w > widths[widest] {
				widest = i
			}
		}
		if total <= p.Width || len(widths) == 0 || widths[widest] <= 20 {
			break
		}
		widths[widest] = max(20, widths[widest]-(total-p.Width))
	}
	for _, row := range all {
		cells := make([][]string, len(row))
		lines := 0
		for i, cell := range row {
			cells[i] = strings.Split(ansi.Wrap(cell, widths[i], " ,"), "\n")
			lines = max(lines, len(cells[i]))
		}
		for l := range lines {
			line := strings.Repeat(" ", indent)
			for i, cell := range cells {
				text := ""
				if l < len(cell) {
					text = strings.TrimLeft(cell[l], " ")
				}
				line += text
				if i < len(cells)-1 {
					line += strings.Repeat(" ", max(0, widths[i]-ansi.StringWidth(text))+gap)
				}
			}
			fmt.Fprintln(p, strings.TrimRight(line, " "))
		}
	}
}
