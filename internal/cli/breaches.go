package cli

import (
	"fmt"
	"slices"

	"hiddengate/internal/change"
	"hiddengate/internal/estate"
	"hiddengate/internal/view"
)

const (
	// Lines of a rule, or about one person, before the rest is counted; what needs a second look is always named.
	mostBreaches = 12
	mostWould    = 3 // delegations that would cover some of it
)

// breachesText writes what an author may not do, rule by rule: whoever gains what, place by place, and the rest line by
// line.
func breachesText(p *view.Page, breaches []change.Breach, before, after *estate.Estate) {
	for _, g := range change.Grouped(breaches) {
		p.Line("\n%s", p.Paint(view.Heading, string(g.Rule)))
		p.Table(2, nil, [][]view.Cell{{{Text: change.Sentences[g.Rule], Style: view.Faint}}})
		people, others := g.ByPerson(before, after)
		gainsText(p, people)
		var rows [][]view.Cell
		for _, b := range others[:min(len(others), mostBreaches)] {
			rows = append(rows, []view.Cell{{Text: b.Position.Short(), Style: view.Faint}, {Text: b.Message}})
		}
		p.Table(2, nil, rows)
		if more := len(others) - len(rows); more > 0 {
			p.Line("  %s", p.Paint(view.Faint, fmt.Sprintf("and %d more", more)))
		}
		var would []string
		for _, b := range g.Breaches {
			if b.Would != "" && !slices.Contains(would, b.Would) && len(would) < mostWould {
				would = append(would, b.Would)
				p.Table(2, nil, [][]view.Cell{{{Text: "delegation that would cover it", Style: view.Faint},
					{Text: b.Would, Style: view.Faint}}})
			}
		}
	}
}

// gainsText writes who gains what and where.
func gainsText(p *view.Page, people []change.PersonGains) {
	for _, one := range people {
		who := one.Who
		if one.New {
			who += ", who is new,"
		}
		p.Line("  %s  %s", p.Paint(view.Heading, who+" gets"), p.Paint(view.Faint, one.At))
		var rows [][]view.Cell
		more := 0
		for _, gain := range one.Gains {
			if len(rows) >= mostBreaches && len(gain.What.Grave) == 0 {
				more++
				continue
			}
			rows = append(rows, []view.Cell{{Text: gain.Where}, {Text: p.Operations(gain.What)}})
		}
		p.Table(4, nil, rows)
		if more > 0 {
			p.Line("    %s", p.Paint(view.Faint, "and more in "+count(more, "other place")))
		}
	}
}
