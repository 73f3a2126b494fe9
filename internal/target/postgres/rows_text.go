package postgres

import (
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// What a row policy of hgate's says is written as PostgreSQL writes it back (pg_get_expr), so that what stands there
// can be compared with what has to.
const (
	always  = "true"
	account = "(CURRENT_USER)::text"
	signed  = "(SESSION_USER)::text"
)

// constant writes a text as PostgreSQL writes it back.
func constant(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'::text" }

// textOf says of which rows a policy speaks, by the classes that it covers among all of a table's.
func textOf(columns map[string]column, covered, all []*target.RowClass) string {
	rows := func(classes []*target.RowClass) (out [][]target.Column) {
		for _, c := range classes {
			out = append(out, c.Columns)
		}
		return out
	}
	return saying(columns, rows(covered), rows(all)).text()
}

// said is a condition: parts with one word between them, which PostgreSQL writes without parentheses of their own where
// the word is that of what they stand in.
type said struct {
	word  string
	parts []string
}

func (s said) text() string {
	if len(s.parts) == 1 {
		return s.parts[0]
	}
	return "(" + strings.Join(s.parts, s.word) + ")"
}

// combined joins conditions by a word.
func combined(word string, all []said) said {
	if len(all) == 1 {
		return all[0]
	}
	out := said{word: word}
	for _, one := range all {
		if one.word == word {
			out.parts = append(out.parts, one.parts...)
		} else {
			out.parts = append(out.parts, one.text())
		}
	}
	return out
}

// saying splits rows by their first column; those of which the other columns have to say the same go together.
func saying(columns map[string]column, covered, all [][]target.Column) said {
	if len(covered) == len(all) {
		return said{parts: []string{always}}
	}
	type part struct {
		values []target.Column
		rest   said
	}
	var values []target.Column
	var parts []*part
	after := func(rows [][]target.Column, first target.Column) (out [][]target.Column) {
		for _, row := range rows {
			if row[0].Is(first) {
				out = append(out, row[1:])
			}
		}
		return out
	}
	for _, row := range all {
		if slices.ContainsFunc(values, row[0].Is) {
			continue
		}
		values = append(values, row[0])
		some := after(covered, row[0])
		if len(some) == 0 {
			continue
		}
		rest := saying(columns, some, after(all, row[0]))
		n := slices.IndexFunc(parts, func(p *part) bool { return p.rest.text() == rest.text() })
		if n < 0 {
			n, parts = len(parts), append(parts, &part{rest: rest})
		}
		parts[n].values = append(parts[n].values, row[0])
	}
	var ways []said
	for _, p := range parts {
		var both []said
		if len(p.values) < len(values) {
			both = append(both, standing(columns[values[0].Name], p.values, values))
		}
		if p.rest.text() != always {
			both = append(both, p.rest)
		}
		ways = append(ways, combined(" AND ", both))
	}
	return combined(" OR ", ways)
}

// standing says that one of some values stands in a column.
func standing(c column, some, all []target.Column) said {
	var texts, others []string // which stand there, or do not
	silent, other := false, false
	for _, v := range all {
		in := slices.ContainsFunc(some, v.Is)
		switch v.Sort {
		case target.Silent:
			silent = in
		case target.Other:
			other = in
		case target.Text:
			if in {
				texts = append(texts, constant(v.Value))
			} else {
				others = append(others, constant(v.Value))
			}
		case target.Own:
			if in {
				texts = append(texts, account)
			} else { // whoever takes another role on is not another for that
				others = append(others, account, signed)
			}
		}
	}
	var ways []said
	way := func(text string) { ways = append(ways, said{parts: []string{"(" + text + ")"}}) }
	if silent {
		way(c.quoted + " IS NULL")
	}
	switch {
	case other && len(others) == 0:
		way(c.quoted + " IS NOT NULL")
	case other:
		way(c.value + " <> ALL (ARRAY[" + strings.Join(others, ", ") + "])")
	case len(texts) > 0:
		way(c.value + " = ANY (ARRAY[" + strings.Join(texts, ", ") + "])")
	}
	return combined(" OR ", ways)
}
