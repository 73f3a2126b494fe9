package cli

import (
	"encoding/xml"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/verify"
	"hiddengate/internal/view"
	"hiddengate/internal/visible"
)

func (a *app) testCommand() *cobra.Command {
	var before string
	var all bool
	c := &cobra.Command{
		Use:   "test [NAME…]",
		Short: "Run the tests of the workspace",
		Long: `Runs all tests, or those named. A failure shows the request with what was expected and what came,
the cause, and the same request to paste as a try. It exits with 1 if a test fails. Of more than
twenty that fail it tells the first, and of more than a hundred tests those alone that fail, unless
with --all.

--before puts the same tests to the policy as it was, at a Git revision or in another folder, and so
proves that a change made the difference: a test is proved if it failed then and passes now. Where
tests are named, all of them must be.`,
		Example: `  hgate test
  hgate test own-account-alone billing-alone
  hgate test --before main billing-alone
  hgate test --format junit > results.xml`,
		ValidArgsFunction: a.completeSection("tests"),
	}
	a.moment(c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		now, err := a.day(g.Estate().Zone)
		if err != nil {
			return err
		}
		results, err := a.runTests(g, args, now)
		if err != nil {
			return err
		}
		if before != "" {
			return a.testBefore(before, results, now, len(args) > 0)
		}
		switch a.format {
		case "json":
			err = a.testJSON(results)
		case "junit":
			err = a.testJUnit(results)
		default:
			err = a.testText(g, results, all || len(args) > 0)
		}
		if err == nil && slices.ContainsFunc(results, func(r verify.Result) bool { return !r.Passed() }) {
			err = answered(exitNo)
		}
		return err
	}
	c.Flags().BoolVar(&all, "all", false, "as text: tell of all, however many there are")
	c.Flags().StringVar(&before, "before", "", "put them to a `revision` or folder too, at which they should fail")
	a.formats(c, "text", "json", "junit")
	a.watching(c)
	return c
}

// runTests runs the named tests, or all; what is wrong with any of them is reported together.
func (a *app) runTests(g *gate.Gate, names []string, now clock.Instant) ([]verify.Result, error) {
	for _, name := range names {
		if g.Estate().Tests[name] == nil {
			return nil, unknown("test", name, ids(g.Estate().Section("tests")))
		}
	}
	tests := estate.Sorted(g.Estate().Tests)
	if len(names) > 0 {
		tests = slices.DeleteFunc(tests, func(t *estate.Test) bool { return !slices.Contains(names, t.ID) })
	}
	return verify.RunAll(a.ctx, g, tests, now)
}

func (a *app) testJSON(results []verify.Result) error {
	passed := 0
	for _, r := range results {
		if r.Passed() {
			passed++
		}
	}
	return a.jsonObject(jsonPart{"passed", passed}, jsonPart{"failed", len(results) - passed},
		jsonPart{"tests", eachAs(results, func(r verify.Result) []jsonPart {
			return []jsonPart{{"name", r.Test.ID}, {"passed", r.Passed()}, {"failures", failuresJSON(r)}}
		})})
}

// mostForms is how many forms of failures are kept.
const mostForms = 1 << 12

// failuresJSON tells what fails of a test, one by one: many are alike but for the resource.
func failuresJSON(r verify.Result) elements {
	type failure struct {
		Subject   string `json:"subject"`
		Operation string `json:"operation"`
		Resource  string `json:"resource"`
		Expected  string `json:"expected"`
		Got       string `json:"got"`
	}
	return func(yield func(any) bool) (err error) {
		forms := map[failure]*form{}
		for f := range r.Failures() {
			one := failure{f.Subject.String(), f.Operation, "", f.Expected, f.Got}
			known := forms[one]
			if known == nil {
				if len(forms) == mostForms {
					clear(forms)
				}
				if known, err = formOf(one, "        "); err != nil {
					return err
				}
				forms[one] = known
			}
			if err := known.fill(f.Resource); err != nil {
				return err
			}
			if !yield(known) {
				return nil
			}
		}
		return nil
	}
}

// junitSuite is a result as JUnit's readers take it.
type junitSuite struct {
	XMLName  xml.Name    `xml:"testsuite"`
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Name      string        `xml:"name,attr"`
	Classname string        `xml:"classname,attr"`
	File      string        `xml:"file,attr,omitempty"`
	Failure   *junitFailure `xml:"failure,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func (a *app) testJUnit(results []verify.Result) error {
	s := junitSuite{Name: "hgate test", Tests: len(results)}
	for _, r := range results {
		one := junitCase{Name: r.Test.ID, Classname: "policy", File: r.Test.Source.File}
		if !r.Passed() {
			s.Failures++
			var lines []string
			for _, f := range r.First(mostNamed) {
				lines = append(lines, visible.Clean(fmt.Sprintf("%s: %s %s %s: expected %s, got %s", f.Position, f.Subject,
					f.Operation, f.Resource, f.Expected, f.Got)))
			}
			if more := r.Count() - mostNamed; more > 0 {
				lines = append(lines, fmt.Sprintf("and %d more: hgate test %s --format json", more, quoted(r.Test.ID)))
			}
			one.Failure = &junitFailure{Message: count(r.Count(), "expectation") + " not met",
				Text: strings.Join(lines, "\n")}
		}
		s.Cases = append(s.Cases, one)
	}
	return a.junit(s)
}

func (a *app) junit(s junitSuite) error {
	text, err := xml.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(a.Out, "%s%s\n", xml.Header, text)
	return err
}

const (
	mostFailures = 5   // of a test are told
	mostCauses   = 3   // grants and blocks behind a failure are named
	mostFailing  = 20  // tests that fail, or guarantees, are told of
	mostTests    = 100 // of them up to which those that pass are listed
)

func (a *app) testText(g *gate.Gate, results []verify.Result, all bool) error {
	p := a.page(a.Out)
	failed := 0
	for _, r := range results {
		if !r.Passed() {
			failed++
		}
	}
	switch {
	case len(results) == 0:
		p.Line("There are no tests; the guide shows how to write one.")
		return nil
	case failed == 0:
		p.Line("%s  %s", p.Paint(view.Yes, "PASSED"), count(len(results), "test"))
	default:
		p.Line("%s  %d of %s", p.Paint(view.No, "FAILED"), failed, count(len(results), "test"))
	}
	listed := all || len(results) <= mostTests
	if failed > mostFailing && !all {
		first := slices.IndexFunc(results, func(r verify.Result) bool { return !r.Passed() })
		p.Line("Here are the first %d that fail: name some, as in hgate test %s, or see --all.", mostFailing,
			results[first].Test.ID)
	}
	told := 0
	for _, r := range results {
		if r.Passed() {
			if listed {
				p.Line("  %s  %s", p.Paint(view.Yes, "passed"), r.Test.ID)
			}
			continue
		}
		if told++; told > mostFailing && !all {
			continue
		}
		p.Line("  %s  %s  %s", p.Paint(view.No, "failed"), r.Test.ID, p.Paint(view.Faint, r.Test.Source.Short()))
		for _, f := range r.First(mostFailures) {
			if err := a.failureText(p, g, r.Test, f); err != nil {
				return err
			}
		}
		if n := r.Count() - mostFailures; n > 0 {
			p.Line("          and %d more; --format json lists them", n)
		}
	}
	return nil
}

func (a *app) failureText(p *view.Page, g *gate.Gate, t *estate.Test, f verify.Failure) error {
	p.Line("          %s %s on %s: expected %s, got %s", f.Subject, f.Operation, f.Resource,
		p.Paint(view.Heading, f.Expected), p.Paint(view.Heading, f.Got))
	if !f.Single {
		p.Line("            hgate reach %s%s", f.Subject, askFlags(g.Estate().Zone, &t.Given))
		return nil
	}
	why, err := g.Explain(gate.Request{Subject: f.Subject, Operation: f.Operation, Resource: f.Resource,
		Context: f.Context})
	if err != nil {
		return err
	}
	p.Line("            %s", p.Paint(view.Faint, cause(g, why, f.Subject)))
	p.Line("            hgate try %s %s %s%s", f.Subject, f.Operation, quoted(f.Resource),
		askFlags(g.Estate().Zone, &t.Given))
	return nil
}

// cause says in a line what made a decision.
func cause(g *gate.Gate, why gate.Explanation, who estate.Principal) string {
	var parts []string
	for _, c := range why.Grants {
		if c.Met {
			parts = append(parts, fmt.Sprintf("given by grant %s (%s)", c.ID(), c.Grant.Source.Short()))
		}
	}
	for _, c := range why.Blocks {
		if c.Met {
			parts = append(parts, fmt.Sprintf("stopped by block %s (%s)", c.ID(), c.Block.Source.Short()))
		}
	}
	if why.Inactive {
		parts = append(parts, "not active: "+view.Inactive(g.Space(), why, g.Estate().Subject(who)))
	}
	if len(why.Left) > 0 {
		parts = append(parts, view.Left(g.Space(), why.Left))
	}
	if len(parts) == 0 && len(why.Grants) > 0 {
		for _, c := range why.Grants {
			parts = append(parts, fmt.Sprintf("grant %s (%s) asks: %s", c.ID(), c.Grant.Source.Short(),
				view.When(g.Space(), c.When)))
		}
	}
	if len(parts) == 0 {
		return "no grant gives it"
	}
	if more := len(parts) - mostCauses; more > 1 {
		parts = append(parts[:mostCauses], fmt.Sprintf("and %d more", more))
	}
	return strings.Join(parts, "; ")
}

// askFlags writes what a request says as flags of try.
func askFlags(zone *clock.Zone, given *estate.Given) string {
	var out []string
	flag := func(name, value string) { out = append(out, "--"+name, quoted(value)) }
	if given.Time != nil {
		flag("at", zone.Format(given.Time.Instant))
	}
	for _, v := range given.Facts {
		value := v.Value
		if estate.FactNamed(v.Fact).Kind == estate.Carried {
			value = map[string]string{estate.Yes: "a " + v.Fact}[v.Value]
		}
		flag(v.Fact, value)
	}
	for _, tag := range given.Context {
		flag("context", tag.Key+"="+tag.Value)
	}
	for _, ref := range given.Roles {
		flag("role", ref.ID)
	}
	if len(out) == 0 {
		return ""
	}
	return " " + strings.Join(out, " ")
}

// quoted puts a word into quotes where a shell would take it apart.
func quoted(word string) string {
	if word != "" && !strings.ContainsFunc(word, func(c rune) bool {
		return !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789@%+=:,./_-", c)
	}) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// testBefore tells which tests a change made pass.
func (a *app) testBefore(since string, results []verify.Result, now clock.Instant, named bool) error {
	if a.format == "junit" {
		return fmt.Errorf("--format junit tells how tests come out now; leave --before out")
	}
	dir, err := a.folder()
	if err != nil {
		return err
	}
	old, err := a.workspaceAt(dir, since)
	if err != nil {
		return err
	}
	proofs, err := putBefore(old, results, now)
	if err != nil {
		return err
	}
	if a.format == "json" {
		type test struct {
			Name   string `json:"name"`
			Passed bool   `json:"passed"`
			Before bool   `json:"passed_before"`
			Proved bool   `json:"proved"`
		}
		out := map[string][]test{"tests": {}}
		for _, p := range proofs {
			out["tests"] = append(out["tests"], test{p.Test.ID, p.Passed(), p.before != nil && p.before.Passed(), p.proved()})
		}
		err = a.json(out)
	} else {
		a.proofsText(a.page(a.Out), proofs, since)
	}
	if err == nil && slices.ContainsFunc(proofs, func(p proof) bool { return !p.Passed() || named && !p.proved() }) {
		err = answered(exitNo)
	}
	return err
}
