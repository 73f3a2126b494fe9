package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/gate"
	"hiddengate/internal/lending"
	"hiddengate/internal/verify"
	"hiddengate/internal/view"
)

func (a *app) checkCommand() *cobra.Command {
	var strict, all bool
	var since, by string
	c := &cobra.Command{
		Use:   "check",
		Short: "Find what is wrong with the files, and what is likely a slip",
		Long: `Reads all files and reports every finding: a severity, a code, the place and what to do.
'hgate show finding CODE' explains one. The workspace sets severities under check:, and an entry
accepts a finding with accept:; accepted findings are listed and not counted.
It runs the tests and judges the guarantees too, and names those that fail. It exits with 1 if one
fails, on a finding that is an error, and with --strict on a warning. Where there are more than a few
hundred, it lists the first of each sort as text, or with --all every one.

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
	c.Flags().BoolVar(&all, "all", false, "as text: list all, however many there are")
	c.Flags().StringVar(&since, "since", "",
		"hold what has changed since a Git `revision`, or another folder (./, ../ or /), against the delegations of then")
	c.Flags().StringVar(&by, "by", "", "`who` made the change")
	a.moment(c)
	c.RunE = func(*cobra.Command, []string) error {
		if (since == "") != (by == "") {
			return fmt.Errorf("--since and --by go together: hgate check --since main --by ines.okafor")
		}
		if since != "" && strict {
			return fmt.Errorf("--strict is about findings; --since judges a change, and refuses whatever is not its author's")
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
		done := a.progress("checking")
		c, err := a.checkAll(g, now)
		done()
		if err != nil {
			return err
		}
		switch a.format {
		case "json":
			err = a.checkJSON(c)
		case "sarif":
			err = a.checkSARIF(c)
		default:
			a.checkText(c, g.Estate(), all)
		}
		if n := tally(c.found); err == nil && (c.fails() || n[diagnostic.Error] > 0 || strict && n[diagnostic.Warning] > 0) {
			err = answered(exitNo)
		}
		return err
	}
	a.formats(c, "text", "json", "sarif")
	a.watching(c)
	return c
}

// checked is all that check finds.
type checked struct {
	found      []finding.Found
	tests      []*estate.Object // that fail
	guarantees []*estate.Object // that fail
	loans      []*lending.Request
	set        *lending.SignIns // what people sign in with that was set here; nil where that cannot be read
}

func (c checked) fails() bool { return len(c.tests)+len(c.guarantees) > 0 }

// checkAll looks for findings, runs the tests and judges the guarantees. Its error says that a test can't be run.
func (a *app) checkAll(g *gate.Gate, now clock.Instant) (c checked, err error) {
	results, err := a.runTests(g, nil, now)
	if err != nil {
		return c, err
	}
	for _, r := range results {
		if !r.Passed() {
			c.tests = append(c.tests, &r.Test.Object)
		}
	}
	prover := verify.NewProver(g, verify.Of{Since: now})
	for _, one := range estate.Sorted(g.Estate().Guarantees) {
		fails, err := prover.Fails(a.ctx, one)
		if err != nil {
			return c, err
		}
		if fails {
			c.guarantees = append(c.guarantees, &one.Object)
		}
	}
	c.loans, c.set = a.entering(g, now)
	c.found, err = finding.RunWith(a.ctx, g, now, c.loans, c.set)
	return c, err
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

func (a *app) checkJSON(c checked) error {
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
		Findings   []row    `json:"findings"`
		Tests      []string `json:"failing_tests"`
		Guarantees []string `json:"failing_guarantees"`
	}{[]row{}, idsOf(c.tests), idsOf(c.guarantees)}
	for _, f := range c.found {
		out.Findings = append(out.Findings, row{f.Code, f.Severity.String(), f.Message, f.Position.File, f.Position.Line,
			f.Position.Column, f.Help, f.Accepted})
	}
	return a.json(out)
}

func idsOf(list []*estate.Object) []string {
	out := []string{}
	for _, o := range list {
		out = append(out, o.ID)
	}
	return out
}

// mostOfEach is how many findings of each sort are listed where there are more than mostListed.
const mostOfEach = 10

func (a *app) checkText(c checked, e *estate.Estate, all bool) {
	p := a.page(a.Out)
	found := c.found
	what := strings.Join([]string{
		count(len(e.People), "person"), count(len(e.Groups), "group"), count(len(e.Roles), "role"),
		count(len(e.Grants), "grant"), count(e.Tree.Len(), "resource"),
	}, ", ")
	what = strings.Replace(what, "persons", "people", 1)
	verdict, style := c.verdict()
	p.Line("%s  %s", p.Paint(style, verdict), p.Paint(view.Faint, "in "+what))
	most := len(found) + len(c.tests) + len(c.guarantees)
	if most > mostListed && !all {
		most = mostOfEach
		p.Line("Here are the first %d of each sort: --all lists every one.", most)
	}
	for _, list := range []struct {
		what, show string
		objects    []*estate.Object
	}{{"test", "hgate test", c.tests}, {"guarantee", "hgate prove", c.guarantees}} {
		if len(list.objects) == 0 {
			continue
		}
		p.Line("\n%s", p.Paint(view.No, plural(len(list.objects), list.what)+" that "+verb(len(list.objects), "fail")))
		var rows [][]view.Cell
		for _, o := range list.objects[:min(len(list.objects), most)] {
			rows = append(rows, []view.Cell{{Text: o.Source.Position.String(), Style: view.Faint}, {Text: o.ID}})
		}
		p.Table(2, nil, append(rows, more(len(list.objects)-most)...))
		p.Table(2, nil, [][]view.Cell{{{Text: "do: " + list.show + " tells what it expects and what is so",
			Style: view.Faint}}})
	}
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
		a.findingText(p, counted[i:i+n], most)
		i += n
	}
	if accepted > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "Accepted, and not counted"))
		told := 0
		for _, f := range found {
			if f.Accepted != "" && told < most {
				told++
				p.Table(2, nil, [][]view.Cell{{{Text: f.Position.Short(), Style: view.Faint},
					{Text: f.Code + ": " + f.Message + view.Break + "because: " + f.Accepted}}})
			}
		}
		p.Table(2, nil, more(accepted-told))
	}
}

// more says how many are left out, in a row of its own; nil for none.
func more(n int) [][]view.Cell {
	if n <= 0 {
		return nil
	}
	return [][]view.Cell{{{Text: fmt.Sprintf("and %d more", n)}}}
}

// verdict says how many there are of whatever the answer lists.
func (c checked) verdict() (string, view.Style) {
	n := tally(c.found)
	style := view.Yes
	var parts []string
	add := func(n int, text string, s view.Style) {
		if n == 0 {
			return
		}
		parts = append(parts, text)
		if style == view.Yes || s == view.No {
			style = s
		}
	}
	for what, list := range map[string][]*estate.Object{"test": c.tests, "guarantee": c.guarantees} {
		add(len(list), count(len(list), what)+" "+verb(len(list), "fail"), view.No)
	}
	slices.Sort(parts)
	slices.Reverse(parts)
	add(n[diagnostic.Error], count(n[diagnostic.Error], "error"), view.No)
	add(n[diagnostic.Warning], count(n[diagnostic.Warning], "warning"), view.Maybe)
	add(n[diagnostic.Note], count(n[diagnostic.Note], "note"), view.Plain)
	if len(parts) == 0 {
		return "Nothing is wrong", style
	}
	return strings.Join(parts, ", "), style
}

// verb is a verb for so many.
func verb(n int, plain string) string {
	switch {
	case n != 1:
		return plain
	case strings.HasSuffix(plain, "y"):
		return strings.TrimSuffix(plain, "y") + "ies"
	case strings.HasSuffix(plain, "ss"):
		return plain + "es"
	}
	return plain + "s"
}

// findingText writes the findings of one code: one by itself, several in a table with what to do once.
func (a *app) findingText(p *view.Page, found []finding.Found, most int) {
	f := found[0]
	head := p.Severity(f.Severity, f.Severity.String()+" "+f.Code)
	if len(found) == 1 {
		p.Line("\n%s  %s", head, p.Paint(view.Faint, f.Position.String()))
		p.Table(2, nil, [][]view.Cell{{{Text: f.Message}}, {{Text: "do: " + f.Help, Style: view.Faint}}})
		return
	}
	p.Line("\n%s", head)
	var rows [][]view.Cell
	for _, f := range found[:min(len(found), most)] {
		rows = append(rows, []view.Cell{{Text: f.Position.String(), Style: view.Faint}, {Text: f.Message}})
	}
	p.Table(2, nil, append(rows, more(len(found)-most)...))
	p.Table(2, nil, [][]view.Cell{{{Text: "do: " + f.Help, Style: view.Faint}}})
}
