package cli

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/survey"
	"hiddengate/internal/view"
)

// sheet is a grid as it is written: texts under a heading.
type sheet struct {
	first   string // over the first column
	columns []string
	asked   []bool // of each column, whether its subject was asked for by name
	rows    []sheetRow
	about   bool     // rows have a description
	empty   []string // columns that are left out, since nothing stands in them
	deeper  int      // how many rows have places in them that differ and lie deeper than was asked
}

// operationsDown stands over the first column of a sheet that has operations down, not places.
const operationsDown = "operation"

type sheetRow struct {
	name, about string
	indent      int
	asked       bool // its place was asked for by name
	heading     bool // it stands over others, and has no cells to read
	cells       []string
	styles      []view.Style
	json        map[string]any
}

// invitedMark stands behind the name of somebody who has not come yet.
const invitedMark = " (invited)"

// reachedText writes how far somebody gets.
func reachedText(r survey.Reached) (string, view.Style) {
	text, style := "", view.Plain
	if r.Any {
		text = r.Level.String()
		style = [...]view.Style{view.Plain, view.Plain, view.Yes, view.No}[r.Level]
		if r.Partly {
			text += "~"
		}
		if r.Direct {
			text += "!"
		}
	}
	higher := func(mark string, h *survey.Higher) string {
		if h.Partly {
			return mark + h.Level.String() + "~"
		}
		return mark + h.Level.String()
	}
	if r.Depends != nil {
		text += higher(" ?", r.Depends)
		style = view.Maybe
	}
	if r.OnRequest != nil {
		text += higher(" +", r.OnRequest)
		if !r.Any {
			style = view.Maybe
		}
	}
	return strings.TrimSpace(text), style
}

func placeSheet(grid *survey.Grid, rows []survey.GridRow, together bool) sheet {
	s := sheetOf(grid, "place")
	for _, r := range rows {
		one := sheetRow{name: r.Place.Address.String(), indent: 2 * r.Depth, asked: r.Named}
		for _, c := range r.Cells {
			text, style := reachedText(c)
			one.cells, one.styles = append(one.cells, text), append(one.styles, style)
		}
		if r.Deeper {
			s.deeper += 1 + len(r.Alike)
		}
		cells := reachedJSON(grid, r.Cells)
		one.json = map[string]any{"place": one.name, "whole": r.Whole(), "cells": cells}
		if !together {
			s.rows = append(s.rows, one)
			for _, r := range r.Alike {
				other := one
				other.name = r.Address.String()
				other.json = map[string]any{"place": other.name, "whole": one.json["whole"], "cells": cells}
				s.rows = append(s.rows, other)
			}
			continue
		}
		switch n := len(r.Alike); {
		case n > 0 && !r.Whole():
			one.name += fmt.Sprintf(" and %d like it (in part)", n)
		case n > 0:
			one.name += fmt.Sprintf(" and %d like it", n)
		case !r.Whole():
			one.name += fmt.Sprintf(" (%d of %d)", r.Looked, r.Size)
		}
		s.rows = append(s.rows, one)
	}
	return s
}

// sheetOf begins a sheet of a grid's columns.
func sheetOf(grid *survey.Grid, first string) sheet {
	s := sheet{first: first}
	for _, c := range grid.Columns {
		name := c.Name
		if c.Invited {
			name += invitedMark
		}
		s.columns, s.asked = append(s.columns, name), append(s.asked, c.Asked)
	}
	return s
}

func reachedJSON(grid *survey.Grid, cells []survey.Reached) map[string]any {
	out := map[string]any{}
	for i, c := range cells {
		one := map[string]any{"level": "none", "partly": c.Partly, "direct": c.Direct}
		if c.Any {
			one["level"] = c.Level.String()
		}
		if c.Depends != nil {
			one["depends"], one["depends_partly"] = c.Depends.Level.String(), c.Depends.Partly
		}
		if c.OnRequest != nil {
			one["on_request"], one["on_request_partly"] = c.OnRequest.Level.String(), c.OnRequest.Partly
		}
		out[grid.Columns[i].Name] = one
	}
	return out
}

// operationSheet has a row for each operation; those that are described stand by level, and as text under headings.
func operationSheet(grid *survey.Grid, ops []*estate.Operation, cells [][]survey.Answer, text, describe bool) sheet {
	s := sheetOf(grid, operationsDown)
	s.about = describe
	order := make([]int, len(ops))
	for i := range ops {
		order[i] = i
	}
	if describe { // the strongest first, as in all answers
		slices.SortStableFunc(order, func(a, b int) int { return int(ops[b].Level - ops[a].Level) })
	}
	heading := estate.Level(-1)
	for _, i := range order {
		o := ops[i]
		one := sheetRow{name: o.Name, about: described(o)}
		switch {
		case !describe || !text:
			one.about = o.Level.String() + ": " + one.about
		case o.Level != heading:
			heading = o.Level
			s.rows = append(s.rows, sheetRow{name: o.Level.String(), heading: true, cells: make([]string, len(grid.Columns)),
				styles: make([]view.Style, len(grid.Columns))})
			fallthrough
		default:
			one.indent = 2
		}
		out := map[string]any{}
		for c, answer := range cells[i] {
			text, style := "", view.Plain
			switch answer.Outcome {
			case gate.Allow:
				text, style = "yes", view.Yes
			case gate.Depends:
				text, style = "?", view.Maybe
			}
			if answer.Partly {
				text += "~"
			}
			if answer.Direct {
				text += "!"
			}
			if answer.OnRequest {
				text, style = text+"+", view.Maybe
			}
			one.cells, one.styles = append(one.cells, text), append(one.styles, style)
			out[grid.Columns[c].Name] = map[string]any{"decision": answer.Outcome.String(), "partly": answer.Partly,
				"on_request": answer.OnRequest, "direct": answer.Direct}
		}
		one.json = map[string]any{"operation": o.Name, "level": o.Level.String(), "about": o.About, "cells": out}
		s.rows = append(s.rows, one)
	}
	return s
}

// described says what an operation does, and why it needs a second look.
func described(o *estate.Operation) string {
	if caution := o.Caution(); caution != "" {
		return o.About + " (" + caution + ")"
	}
	return o.About
}

// hideEmpty leaves out rows in which nothing stands, and columns, unless they were asked for by name.
func (s *sheet) hideEmpty() {
	var kept []int
	for c, name := range s.columns {
		if s.asked[c] || slices.ContainsFunc(s.rows, func(r sheetRow) bool { return r.cells[c] != "" }) {
			kept = append(kept, c)
		} else if !strings.HasSuffix(name, invitedMark) { // who is invited is told apart
			s.empty = append(s.empty, name)
		}
	}
	s.keep(kept)
	s.hideEmptyRows()
}

// keep keeps some columns, by number.
func (s *sheet) keep(kept []int) {
	s.columns, s.asked = picked(s.columns, kept), picked(s.asked, kept)
	s.rows = slices.Clone(s.rows)
	for i := range s.rows {
		r := &s.rows[i]
		r.cells, r.styles = picked(r.cells, kept), picked(r.styles, kept)
	}
}

func picked[T any](all []T, kept []int) (out []T) {
	for _, i := range kept {
		out = append(out, all[i])
	}
	return out
}

// hideEmptyRows leaves rows out in which nothing stands, unless they were asked for by name, differ from the row that
// they stand in, or one that stands in them stays.
func (s *sheet) hideEmptyRows() {
	stays := make([]bool, len(s.rows))
	var around []int // the rows that a row stands in
	for i, r := range s.rows {
		for len(around) > 0 && s.rows[around[len(around)-1]].indent >= r.indent {
			around = around[:len(around)-1]
		}
		stays[i] = r.asked || !r.empty() || len(around) > 0 && !s.rows[around[len(around)-1]].empty()
		if stays[i] {
			for _, up := range around {
				stays[up] = true
			}
		}
		around = append(around, i)
	}
	var rows []sheetRow
	for i, r := range s.rows {
		if stays[i] {
			rows = append(rows, r)
		}
	}
	s.rows = rows
}

// empty says that nothing stands in a row.
func (r sheetRow) empty() bool {
	return !slices.ContainsFunc(r.cells, func(text string) bool { return text != "" })
}
