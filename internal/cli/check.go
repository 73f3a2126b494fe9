package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/view"
)

func (a *app) checkCommand() *cobra.Command {
	var strict bool
	c := &cobra.Command{
		Use:   "check",
		Short: "Find what is wrong with the files, and what is likely a slip",
		Long: `Reads all files and reports every finding: a severity, a code, the place and what to do.
'hgate show finding CODE' explains one. The workspace sets severities under check:, and an entry
accepts a finding with accept:; accepted findings are listed and not counted.
It exits with 1 on a finding that is an error, with --strict on a warning too.`,
		Example: `  hgate check
  hgate check --strict --format json`,
		Args: takes(0, 0),
	}
	c.Flags().BoolVar(&strict, "strict", false, "exit with 1 on warnings too")
	a.moment(c)
	c.RunE = func(*cobra.Command, []string) error {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		now, err := a.day(g.Estate().Zone)
		if err != nil {
			return err
		}
		done := a.progress("checking")
		var found []finding.Found
		_, err = runTests(g, nil, now) // a test that can't be run is wrong whatever it would say
		if err == nil {
			found = finding.Run(g, now)
		}
		done()
		if err != nil {
			return err
		}
		if a.format == "json" {
			err = a.checkJSON(found)
		} else {
			a.checkText(found, g.Estate())
		}
		if n := tally(found); err == nil && (n[diagnostic.Error] > 0 || strict && n[diagnostic.Warning] > 0) {
			err = answered(exitNo)
		}
		return err
	}
	a.formats(c, "text", "json")
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
		out.Findings = append(out.Findings, row{f.Code, f.Severity.String(), f.Message, f.Position.File, f.Position.Line, f.Position.Column, f.Help, f.Accepted})
	}
	return a.json(out)
}

func (a *app) checkText(found []finding.Found, e *estate.Estate) {
	p := a.page(a.Out)
	n := tally(found)
	what := strings.Join([]string{
		count(len(e.People), "person"), count(len(e.Groups), "group"), count(len(e.Roles), "role"), count(len(e.Grants), "grant"), count(e.Tree.Len(), "resource"),
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
	for _, f := range found {
		if f.Accepted != "" {
			accepted++
			continue
		}
		a.findingText(p, f)
	}
	if accepted > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "Accepted, and not counted"))
		for _, f := range found {
			if f.Accepted != "" {
				p.Line("  %s  %s: %s", p.Paint(view.Faint, f.Position.Short()), f.Code, f.Message)
				p.Line("    because: %s", f.Accepted)
			}
		}
	}
}

func (a *app) findingText(p *view.Page, f finding.Found) {
	p.Line("\n%s  %s", p.Severity(f.Severity, f.Severity.String()+" "+f.Code), p.Paint(view.Faint, f.Position.String()))
	p.Table(2, nil, [][]view.Cell{{{Text: f.Message}}, {{Text: "do: " + f.Help, Style: view.Faint}}})
}
