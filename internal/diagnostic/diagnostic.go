// Package diagnostic holds what the program has to say about files: a message with a code, a severity, the place
// it speaks of and what to do about it.
package diagnostic

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"hiddengate/internal/visible"
)

// Severity says how much a diagnostic weighs.
type Severity int

// The severities, lightest first. Off silences a finding.
const (
	Off Severity = iota
	Note
	Warning
	Error
)

var severityNames = []string{"off", "note", "warning", "error"}

// SeverityNames lists the severities as files write them, lightest first.
func SeverityNames() []string { return slices.Clone(severityNames) }

func (s Severity) String() string { return severityNames[s] }

// ParseSeverity reads a severity's name.
func ParseSeverity(text string) (Severity, bool) {
	i := slices.Index(severityNames, text)
	return Severity(max(i, 0)), i >= 0
}

// Position is a place in a file of the workspace. File is relative to the workspace, with slashes; Line and
// Column count from 1, Column in characters; a Line of 0 means the whole file.
type Position struct {
	File   string
	Line   int
	Column int
}

// String gives file:line:column.
func (p Position) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Short gives file:line, as explanations cite it.
func (p Position) Short() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d", p.File, p.Line)
}

// Compare orders positions by file, line and column.
func (p Position) Compare(q Position) int {
	return cmp.Or(strings.Compare(p.File, q.File), cmp.Compare(p.Line, q.Line), cmp.Compare(p.Column, q.Column))
}

// Diagnostic is one thing to say. Help says what to write or do instead; Source is the line it speaks of.
type Diagnostic struct {
	Code     string
	Severity Severity
	Message  string
	Help     string
	Position Position
	Source   string
}

// List is what a load or a check has to say; it is an error when a load failed.
type List []Diagnostic

// Error gives the first message and how many more there are.
func (l List) Error() string {
	switch len(l) {
	case 0:
		return "no errors"
	case 1:
		return l[0].Position.String() + ": " + l[0].Message
	}
	return fmt.Sprintf("%s: %s (and %d more)", l[0].Position, l[0].Message, len(l)-1)
}

// Sort orders by place, then severity, code and message, and drops what is said twice.
func (l List) Sort() List {
	slices.SortStableFunc(l, func(a, b Diagnostic) int {
		return cmp.Or(a.Position.Compare(b.Position), cmp.Compare(b.Severity, a.Severity),
			strings.Compare(a.Code, b.Code), strings.Compare(a.Message, b.Message))
	})
	return slices.Compact(l)
}

// Count says how many have the severity.
func (l List) Count(s Severity) int {
	n := 0
	for _, d := range l {
		if d.Severity == s {
			n++
		}
	}
	return n
}

// Print writes each diagnostic with its line, a caret below the column, and its help. paint colours a severity's
// words; nil leaves them plain.
func Print(w io.Writer, l List, paint func(Severity, string) string) {
	if paint == nil {
		paint = func(_ Severity, text string) string { return text }
	}
	for _, d := range l {
		label := d.Severity.String()
		if d.Code != "" {
			label += " " + d.Code
		}
		fmt.Fprintf(w, "%s: %s: %s\n", d.Position, paint(d.Severity, label), strings.ReplaceAll(d.Message, "\n", " "))
		if d.Source != "" {
			source, column := window(d.Source, d.Position.Column)
			fmt.Fprintf(w, "    %s\n", source)
			if column > 0 {
				fmt.Fprintf(w, "    %s^\n", strings.Repeat(" ", column-1))
			}
		}
		if d.Help != "" {
			fmt.Fprintf(w, "    help: %s\n", d.Help)
		}
	}
}

// window cuts a long line to the 90 characters around the column, and makes what a terminal would not show plain.
func window(source string, column int) (string, int) {
	runes := []rune(source)
	for i, r := range runes {
		if visible.Hidden(r) {
			runes[i] = ' '
		}
	}
	const width = 90
	if len(runes) <= width {
		return strings.TrimRight(string(runes), " "), min(column, len(runes)+1)
	}
	start := max(0, min(column-width/2, len(runes)-width))
	return string(runes[start : start+width]), column - start
}

// Nearest gives the known word closest to text, or "" when none is near: at most a third of its letters differ,
// counting a swap of neighbours as one (the restricted Damerau–Levenshtein distance).
func Nearest(text string, known []string) string {
	best, bound := "", max(1, len(text)/3)+1
	for _, k := range known {
		if d := distance(text, k, bound); d < bound {
			best, bound = k, d
		}
	}
	return best
}

func distance(a, b string, bound int) int {
	x, y := []rune(strings.ToLower(a)), []rune(strings.ToLower(b))
	if len(x)-len(y) >= bound || len(y)-len(x) >= bound || len(x) > 256 {
		return bound
	}
	rows := [3][]int{make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)}
	for j := range rows[1] {
		rows[1][j] = j
	}
	for i := 1; i <= len(x); i++ {
		before, last, row := rows[0], rows[1], rows[2]
		row[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		rows[0], rows[1], rows[2] = last, row, before
	}
	return rows[1][len(y)]
}
