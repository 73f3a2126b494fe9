package cli

import (
	"encoding/json"
	"fmt"
	"strings"
	"unicode"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/splice"
	"hiddengate/internal/survey"
)

// askedTest is the test that a grid is to be written as.
type askedTest struct {
	id, file string
	edit     editing
	survey.Question
}

// gridTest adds the grid to the workspace as a test of levels, and leaves out what a test can't say or what members of
// a group have beyond it.
func (a *app) gridTest(g *gate.Gate, grid *survey.Grid, rows []survey.GridRow, q askedTest) error {
	if err := estate.CheckID(q.id); err != nil {
		return fmt.Errorf("--as-tests: %w", err)
	}
	if q.What != nil {
		return fmt.Errorf("--as-tests speaks of levels, of all operations; leave --what out")
	}
	if old := g.Estate().Tests[q.id]; old != nil {
		return fmt.Errorf("--as-tests: there is a test %s already (%s); choose another id", q.id, old.Source.Short())
	}
	ctx, err := q.Ask(g)
	if err != nil {
		return err
	}
	if _, timed := ctx.Moment(); !timed {
		return fmt.Errorf("--as-tests needs a time; leave --at any out")
	}
	said := ctx.Said(g.Estate().Zone)
	var left, written []string
	for _, l := range grid.Levels(g, rows, estate.Test{Object: estate.Object{ID: q.id}, Given: said}) {
		if l.Nobody {
			left = append(left, l.Column.Name+" (a test is of somebody who can sign in)")
		}
		for _, place := range l.Left {
			left = append(left, l.Column.Name+" on "+place.String())
		}
		var levels []string
		for _, rule := range l.Rules {
			word := "none"
			if !rule.None {
				word = rule.Level.String()
			}
			levels = append(levels, yamlText(rule.Place.String())+": "+word)
		}
		if len(levels) > 0 {
			written = append(written, fmt.Sprintf("%s: {%s}", l.Column.Name, strings.Join(levels, ", ")))
		}
	}
	if len(left) > 0 {
		a.page(a.Err).Line("hgate: left out, where it depends on the request or members have more by other ways: %s",
			strings.Join(left, "; "))
	}
	if len(written) == 0 {
		return fmt.Errorf("--as-tests: nothing is left that a test could expect; nothing was written")
	}
	body, err := splice.Value(fmt.Sprintf("{given: {%s}, levels: {%s}}", strings.Join(givenText(&said), ", "),
		strings.Join(written, ", ")))
	if err != nil {
		return err
	}
	return a.edit(q.edit, func(d *draft.Draft, _ *estate.Estate) error { return d.Add("tests", q.id, body, q.file) })
}

// yamlText writes a text as YAML that reads it back.
func yamlText(text string) string {
	out, err := json.Marshal(text) // YAML 1.2 takes JSON's texts
	if err != nil || !strings.ContainsFunc(text, unicode.IsControl) {
		return "'" + strings.ReplaceAll(text, "'", "''") + "'"
	}
	return string(out)
}

// givenText writes what a request says as the keys of a test's given.
func givenText(said *estate.Given) (out []string) {
	out = append(out, "time: "+said.Time.Text)
	for _, v := range said.Facts {
		value := v.Value
		switch estate.FactNamed(v.Fact).Kind {
		case estate.YesNo, estate.Carried:
			value = fmt.Sprint(value == estate.Yes)
		case estate.FromNetwork:
			value = yamlText(value)
		}
		out = append(out, v.Fact+": "+value)
	}
	var pairs []string
	for _, tag := range said.Context {
		pairs = append(pairs, tag.Key+": "+yamlText(tag.Value))
	}
	if pairs != nil {
		out = append(out, "context: {"+strings.Join(pairs, ", ")+"}")
	}
	return out
}
