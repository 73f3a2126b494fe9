package cli

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/plainjson"
	"hiddengate/internal/survey"
	"hiddengate/internal/view"
)

// actionKeys are what a line of a log of actions says.
var actionKeys = []string{"time", "subject", "operation", "resource"}

func (a *app) trimCommand() *cobra.Command {
	var maps []string
	var from, to, since string
	var most int
	c := &cobra.Command{
		Use:   "trim LOG",
		Short: "Hold a log of what was done against the policy, and find what nobody used",
		Long: `Reads a log of what was really done, as CSV or NDJSON (by the file's ending; - is NDJSON from
standard input), with time, subject, operation and resource in each line, and tells what each role
and grant gives that nobody used, with the edit that takes it away and who would lose what; and what
was done that the policy would have refused. With --since that is the policy as it was, at a Git
revision or in a folder.

A logged action counts as use of every grant that would have allowed it then; grants on request count
as if they had been lent.`,
		Example: `  hgate trim november.csv
  hgate trim audit.csv --map subject=user,operation=action --from 2027-11-01 --to 2027-11-30
  hgate trim november.csv --since main --format json`,
		ValidArgsFunction: firstFile,
		Args:              takes(1, 1),
	}
	c.Flags().StringSliceVar(&maps, "map", nil,
		"`key=column`, where the log names time, subject, operation or resource otherwise")
	c.Flags().StringVar(&from, "from", "", "from this `day` or time on")
	c.Flags().StringVar(&to, "to", "", "until this `day` or time")
	c.Flags().IntVar(&most, "most", 10, "for how `many` roles, and grants, edits are worked out; 0 for all")
	c.Flags().StringVar(&since, "since", "", "refuse by the policy as it was at a `revision`")
	c.RunE = func(_ *cobra.Command, args []string) error {
		g, err := a.compiled()
		if err != nil {
			return err
		}
		read := actionReader{zone: g.Estate().Zone, estate: g.Estate(), names: map[string]string{}, name: args[0]}
		if err := read.period(from, to); err != nil {
			return err
		}
		for _, m := range maps {
			key, column, ok := strings.Cut(m, "=")
			if !ok || !slices.Contains(actionKeys, key) {
				return fmt.Errorf("--map %s: write key=column; the keys are %s", m, strings.Join(actionKeys, ", "))
			}
			read.names[key] = column
		}
		trimmers := []*survey.Trimmer{survey.NewTrimmer(g)}
		if since != "" {
			dir, err := a.folder()
			if err != nil {
				return err
			}
			old, err := a.workspaceAt(dir, since)
			if err != nil {
				return err
			}
			was, err := gate.Compile(old, nil)
			if err != nil {
				return err
			}
			trimmers = append(trimmers, survey.NewTrimmer(was))
		}
		file, err := a.open(args[0])
		if err != nil {
			return outside{err}
		}
		defer file.Close()
		done := a.progress("reading the log")
		err = read.each(file, func(d survey.Action) {
			for _, t := range trimmers {
				t.Take(d)
			}
		})
		done()
		if err != nil {
			return err
		}
		out := trimmers[0].Trim()
		if last := trimmers[len(trimmers)-1]; last != trimmers[0] {
			out.Refused = last.Trim().Refused
		}
		if a.format == "json" {
			return a.trimJSON(g, out, most)
		}
		return a.trimText(g, out, args[0], most)
	}
	a.formats(c, "text", "json")
	return c
}

// actionReader reads a log of actions.
type actionReader struct {
	zone     *clock.Zone
	estate   *estate.Estate
	names    map[string]string // columns that are named otherwise
	name     string
	from, to clock.Instant // to is excluded; 0 for open
}

func (r *actionReader) period(from, to string) error {
	if from != "" {
		m, err := estate.ParseMoment(r.zone, from)
		if err != nil {
			return fmt.Errorf("--from: %w", err)
		}
		r.from = m.Begin(r.zone)
	}
	if to != "" {
		m, err := estate.ParseMoment(r.zone, to)
		if err != nil {
			return fmt.Errorf("--to: %w", err)
		}
		r.to = m.End(r.zone)
	}
	return nil
}

func (r *actionReader) column(key string) string {
	if name, ok := r.names[key]; ok {
		return name
	}
	return key
}

func (r *actionReader) wrong(line int, format string, args ...any) error {
	return fmt.Errorf("%s:%d: %s", r.name, line, fmt.Sprintf(format, args...))
}

// each reads action by action.
func (r *actionReader) each(in io.Reader, each func(survey.Action)) error {
	if path.Ext(r.name) == ".csv" {
		return r.eachCSV(in, each)
	}
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	for line := 1; lines.Scan(); line++ {
		if len(bytes.TrimSpace(lines.Bytes())) == 0 {
			continue
		}
		var said map[string]any
		if err := json.Unmarshal(lines.Bytes(), &said); err != nil {
			return r.wrong(line, "this is no JSON object: %s; a log that is CSV ends in .csv", err)
		}
		if err := plainjson.EachKey(lines.Bytes(), nil); err != nil {
			return r.wrong(line, "%s", err)
		}
		err := r.take(line, func(key string) (string, bool) {
			text, ok := said[r.column(key)].(string)
			return text, ok
		}, each)
		if err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil {
		return outside{fmt.Errorf("%s: %w", r.name, err)}
	}
	return nil
}

func (r *actionReader) eachCSV(in io.Reader, each func(survey.Action)) error {
	rows := csv.NewReader(in)
	rows.ReuseRecord = true
	head, err := rows.Read()
	if err != nil {
		return r.wrong(1, "this is no CSV with a heading: %s", err)
	}
	at := map[string]int{}
	for _, key := range actionKeys {
		i := slices.Index(head, r.column(key))
		if i < 0 {
			return r.wrong(1, "there is no column %q; say which has it, as in --map %s=COLUMN (there are %s)", r.column(key),
				key, strings.Join(head, ", "))
		}
		at[key] = i
	}
	for {
		row, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%s: %w", r.name, err)
		}
		line, _ := rows.FieldPos(0)
		if err := r.take(line, func(key string) (string, bool) { return row[at[key]], true }, each); err != nil {
			return err
		}
	}
}

func (r *actionReader) take(line int, said func(key string) (string, bool), each func(survey.Action)) error {
	var texts [4]string
	for i, key := range actionKeys {
		text, ok := said(key)
		if !ok || text == "" {
			return r.wrong(line, "it does not say %q; say what names it, as in --map %s=COLUMN", r.column(key), key)
		}
		texts[i] = strings.Clone(text)
	}
	at, err := r.zone.ParseTime(texts[0])
	if err != nil {
		return r.wrong(line, "%s", err)
	}
	if at < r.from && r.from != 0 || r.to != 0 && at >= r.to {
		return nil
	}
	who, err := estate.ParsePrincipal(texts[1])
	if err != nil {
		return r.wrong(line, "%s", err)
	}
	address, err := estate.ParseAddress(texts[3])
	if err != nil {
		return r.wrong(line, "%s", err)
	}
	each(survey.Action{At: at, Who: who, Operation: texts[2], Resource: r.estate.Canonical(address).String(), Line: line})
	return nil
}

// proposal is an edit that takes away what was never used, and who would lose what by it.
type proposal struct {
	Command    string   `json:"command"`
	People     int      `json:"people"`
	Operations []string `json:"operations"`
	Coming     bool     `json:"coming,omitempty"` // what may come would be lost, too
}

// propose works out what an edit of the estate would take.
func (a *app) propose(g *gate.Gate, command string, edited *estate.Estate) (proposal, error) {
	how := change.How{Since: clock.Of(a.now()), Gate: g, Listed: a.format == "text"} // which does not tell what may come
	effect, err := change.Of(a.ctx, g.Estate(), edited, how)
	if err != nil {
		return proposal{}, err
	}
	people := map[estate.Principal]bool{}
	out := proposal{Command: command, Operations: []string{}, Coming: len(effect.Coming) > 0}
	for _, l := range effect.Lines {
		for _, who := range l.Subjects {
			people[who] = true
		}
		out.Operations = append(out.Operations, l.Operations...)
	}
	slices.Sort(out.Operations)
	out.Operations, out.People = slices.Compact(out.Operations), len(people)
	return out, nil
}

// narrowed proposes a narrower role.
func (a *app) narrowed(g *gate.Gate, u survey.Unused) (proposal, error) {
	one := u.Narrower(g)
	command := "hgate set role " + u.ID
	if len(one.Include) < len(g.Estate().Roles[u.ID].Include) {
		command += " --include ''"
	}
	command += " --allow " + quoted(strings.Join(texts(one.Allow), ","))
	return a.propose(g, command, g.Estate().With(estate.Put("roles", one)))
}

func namesOf(list []*estate.Operation) []string {
	out := []string{}
	for _, o := range list {
		out = append(out, o.Name)
	}
	return out
}

func (p proposal) text() string {
	if p.People == 0 {
		return "nobody would lose anything: others give it too, or nobody has it"
	}
	return fmt.Sprintf("%s would lose %s", count(p.People, "subject"), count(len(p.Operations), "operation"))
}

func (a *app) trimText(g *gate.Gate, t survey.Trim, name string, most int) error {
	p := a.page(a.Out)
	zone := g.Estate().Zone
	if t.Actions == 0 {
		p.Line("The log has no action in that time.")
		return nil
	}
	t.Grants = slices.DeleteFunc(t.Grants,
		func(u survey.Unused) bool { return len(u.Never) < len(u.Given) && u.Idle == 0 }) // of which the role tells
	p.Line("%s", p.Paint(view.Heading,
		fmt.Sprintf("%s from %s to %s: %d would be refused; %s and %s give what nobody used",
			count(t.Actions, "logged action"), zone.Format(t.From), zone.Format(t.Until),
			len(t.Refused), count(len(t.Roles), "role"), count(len(t.Grants), "grant"))))
	if len(t.Refused) > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "Done, and the policy would refuse it"))
		var rows [][]view.Cell
		for _, r := range t.Refused[:min(len(t.Refused), 20)] {
			rows = append(rows, []view.Cell{{Text: zone.Format(r.At)}, {Text: r.Who.String()}, {Text: r.Operation},
				{Text: r.Resource}, {Text: r.Why, Style: view.Maybe},
				{Text: fmt.Sprintf("%s:%d", name, r.Line), Style: view.Faint}})
		}
		p.Table(2, nil, rows)
		if more := len(t.Refused) - len(rows); more > 0 {
			p.Line("  and %d more: --format json lists them", more)
		}
	}
	if len(t.Roles) > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "Roles that could be narrower"))
	}
	worked := func(n int) int {
		if most > 0 {
			return min(n, most)
		}
		return n
	}
	rest := func(n int, of string) {
		if left := n - worked(n); left > 0 {
			p.Line("  %s", p.Paint(view.Faint, fmt.Sprintf("and %s more: --most 0 works all out", count(left, of))))
		}
	}
	for _, u := range t.Roles[:worked(len(t.Roles))] {
		if len(u.Never) == len(u.Given) {
			p.Table(2, nil, [][]view.Cell{{{Text: "role " + u.ID}, {Text: "nothing of it was used", Style: view.Maybe}}})
			continue
		}
		edit, err := a.narrowed(g, u)
		if err != nil {
			return err
		}
		p.Table(2, nil, [][]view.Cell{{{Text: "role " + u.ID},
			{Text: fmt.Sprintf("%d of %d never used: %s", len(u.Never), len(u.Given), strings.Join(namesOf(u.Never), ", "))}}})
		p.Line("    %s", edit.Command)
		p.Line("    %s", p.Paint(view.Faint, edit.text()))
	}
	rest(len(t.Roles), "role")
	if len(t.Grants) > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "Grants of which little is used"))
	}
	for _, u := range t.Grants[:worked(len(t.Grants))] {
		switch {
		case len(u.Never) == len(u.Given):
			p.Table(2, nil, [][]view.Cell{{{Text: "grant " + u.ID}, {Text: "nothing of it was used", Style: view.Maybe}}})
			if u.Protected {
				continue
			}
			edit, err := a.propose(g, "hgate remove grant "+u.ID, change.Without(g.Estate(), "grants", u.ID))
			if err != nil {
				return err
			}
			p.Line("    %s", edit.Command)
			p.Line("    %s", p.Paint(view.Faint, edit.text()))
		case u.Idle > 0:
			idle := texts(u.IdleSubjects()[:min(u.Idle, 6)])
			if more := u.Idle - len(idle); more > 0 {
				idle = append(idle, fmt.Sprintf("%d more", more))
			}
			p.Table(2, nil, [][]view.Cell{{{Text: "grant " + u.ID},
				{Text: fmt.Sprintf("%d of %d did nothing through it: %s", u.Idle, u.Reaches, strings.Join(idle, ", "))}}})
		}
	}
	rest(len(t.Grants), "grant")
	return nil
}

func (a *app) trimJSON(g *gate.Gate, t survey.Trim, most int) error {
	type refusal struct {
		Time      string `json:"time"`
		Subject   string `json:"subject"`
		Operation string `json:"operation"`
		Resource  string `json:"resource"`
		Why       string `json:"why,omitempty"`
		Line      int    `json:"line"`
	}
	type unused struct {
		ID    string    `json:"id"`
		Given []string  `json:"given"`
		Never []string  `json:"never"`
		Idle  []string  `json:"idle,omitempty"`
		Edit  *proposal `json:"edit,omitempty"`
	}
	// each gives what is not used one by one, with the edit that takes it away if there is one
	each := func(all []survey.Unused, edit func(i int, one *unused) (*proposal, error)) elements {
		return func(yield func(any) bool) (err error) {
			for i, u := range all {
				one := unused{ID: u.ID, Given: namesOf(u.Given), Never: namesOf(u.Never)}
				if one.Edit, err = edit(i, &one); err != nil || !yield(one) {
					return err
				}
			}
			return nil
		}
	}
	worked := func(i int) bool { return most == 0 || i < most }
	return a.jsonObject(
		jsonPart{"actions", t.Actions},
		jsonPart{"refused", eachAs(t.Refused, func(r survey.Refusal) refusal {
			return refusal{g.Estate().Zone.Format(r.At), r.Who.String(), r.Operation, r.Resource, r.Why, r.Line}
		})},
		jsonPart{"roles", each(t.Roles, func(i int, _ *unused) (*proposal, error) {
			u := t.Roles[i]
			if len(u.Never) == len(u.Given) || !worked(i) {
				return nil, nil
			}
			edit, err := a.narrowed(g, u)
			return &edit, err
		})},
		jsonPart{"grants", each(t.Grants, func(i int, one *unused) (*proposal, error) {
			u := t.Grants[i]
			one.Idle = texts(u.IdleSubjects())
			if len(u.Never) < len(u.Given) || u.Protected || !worked(i) {
				return nil, nil
			}
			edit, err := a.propose(g, "hgate remove grant "+u.ID, change.Without(g.Estate(), "grants", u.ID))
			return &edit, err
		})})
}
