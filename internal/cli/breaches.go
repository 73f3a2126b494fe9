package cli

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/change"
	"hiddengate/internal/view"
)

// mostBreaches is how many lines a rule has before the rest is counted.
const mostBreaches = 12

// breachesText writes what an author may not do, rule by rule; what is said of many operations of one person in one
// place is one line.
func breachesText(p *view.Page, breaches []change.Breach) {
	for _, g := range change.Grouped(breaches) {
		p.Line("\n%s", p.Paint(view.Heading, string(g.Rule)))
		p.Table(2, nil, [][]view.Cell{{{Text: change.Sentences[g.Rule], Style: view.Faint}}})
		var rows [][]view.Cell
		var would []string
		for _, b := range g.Breaches {
			if b.Would != "" && !slices.Contains(would, b.Would) {
				would = append(would, b.Would)
			}
			n := len(rows)
			if n > 0 && b.Operation != "" && rows[n-1][0].Text == b.Position.Short() && rows[n-1][2].Text == sentenceAbout(b) {
				if words := strings.Split(rows[n-1][1].Text, ", "); !slices.Contains(words, b.Operation) {
					rows[n-1][1].Text += ", " + b.Operation
				}
				continue
			}
			rows = append(rows, []view.Cell{{Text: b.Position.Short(), Style: view.Faint}, {Text: b.Operation},
				{Text: sentenceAbout(b)}})
		}
		for i := range rows {
			if words := strings.Split(rows[i][1].Text, ", "); len(words) > 4 {
				rows[i][1].Text = strings.Join(words[:3], ", ") + fmt.Sprintf(" and %d more", len(words)-3)
			}
		}
		more := 0
		if len(rows) > mostBreaches {
			more = len(rows) - mostBreaches
			rows = rows[:mostBreaches]
		}
		p.Table(2, nil, rows)
		if more > 0 {
			p.Line("  %s", p.Paint(view.Faint, fmt.Sprintf("and %d more", more)))
		}
		for i, text := range would {
			if i == 3 {
				break
			}
			p.Table(2, nil, [][]view.Cell{{{Text: "delegation that would cover it", Style: view.Faint},
				{Text: text, Style: view.Faint}}})
		}
	}
}

// sentenceAbout tells a breach, without the operation where it has one.
func sentenceAbout(b change.Breach) string {
	if b.Operation == "" {
		return b.Message
	}
	return fmt.Sprintf("to %s on %s", b.Who, b.Where)
}
