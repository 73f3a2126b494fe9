// Package view is how answers look: styles and tables, and the words for what the engine gives as structures. It
// decides nothing.
package view

import (
	"crypto/rand"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/clipperhouse/displaywidth"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/visible"
)

// Page is where an answer is written. Width is in columns.
type Page struct {
	io.Writer
	Color bool
	Width int
	Whole bool // Line breaks no line, however wide
}

// Style is the weight of a text.
type Style int

// The styles: what is allowed, denied or in between, a heading, what stands in the background, and why an operation
// needs a second look.
const (
	Plain Style = iota
	Yes
	No
	Maybe
	Heading
	Faint
	Risk
	Ink // the squares of a code, dark on light
)

// codes are the styles' SGR parameters (ECMA-48), with colours of the 256-colour palette.
var codes = map[Style]string{Yes: "1;38;5;35", No: "1;38;5;167", Maybe: "1;38;5;178", Heading: "1", Faint: "38;5;245",
	Risk: "38;5;173", Ink: "38;5;16;48;5;231"}

// Paint gives the text in a style, or as it is where there is no colour.
func (p *Page) Paint(s Style, text string) string {
	if !p.Color || s == Plain || text == "" {
		return text
	}
	return seal + string('0'+rune(s)) + text + seal + "0"
}

// seal begins the mark of a style within a text, until it is written. Nobody who writes a workspace can know it, so
// what comes from there can't paint anything.
var seal = "\x00" + rand.Text()

// Break is a line break within a cell. A line feed is none there: it may come from a workspace.
var Break = seal + "n"

// Write writes a text with its styles. What it holds of characters that nobody sees, or that would tell the terminal
// something, is shown as code points.
func (p *Page) Write(text []byte) (int, error) {
	out := painted(string(text), visible.Clean, func(style rune) string {
		if style == '0' {
			return "\x1b[0m"
		}
		return "\x1b[" + codes[Style(style-'0')] + "m"
	})
	if _, err := io.WriteString(p.Writer, out); err != nil {
		return 0, err
	}
	return len(text), nil
}

// painted goes through a text and the marks of styles in it.
func painted(text string, part func(string) string, mark func(style rune) string) string {
	parts := strings.Split(text, seal)
	var b strings.Builder
	b.WriteString(part(parts[0]))
	for _, one := range parts[1:] {
		style, rest := '0', one
		if one != "" {
			style, rest = rune(one[0]), one[1:]
		}
		b.WriteString(mark(style) + part(rest))
	}
	return b.String()
}

// oneLine cleans a text that must not begin another line.
func oneLine(text string) string {
	return painted(text, func(part string) string { return visible.Clean(strings.ReplaceAll(part, "\n", " ")) },
		func(style rune) string { return seal + string(style) })
}

// Severity paints a severity's words.
func (p *Page) Severity(s diagnostic.Severity, text string) string {
	return p.Paint(map[diagnostic.Severity]Style{diagnostic.Error: No, diagnostic.Warning: Maybe,
		diagnostic.Note: Faint}[s], text)
}

// Line writes a line, or as many as the format has. What is put into it stays on its line.
func (p *Page) Line(format string, args ...any) {
	args = slices.Clone(args)
	for i, a := range args {
		switch a := a.(type) {
		case string:
			args[i] = oneLine(a)
		case error:
			args[i] = oneLine(a.Error())
		case fmt.Stringer:
			args[i] = oneLine(a.String())
		}
	}
	for line := range strings.SplitSeq(fmt.Sprintf(format, args...), "\n") {
		for _, part := range p.broken(line) {
			fmt.Fprintln(p, part)
		}
	}
}

// broken breaks a line that is too wide between words, under its own indent; a command before its flags, so that it can
// be pasted.
func (p *Page) broken(line string) []string {
	if p.Whole || p.Width <= 0 || width(line) <= p.Width {
		return []string{line}
	}
	text := strings.TrimLeft(line, " ")
	indent := line[:len(line)-len(text)]
	between, end, next := " ", "", indent
	if strings.HasPrefix(strings.TrimPrefix(text, "$ "), "hgate ") {
		between, end, next = " --", " \\", indent+"  --"
	}
	var out []string
	now := indent
	for i, word := range strings.Split(text, between) {
		switch {
		case i == 0:
			now += word
		case width(now)+width(between)+width(word)+len(end) <= p.Width:
			now += between + word
		default:
			out = append(out, now+end)
			now = next + word
		}
	}
	return append(out, now)
}

// width is how many columns a text takes, its marks of styles aside.
func width(text string) int {
	if !strings.Contains(text, seal) {
		return displaywidth.String(text)
	}
	return displaywidth.String(painted(text, func(part string) string { return part }, func(rune) string { return "" }))
}

// Cell is a text of a table in one style, and by how many columns all its lines are indented.
type Cell struct {
	Text   string
	Style  Style
	Indent int
}

// Row makes plain cells.
func Row(texts ...string) []Cell {
	out := make([]Cell, len(texts))
	for i, t := range texts {
		out[i].Text = t
	}
	return out
}

const (
	gap       = 2  // columns between the columns of a table
	narrowest = 8  // columns that a column is never made narrower than
	small     = 60 // columns of a page below which words are broken
)

// Table writes rows in columns that line up, under a heading if there is one. Where the page is too narrow, the
// widest columns are wrapped between words. A Break in a cell is a line break.
func (p *Page) Table(indent int, heading []string, rows [][]Cell) {
	if heading != nil {
		top := Row(heading...)
		for i := range top {
			top[i].Style = Faint
		}
		rows = append([][]Cell{top}, rows...)
	} else {
		rows = slices.Clone(rows)
	}
	for i, row := range rows {
		rows[i] = slices.Clone(row)
		for k, cell := range row {
			cell.Text = strings.ReplaceAll(oneLine(cell.Text), Break, "\n")
			rows[i][k] = cell
		}
	}
	widths := p.widths(indent, rows)
	wrapped := make([][][]string, len(rows)) // of each row and cell, its lines
	taken := make([]int, len(widths))        // of each column, by what is wrapped, which may be less
	for r, row := range rows {
		for i, cell := range row {
			lines := wrap(cell.Text, max(1, widths[i]-cell.Indent))
			for l := range lines {
				lines[l] = strings.Repeat(" ", cell.Indent) + lines[l]
				taken[i] = max(taken[i], width(lines[l]))
			}
			wrapped[r] = append(wrapped[r], lines)
		}
	}
	for r, row := range rows {
		p.row(indent, row, wrapped[r], taken)
	}
}

// row writes a row of a table, of which the lines of each cell and the widths of the columns are given.
func (p *Page) row(indent int, row []Cell, cells [][]string, widths []int) {
	lines := 0
	for _, cell := range cells {
		lines = max(lines, len(cell))
	}
	for l := range lines {
		line, pending := "", indent
		for i, cell := range cells {
			if l < len(cell) && cell[l] != "" {
				line += strings.Repeat(" ", max(0, pending)) + p.Paint(row[i].Style, cell[l])
				pending = -width(cell[l])
			}
			if widths[i] > 0 { // where nothing stands in a column, it takes no room
				pending += widths[i] + gap
			}
		}
		fmt.Fprintln(p, line)
	}
}

// widths gives each column what its widest cell needs. Where that is too much it takes from the widest columns,
// down to their longest words.
func (p *Page) widths(indent int, rows [][]Cell) []int {
	var widths, least []int
	for _, row := range rows {
		for i, cell := range row {
			if i == len(widths) {
				widths, least = append(widths, 0), append(least, 0)
			}
			for line := range strings.SplitSeq(cell.Text, "\n") {
				widths[i] = max(widths[i], cell.Indent+width(line))
			}
			for word := range strings.FieldsSeq(cell.Text) {
				least[i] = max(least[i], min(cell.Indent+width(word), p.Width/2))
			}
		}
	}
	total := indent - gap
	for _, w := range widths {
		total += w + gap
	}
	for ; total > p.Width; total-- {
		widest := -1
		for i, w := range widths {
			if w > least[i] && (widest < 0 || w > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break // the words themselves are too wide
		}
		widths[widest]--
	}
	for ; total > p.Width && p.Width < small; total-- { // and are broken where there is hardly any room
		widest := 0
		for i, w := range widths {
			if w > widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= narrowest {
			break
		}
		widths[widest]--
	}
	return widths
}

// wrap breaks a text between words into lines of at most so many columns, and a word that is wider where it must be.
func wrap(text string, most int) []string {
	var lines []string
	for paragraph := range strings.SplitSeq(text, "\n") {
		line := ""
		for word := range strings.FieldsSeq(paragraph) {
			if line != "" && width(line)+1+width(word) > most {
				lines = append(lines, line)
				line = ""
			}
			for line == "" && width(word) > most && !strings.Contains(word, seal) {
				head := displaywidth.TruncateString(word, most, "")
				if head == "" {
					break // one character is wider than the column
				}
				lines = append(lines, head)
				word = word[len(head):]
			}
			if line != "" {
				line += " "
			}
			line += word
		}
		lines = append(lines, line)
	}
	return lines
}
