package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/view"
)

func (a *app) checkCommand() *cobra.Command {
	var strict bool
	var since, by string
	c := &cobra.Command{
		Use:   "check",
		Short: "Find what is wrong with the files, and what is likely a slip",
		Long: `Reads all files and reports every finding: a severity, a code, the place and what to do.
'hgate show finding CODE' explains one. The workspace sets severities under check:, and an entry
accepts a finding with accept:; accepted findings are listed and not counted.
It exits with 1 on a finding that is an error, with --strict on a warning too.

With --since and --by it judges a change instead: everything that somebody gains by it, and
everything that is weakened, must be covered by a delegation to its author, as the delegations stood
before. It exits with 1 if anything is not.`,
		Example: `  hgate check
  hgate check --strict --format json
  hgate check --watch
  hgate check --since main --by ines.okafor`,
		Args: takes(0, 0),
	}
	c.Flags().BoolVar(&strict, "strict", false, "exit with 1 on warnings too")
	c.Flags().StringVar(&since, "since", "",
		"hold what has changed since a Git `revision`, or another folder (./, ../ or /), against the delegations of then")
	c.Flags().StringVar(&by, "by", "", "`who` made the change")
	a.moment(c)
	c.RunE = func(*cobra.Command, []string) error {
		if (since == "") != (by == "") {
			return fmt.Errorf("--since and --by go together: hgate check --since main --by ines.okafor")
		}
		if since != "" {
			return a.checkSince(since, by)
		}
		g, err := a.compiled()
		if err != nil {
			return err
		}
		now, err := a.day(g.Estate().Zone)
		if err != nil {
			return err
		}
		done := a.working("checking")
		var found []finding.Found
		_, err = runTests(g, nil, now) // a test that can't be run is wrong whatever it would say
		if err == nil {
			found = finding.Run(g, now)
		}
		done()
		if err != nil {
			return err
		}
		switch a.format {
		case "json":
			err = a.checkJSON(found)
		case "sarif":
			err = a.checkSARIF(found)
		default:
			a.checkText(found, g.Estate())
		}
		if n := tally(found); err == nil && (n[diagnostic.Error] > 0 || strict && n[diagnostic.Warning] > 0) {
			err = answered(exitNo)
		}
		return err
	}
	a.formats(c, "text", "json", "sarif")
	a.watching(c)
	return c
}

// tally counts the findings that are not accepted, by severity.
func tally(found []finding.Found) map[diagnostic.Severity]int {
	n := map[diagnostic.Severity]int{}
	for _, f := range found {
		if f.Accepted == "" {
			n[f.Severity]++
		}
	}
	return n
}

func (a *app) checkJSON(found []finding.Found) error {
	type row struct {
		Code     string `json:"code"`
		Severity string `json:"severity"`
		Message  string `json:"message"`
		File     string `json:"file"`
		Line     int    `json:"line"`
		Column   int    `json:"column"`
		Help     string `json:"help"`
		Accepted string `json:"accepted,omitempty"`
	}
	out := struct {
		Findings []row `json:"findings"`
	}{[]row{}}
	for _, f := range found {
		out.Findings = append(out.Findings, row{f.Code, f.Severity.String(), f.Message, f.Position.File, f.Position.Line,
			f.Position.Column, f.Help, f.Accepted})
	}
	return a.json(out)
}

func (a *app) checkText(found []finding.Found, e *estate.Estate) {
	p := a.page(a.Out)
	n := tally(found)
	what := strings.Join([]string{
		count(len(e.People), "person"), count(len(e.Groups), "group"), count(len(e.Roles), "role"),
		count(len(e.Grants), "grant"), count(e.Tree.Len(), "resource"),
	}, ", ")
	what = strings.Replace(what, "persons", "people", 1)
	verdict, style := "Nothing is wrong", view.Yes
	switch {
	case n[diagnostic.Error] > 0:
		verdict, style = count(n[diagnostic.Error], "error"), view.No
	case n[diagnostic.Warning] > 0:
		verdict, style = count(n[diagnostic.Warning], "warning"), view.Maybe
	}
	if style == view.No && n[diagnostic.Warning] > 0 {
		verdict += ", " + count(n[diagnostic.Warning], "warning")
	}
	p.Line("%s  %s", p.Paint(style, verdict), p.Paint(view.Faint, "in "+what))
	accepted := 0
	var counted []finding.Found
	for _, f := range found {
		if f.Accepted != "" {
			accepted++
		} else {
			counted = append(counted, f)
		}
	}
	for i := 0; i < len(counted); {
		n := 1
		for i+n < len(counted) && counted[i+n].Code == counted[i].Code && counted[i+n].Severity == counted[i].Severity {
			n++
		}
		a.findingText(p, counted[i:i+n])
		i += n
	}
	if accepted > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "Accepted, and not counted"))
		for _, f := range found {
			if f.Accepted != "" {
				p.Table(2, nil, [][]view.Cell{{{Text: f.Position.Short(), Style: view.Faint},
					{Text: f.Code + ": " + f.Message + view.Break + "because: " + f.Accepted}}})
			}
		}
	}
}

// findingText writes the findings of one code: one by itself, several in a table with what to do once.
func (a *app) findingText(p *view.Page, found []finding.Found) {
	f := found[0]
	head := p.Severity(f.Severity, f.Severity.String()+" "+f.Code)
	if len(found) == 1 {
		p.Line("\n%s  %s", head, p.Paint(view.Faint, f.Position.String()))
		p.Table(2, nil, [][]view.Cell{{{Text: f.Message}}, {{Text: "do: " + f.Help, Style: view.Faint}}})
		return
	}
	p.Line("\n%s", head)
	var rows [][]view.Cell
	for _, f := range found {
		rows = append(rows, []view.Cell{{Text: f.Position.String(), Style: view.Faint}, {Text: f.Message}})
	}
	p.Table(2, nil, rows)
	p.Table(2, nil, [][]view.Cell{{{Text: "do: " + f.Help, Style: view.Faint}}})
}
