package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/survey"
	"hiddengate/internal/view"
)

func (a *app) coverCommand() *cobra.Command {
	var what, where, without []string
	var least int
	var all bool
	c := &cobra.Command{
		Use:   "cover",
		Short: "Show who stands behind each strong operation",
		Long: `Tells of every high-risk and every govern operation (or of those named with --what), and of each
place where it applies, who can do it by standing grants, from now (or --at) on: what nobody can do,
what hangs on one person, on whom most depends, and at which hours of the coming week fewer people
can than are enough (--least). --without shows what would be left if somebody were gone.`,
		Example: `  hgate cover
  hgate cover --without hana.kobari --where obsdb
  hgate cover --what backup.restore --least 2 --format json`,
		Args: takes(0, 0),
	}
	a.moment(c)
	c.Flags().StringSliceVar(&what, "what", nil, "these `operations`, as 'backup.*' or 'from change'")
	c.Flags().StringSliceVar(&where, "where", nil, "in these `places` alone")
	c.Flags().StringSliceVar(&without, "without", nil, "as if these `subjects` had left")
	c.Flags().IntVar(&least, "least", 1, "how many `people` are enough")
	c.Flags().BoolVar(&all, "all", false, "as text: list all, however many there are")
	c.RunE = func(_ *cobra.Command, _ []string) error {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		e := g.Estate()
		w := survey.Watch{Least: least, Gate: g,
			What: func(o *estate.Operation) bool { return o.HighRisk || o.Level == estate.Govern }}
		if w.Since, err = a.day(e.Zone); err != nil {
			return err
		}
		if least < 1 {
			return fmt.Errorf("--least %d: at least one", least)
		}
		chosen, err := chosenOperations(what)
		if err != nil {
			return err
		}
		if chosen != nil {
			w.What = func(o *estate.Operation) bool { return chosen.Fit(o, e.Edition) }
		}
		if w.Within, err = chosenPlaces(g, where); err != nil {
			return err
		}
		var gone []estate.Principal
		for _, text := range without {
			p, err := subject(g, text)
			if err != nil {
				return fmt.Errorf("--without: %w", err)
			}
			gone = append(gone, p)
		}
		done := a.progress("looking who can")
		rows, err := survey.Cover(a.ctx, survey.Without(e, gone), w)
		var lost []survey.Covered
		if err == nil && len(gone) > 0 {
			var before []survey.Covered
			if before, err = survey.Cover(a.ctx, e, w); err == nil {
				lost = survey.Lost(before, rows)
			}
		}
		done()
		if err != nil {
			return err
		}
		told := covered{rows, lost, texts(gone), least, "high-risk and govern operations"}
		if chosen != nil {
			told.kind = "operations"
		}
		if a.format == "json" {
			return a.coverJSON(told)
		}
		a.coverText(told, all)
		return nil
	}
	a.formats(c, "text", "json")
	return c
}

// placesOf writes where a row is about.
func placesOf(r survey.Covered) string {
	text := strings.Join(r.Places, ", ")
	if r.Coming {
		return "such as " + strings.Join(r.Places[:min(3, len(r.Places))], ", ")
	}
	switch {
	case r.Inside == 1:
		text += " and one inside"
	case r.Inside > 0:
		text += fmt.Sprintf(" and %d inside", r.Inside)
	}
	if more := r.Count - len(r.Places) - r.Inside; more > 0 {
		text += fmt.Sprintf(", and %d more", more)
	}
	return text
}

func peopleOf(r survey.Covered) string {
	names := texts(r.People)
	if more := r.Number - len(names); more > 0 {
		names = append(names, fmt.Sprintf("%d more", more))
	}
	if r.Services > 0 {
		names = append(names, count(r.Services, "service"))
	}
	if r.Lent > 0 {
		names = append(names, fmt.Sprintf("%d on request", r.Lent))
	}
	if len(names) == 0 {
		return "nobody"
	}
	return strings.Join(names, ", ")
}

// together joins the operations of rows that are alike in some way, and keeps their order.
func together(rows []survey.Covered, key func(survey.Covered) string) (out [][]survey.Covered) {
	number := map[string]int{}
	for _, r := range rows {
		n, ok := number[key(r)]
		if !ok {
			n = len(out)
			number[key(r)] = n
			out = append(out, nil)
		}
		out[n] = append(out[n], r)
	}
	return out
}

func operationsOf(rows []survey.Covered) string {
	var names []string
	for _, r := range rows {
		names = append(names, r.Operation.Name)
	}
	slices.Sort(names)
	return strings.Join(slices.Compact(names), ", ")
}

// covered is what cover tells.
type covered struct {
	rows, lost []survey.Covered // lost: by those who are thought away
	gone       []string         // who they are
	least      int
	kind       string // of the operations
}

// mostCovered is how many lines of each sort are listed where there are more than mostListed.
const mostCovered = 30

func (a *app) coverText(c covered, all bool) {
	p := coverPage{a.page(a.Out), len(c.rows) + len(c.lost)}
	cut := p.most > mostListed && !all
	if cut {
		p.most = mostCovered
	}
	rows, lost, gone := c.rows, c.lost, c.gone
	if len(rows) == 0 {
		p.Line("No such operation applies to anything there.")
		return
	}
	var none, one, short, rest, coming []survey.Covered
	for _, r := range rows {
		switch {
		case r.Coming:
			coming = append(coming, r)
			continue
		case r.Number == 0:
			none = append(none, r)
		case r.Number == 1:
			one = append(one, r)
		default:
			rest = append(rest, r)
		}
		if r.Number > 0 && r.Short != "" {
			short = append(short, r)
		}
	}
	listed := slices.DeleteFunc(slices.Clone(rows), func(r survey.Covered) bool { return r.Coming })
	distinct := func(rows []survey.Covered) int {
		return len(together(rows, func(r survey.Covered) string { return r.Operation.Name }))
	}
	if len(gone) > 0 {
		p.Line("%s", p.Paint(view.Heading, fmt.Sprintf("Without %s nobody could do %s more", strings.Join(gone, " and "),
			count(distinct(lost), "operation"))))
		p.part("", lost, peopleLast)
	} else {
		p.Line("%s", p.Paint(view.Heading,
			coverHeadline(distinct(listed), c.kind, distinct(none), distinct(one))))
	}
	if cut {
		p.Line("Here are the first %d lines of each sort: narrow them with --what and --where, or see --all.", mostCovered)
	}
	p.part("By one person alone", one, peopleFirst)
	if reliances := survey.Reliances(rows); len(reliances) > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "On whom most depends"))
		var cells [][]view.Cell
		for _, r := range reliances[:min(len(reliances), 8)] {
			cells = append(cells, []view.Cell{{Text: r.Who.String()}, {Text: count(len(r.Operations), "operation")},
				{Text: count(r.Count, "time") + " alone", Style: view.Faint}})
		}
		p.Table(2, nil, cells)
	}
	if len(short) > 0 {
		title := "Hours of the coming week in which nobody can"
		if c.least > 1 {
			title = fmt.Sprintf("Hours of the coming week in which fewer than %d can", c.least)
		}
		p.Line("\n%s", p.Paint(view.Heading, title))
		var cells [][]view.Cell
		for _, part := range together(short, func(r survey.Covered) string { return r.Short + "\n" + placesOf(r) }) {
			cells = append(cells, []view.Cell{{Text: part[0].Short, Style: view.Maybe}, {Text: operationsOf(part)},
				{Text: placesOf(part[0]), Style: view.Faint}})
		}
		p.lines(cells)
	}
	p.part("By several", rest, peopleFirst)
	if len(gone) == 0 {
		p.part("By nobody", none, peopleLast)
	}
	p.part("On what no inventory lists, where that is judged", coming, peopleFirst)
}

// coverHeadline counts operations by who can do them in some place; an operation may be counted in both ways.
func coverHeadline(all int, kind string, none, one int) string {
	return fmt.Sprintf("%d %s: %d somewhere by one person alone, %d somewhere by nobody", all, kind, one, none)
}

// order is where the people stand in a line.
type order int

// First, or last and only where they need saying.
const (
	peopleFirst order = iota
	peopleLast
)

// coverPage writes so many lines of each sort.
type coverPage struct {
	*view.Page
	most int
}

// part writes rows, those with the same people and places in one.
func (p coverPage) part(title string, rows []survey.Covered, as order) {
	if len(rows) == 0 {
		return
	}
	if title != "" {
		p.Line("\n%s", p.Paint(view.Heading, title))
	}
	var cells [][]view.Cell
	for _, part := range together(rows, func(r survey.Covered) string { return peopleOf(r) + "\n" + placesOf(r) }) {
		row := []view.Cell{{Text: operationsOf(part)}, {Text: placesOf(part[0]), Style: view.Faint}}
		if as == peopleFirst {
			row = append([]view.Cell{{Text: peopleOf(part[0])}}, row...)
		} else if part[0].Lent > 0 || part[0].Services > 0 {
			row = append(row, view.Cell{Text: peopleOf(part[0]), Style: view.Maybe})
		}
		cells = append(cells, row)
	}
	p.lines(cells)
}

// lines writes the first lines of a sort, and how many more there are.
func (p coverPage) lines(cells [][]view.Cell) {
	first := cells[:min(len(cells), p.most)]
	p.Table(2, nil, append(first[:len(first):len(first)], more(len(cells)-p.most)...))
}

func (a *app) coverJSON(c covered) error {
	type row struct {
		Operation string   `json:"operation"`
		Level     string   `json:"level"`
		HighRisk  bool     `json:"high_risk"`
		Places    []string `json:"places"`
		Count     int      `json:"count"`
		People    []string `json:"people"`
		Number    int      `json:"number"`
		Services  int      `json:"services"`
		OnRequest int      `json:"on_request"`
		Short     string   `json:"short"`
		Unlisted  bool     `json:"unlisted,omitempty"` // the places are examples of what no inventory lists
	}
	as := func(r survey.Covered) row {
		return row{
			r.Operation.Name, r.Operation.Level.String(), r.Operation.HighRisk, append([]string{}, r.Places...), r.Count,
			append([]string{}, texts(r.People)...), r.Number, r.Services, r.Lent, r.Short, r.Coming,
		}
	}
	out := []jsonPart{{"rows", eachAs(c.rows, as)}}
	if len(c.gone) > 0 {
		out = append([]jsonPart{{"lost", eachAs(c.lost, as)}}, out...)
	}
	return a.jsonObject(out...)
}
