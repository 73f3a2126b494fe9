package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/survey"
	"hiddengate/internal/tabular"
	"hiddengate/internal/view"
)

// sheetFlags are the flags that say what a sheet covers. A sheet gives them in lines of their own, and no others.
var sheetFlags = func() []string {
	out := []string{"who", "groups", "members-of", "roles", "where", "what", "levels", "depth", "unfold"}
	for _, fact := range estate.Facts {
		out = append(out, fact.Name)
	}
	return append(out, "context")
}()

// sheetVersion is the version of a sheet's form.
const sheetVersion = "2"

// sheetHeading writes what a sheet covers: its version, what was asked, and the flags that were given.
func sheetHeading(c *cobra.Command, said string) [][]string {
	out := [][]string{{"grid", sheetVersion}, {"asked", said}}
	for _, name := range sheetFlags {
		flag := c.Flags().Lookup(name)
		if !flag.Changed {
			continue
		}
		values := []string{flag.Value.String()}
		if list, ok := flag.Value.(pflag.SliceValue); ok {
			values = list.GetSlice()
		}
		out = append(out, append([]string{name}, values...))
	}
	return out
}

// signed is a sheet that was signed off.
type signed struct {
	name    string
	columns []string
	rows    []signedRow
	gone    [][]view.Cell // what it covers and is no more
}

type signedRow struct {
	line  int
	place string
	cells []string
}

// signedSheet reads a sheet, and sets the flags that it gives.
func (a *app) signedSheet(c *cobra.Command, name string) (*signed, error) {
	for _, flag := range append([]string{"operations", "describe", "all", "as-tests", "format"}, sheetFlags...) {
		if c.Flags().Changed(flag) {
			return nil, fmt.Errorf("a sheet says itself what it covers; leave --%s out beside --expect", flag)
		}
	}
	file, err := a.open(name)
	if err != nil {
		return nil, outside{err}
	}
	defer file.Close()
	r := csv.NewReader(file)
	r.FieldsPerRecord = -1
	out := &signed{name: name}
	wrong := func(format string, args ...any) error {
		line, _ := r.FieldPos(0)
		return fmt.Errorf("%s:%d: %s", name, line, fmt.Sprintf(format, args...))
	}
	for first := true; ; first = false {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			if len(out.rows) == 0 {
				return nil, fmt.Errorf("%s: it has no cells, and so says nothing", name)
			}
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: it is no CSV: %w", name, err)
		}
		for i, cell := range row {
			row[i] = tabular.Value(strings.TrimSpace(strings.TrimPrefix(cell, "\ufeff")))
		}
		for len(row) > 1 && row[len(row)-1] == "" && out.columns == nil {
			row = row[:len(row)-1] // a spreadsheet makes all rows as long as the longest
		}
		line, _ := r.FieldPos(0)
		switch {
		case first:
			if !slices.Equal(row, []string{"grid", sheetVersion}) {
				return nil,
					wrong("it does not say what it covers, in lines that begin with grid,%s; write it anew with --format csv",
						sheetVersion)
			}
		case out.columns != nil && len(row) != len(out.columns)+1:
			return nil, wrong("there are %d columns and %d cells", len(out.columns), len(row)-1)
		case out.columns != nil:
			if slices.ContainsFunc(out.rows, func(r signedRow) bool { return r.place == row[0] }) {
				return nil, wrong("%s occurs twice", row[0])
			}
			out.rows = append(out.rows, signedRow{line, row[0], row[1:]})
		case row[0] == "place":
			for _, title := range row[1:] {
				if title = strings.TrimSuffix(title, invitedMark); title == "" || slices.Contains(out.columns, title) {
					return nil, wrong("the column %q has no name, or occurs twice", title)
				}
				out.columns = append(out.columns, title)
			}
			if len(row) == 1 {
				return nil, wrong("it has no columns, and so says nothing")
			}
		case row[0] == "asked":
		case !slices.Contains(sheetFlags, row[0]):
			return nil, wrong("%q is nothing that a sheet says of itself; the table begins with place", row[0])
		default:
			if err := setFlag(c, row[0], row[1:]); err != nil {
				return nil, wrong("%s: %s", row[0], err)
			}
		}
	}
}

// setFlag gives a flag the values of a sheet, in place of what it has.
func setFlag(c *cobra.Command, name string, values []string) error {
	if list, ok := c.Flags().Lookup(name).Value.(pflag.SliceValue); ok {
		return list.Replace(values)
	}
	if len(values) != 1 {
		return fmt.Errorf("it has one value, and not %d", len(values))
	}
	return c.Flags().Set(name, values[0])
}

// settle takes out of the flags whoever and whatever is no more, and notes it. It says whether anything is left to
// compare: without a name the flags would mean all there is.
func (s *signed) settle(g *gate.Gate, f *gridFlags) bool {
	who, where := len(f.who)+len(f.members)+len(f.roles) > 0, len(f.where) > 0
	e := g.Estate()
	keep := func(what string, all []string, is func(string) bool) []string {
		return slices.DeleteFunc(all, func(text string) bool {
			if is(text) {
				return false
			}
			s.gone = append(s.gone, []view.Cell{{Text: text}, {Text: what, Style: view.Faint},
				{Text: "is no more", Style: view.No}})
			return true
		})
	}
	f.who = keep("who", f.who, func(text string) bool {
		p, err := estate.ParsePrincipal(text)
		if err == nil && p.Kind == estate.IsGroup {
			return e.Groups[p.ID] != nil
		}
		return err == nil && (p.Kind == estate.IsEveryone || g.Subject(p) == nil)
	})
	f.members = keep("members-of", f.members,
		func(text string) bool { return e.Groups[strings.TrimPrefix(text, "group:")] != nil })
	f.roles = keep("roles", f.roles, func(text string) bool { return e.Roles[strings.TrimPrefix(text, "role:")] != nil })
	f.where = keep("where", f.where, func(text string) bool {
		_,
			err := chosenPlaces(g, []string{text})
		return err == nil
	})
	f.unfold = keep("unfold", f.unfold, func(text string) bool {
		a, err := estate.ParseAddress(text)
		return err == nil &&
			e.Listed(a) != nil
	})
	return (!who || f.groups || len(f.who)+len(f.members)+len(f.roles) > 0) && (!where || len(f.where) > 0)
}

// gridExpected compares a grid with a sheet: every cell of the one is one of the other, or is told. What a sheet leaves
// out was empty when it was made.
func (a *app) gridExpected(grid *survey.Grid, rows []survey.GridRow, s *signed) error {
	differs, compared := s.gone, 0
	tell := func(place, column, want, is string, line int) {
		or := func(text string) string {
			if text == "" {
				return "none"
			}
			return text
		}
		at := s.name
		if line > 0 {
			at = fmt.Sprintf("%s:%d", s.name, line)
		}
		differs = append(differs, []view.Cell{{Text: place}, {Text: column},
			{Text: "expected " + or(want), Style: view.Faint}, {Text: "is " + or(is), Style: view.No},
			{Text: at, Style: view.Faint}})
	}
	var across []int // of each column of the sheet, that of the grid; -1 if there is none
	for _, title := range s.columns {
		across = append(across, slices.IndexFunc(grid.Columns, func(c survey.Column) bool { return c.Name == title }))
	}
	seen := map[string]bool{}
	for _, r := range s.rows {
		seen[r.place] = true
		at := grid.Find(r.place)
		wants := make([]string, len(grid.Columns))
		for i, cell := range r.cells {
			want := expectedText(cell)
			if c := across[i]; c >= 0 && at >= 0 {
				wants[c] = want
			} else if compared++; want != "" {
				tell(r.place, s.columns[i], want, "", r.line)
			}
		}
		for c := range grid.Columns {
			if at < 0 {
				break
			}
			compared++
			if is, _ := reachedText(grid.At(c, at)); is != wants[c] {
				tell(r.place, grid.Columns[c].Name, wants[c], is, r.line)
			}
		}
	}
	for _, row := range rows {
		for _, place := range append([]*estate.Resource{row.Place}, row.Alike...) {
			for c, cell := range row.Cells {
				if is, _ := reachedText(cell); is != "" && !seen[place.Address.String()] {
					compared++
					tell(place.Address.String(), grid.Columns[c].Name, "", is, 0)
				}
			}
		}
	}
	if len(differs) > 0 {
		return a.differs(differs, compared)
	}
	p := a.page(a.Out)
	p.Line("%s  all %d cells are as expected", p.Paint(view.Yes, "AGREES"), compared)
	return nil
}

// expectedText gives a cell as a grid writes it.
func expectedText(cell string) string {
	switch text := strings.ToLower(strings.Join(strings.Fields(cell), " ")); text {
	case "none", "·", "-":
		return ""
	default:
		return text
	}
}

// differs tells what is not as a sheet has it.
func (a *app) differs(rows [][]view.Cell, compared int) error {
	p := a.page(a.Out)
	p.Line("%s  %d of %d cells are not as expected\n", p.Paint(view.No, "DIFFERS"), len(rows), max(compared, len(rows)))
	p.Table(2, nil, rows)
	return answered(exitNo)
}
