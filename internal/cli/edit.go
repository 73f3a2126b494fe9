package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hiddengate/internal/cache"
	"hiddengate/internal/change"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/gate"
	"hiddengate/internal/journal"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/view"
)

// editing is the flags that every edit has.
type editing struct {
	dryRun bool
	yes    bool
	from   [3]string // a section, an id in it, and another that it gets
}

func (e *editing) flags(c *cobra.Command) {
	c.Flags().BoolVar(&e.dryRun, "dry-run", false, "tell what would change, and write nothing")
	c.Flags().BoolVarP(&e.yes, "yes", "y", false, "do not ask before strong access is handed out")
}

// editable are the sections that commands edit.
func editable() []policyfile.Section {
	return slices.DeleteFunc(policyfile.Sections(), func(s policyfile.Section) bool { return s.Name == "catalogs" })
}

// edit lets do change a draft of the workspace, tells what that does, and writes it.
func (a *app) edit(c editing, do func(d *draft.Draft, e *estate.Estate) error) error {
	root, dir, err := a.workspace()
	if err != nil {
		return err
	}
	defer root.Close()
	defer a.release()
	shortEdit()
	recording := a.cache(dir).Begin()
	done := a.progress("reading the workspace")
	before, roster, err := a.estateIn(root, dir)
	done()
	if err != nil {
		return err
	}
	d := draft.New(root.FS(), before)
	if err := do(d, before); err != nil {
		return err
	}
	changes, err := d.Changes()
	if err != nil {
		return err
	}
	if len(changes) == 0 {
		a.page(a.Out).Line("Nothing changes: it is so already.")
		return nil
	}
	done = a.working("working out what changes")
	after, err := policyfile.Reload(root.FS(), d.FS(), before, fileNames(changes))
	if err != nil {
		done()
		return refusedByFiles(err)
	}
	now, err := a.day(after.Zone)
	if err != nil {
		done()
		return err
	}
	effect, err := change.Of(before, after, change.How{Since: now, Roster: roster})
	if err != nil {
		done()
		return err
	}
	if c.from[0] != "" {
		effect.Renamed(c.from[0], c.from[1], c.from[2])
	}
	consequences, err := effect.Consequences(now)
	done()
	if err != nil {
		return refusedByFiles(err)
	}
	if f := consequences.Refused(); f != nil {
		return &draft.Error{Message: f.Message + "; nothing was written", Help: f.Help}
	}
	p := a.page(a.Out)
	a.effectText(p, effect, plain)
	a.consequencesText(p, consequences)
	names := strings.Join(fileNames(changes), ", ")
	if c.dryRun {
		p.Line("\n%s", p.Paint(view.Faint, "Nothing was written; it would change "+names+"."))
		return nil
	}
	a.release() // what others write meanwhile is seen before anything is written
	if err := a.confirm(c, effect); err != nil {
		return err
	}
	var files []journal.File
	for _, x := range changes {
		files = append(files, journal.File{Name: x.Name, Old: x.Old, New: x.New})
	}
	if err := a.putInPlace(dir, files); err != nil {
		if errors.Is(err, journal.ErrChanged) {
			return fmt.Errorf("%w, by somebody else: nothing was written; run the command again", err)
		}
		return outside{err}
	}
	p.Line("\nWrote %s.", names)
	a.keepEdited(root, recording, after, changes)
	return nil
}

// keepEdited leaves the cache as the next command wants it. The edit is written by then: if anything stands in the way,
// there is no cache.
func (a *app) keepEdited(root *os.Root, r *cache.Recording, after *estate.Estate, changes []draft.Change) {
	if r == nil {
		return
	}
	defer a.working("keeping what was worked out")()
	g, err := gate.Compile(after, nil)
	if err != nil {
		return
	}
	written := map[string][]byte{}
	for _, x := range changes {
		written[x.Name] = x.New
	}
	r.KeepEdited(root.FS(), g, written)
}

func fileNames(changes []draft.Change) []string {
	var names []string
	for _, x := range changes {
		names = append(names, x.Name)
	}
	return names
}

// refusedByFiles says that an edit would make files that can't be read.
func refusedByFiles(err error) error {
	var list diagnostic.List
	if !errors.As(err, &list) {
		return err
	}
	for i := range list {
		list[i].Message = "as it would be: " + list[i].Message
	}
	return list
}

// confirm asks before someone gets a high-risk operation or one that decides who else may.
func (a *app) confirm(c editing, e *change.Effect) error {
	grave, _ := e.Handed()
	if len(grave) == 0 || c.yes {
		return nil
	}
	in, isFile := a.In.(*os.File)
	if !isFile || !term.IsTerminal(int(in.Fd())) {
		return &draft.Error{Message: "this hands out " + strongWords(grave) + ", so nothing was written",
			Help: "look at it with --dry-run, and write it with --yes"}
	}
	fmt.Fprintf(a.page(a.Err), "This hands out %s. Write it? [y/N] ", strongWords(grave))
	line, err := a.answer()
	if err != nil {
		return err
	}
	if word := strings.ToLower(strings.TrimSpace(line)); word != "y" && word != "yes" {
		a.page(a.Out).Line("Nothing was written.")
		return answered(exitNo)
	}
	return nil
}

// putInPlace writes files. Nothing cuts it off once it has begun.
func (a *app) putInPlace(dir string, files []journal.File) error {
	a.held.Lock()
	defer a.held.Unlock()
	return journal.Write(a.ctx, dir, files)
}

// answer reads a line from the terminal.
func (a *app) answer() (string, error) {
	line := make(chan string, 1)
	go func() {
		text, _ := bufio.NewReader(a.In).ReadString('\n')
		line <- text
	}()
	select {
	case text := <-line:
		return text, nil
	case <-a.ctx.Done():
		return "", a.ctx.Err()
	}
}

func strongWords(list []*estate.Operation) string {
	var names []string
	for _, o := range list {
		word := "govern"
		if o.HighRisk {
			word = "high-risk"
		}
		names = append(names, o.Name+" ("+word+")")
	}
	const most = 4
	if len(names) > most+1 {
		names = append(names[:most], fmt.Sprintf("%d more", len(names)-most))
	}
	return strings.Join(names, ", ")
}

var ways = map[change.Way]struct {
	one, many string
	style     view.Style
}{
	change.Gains:   {"gains", "gain", view.Yes},
	change.Wider:   {"gains more of", "gain more of", view.Yes},
	change.Other:   {"gets otherwise", "get otherwise", view.Maybe},
	change.Narrows: {"loses some of", "lose some of", view.Maybe},
	change.Loses:   {"loses", "lose", view.No},
}

// maxLines is how many lines an effect has before the rest is counted.
const maxLines = 24

// detail is how much is told of a change.
type detail int

// What changes alone, or through what as well.
const (
	plain detail = iota
	withCauses
)

func (a *app) effectText(p *view.Page, e *change.Effect, d detail) {
	if e.Empty() {
		p.Line("%s", p.Paint(view.Heading, "Nobody's access changes."))
		return
	}
	if len(e.Lines) == 0 {
		p.Line("%s", p.Paint(view.Heading, "Nobody's access to what is there changes."))
	}
	a.changesText(p, e, e.Lines, d)
	if len(e.Coming) > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "To what is not there yet"))
		a.comingText(p, e, d)
	}
	if e.ComingInPart {
		p.Line("%s", p.Paint(view.Maybe,
			"There are too many ways in which a resource may come to look at all of them; this is a part."))
	}
	if _, noticed := e.Handed(); len(noticed) > 0 {
		p.Line("")
		for _, o := range noticed {
			p.Table(0, nil, [][]view.Cell{{{Text: o.Name, Style: view.Maybe}, {Text: o.Notice}}})
		}
	}
}

// verbOf says what becomes of a line's subjects' access.
func verbOf(l *change.Line) (string, view.Style) {
	w := ways[l.Way]
	if len(l.Subjects) == 1 {
		return w.one, w.style
	}
	return w.many, w.style
}

// changesText writes lines, those together that are about the same subjects.
func (a *app) changesText(p *view.Page, e *change.Effect, lines []change.Line, d detail) {
	for i := 0; i < len(lines); {
		if i >= maxLines {
			p.Line("%s", p.Paint(view.Faint, "and "+count(len(lines)-i, "change")+" more"))
			break
		}
		n := 1
		for i+n < len(lines) && lines[i].SameButWhere(&lines[i+n]) {
			n++
		}
		a.linesText(p, e, lines[i:i+n])
		if d == withCauses {
			throughText(p, e, lines[i:i+n])
		}
		i += n
	}
}

// comingText writes what changes for what may come: as it is where that is short, else in one sentence for the same
// subjects.
func (a *app) comingText(p *view.Page, e *change.Effect, d detail) {
	const mostPlaces, mostParts = 2, 6
	parts := e.ComingParts()
	for i, part := range parts {
		if i == mostParts {
			p.Line("%s", p.Paint(view.Faint, "and "+count(len(parts)-i, "more such change")))
			break
		}
		places := map[string]bool{}
		for k := range part {
			for _, text := range e.Places(&part[k]) {
				places[text] = true
			}
		}
		if len(places) <= mostPlaces {
			a.changesText(p, e, part, d)
			continue
		}
		l := &part[0]
		verb, style := verbOf(l)
		asked := ""
		if l.OnRequest {
			asked = "on request: "
		}
		p.Table(0, nil, [][]view.Cell{{{Text: e.Who(l)}, {Text: verb, Style: style},
			{Text: asked + strongestFirst(e, part) + " on some of what comes in " + comingSystems(part)}}})
		if d == withCauses {
			throughText(p, e, part)
		}
	}
}

// strongestFirst names a few of the operations of lines, those that need a second look first.
func strongestFirst(e *change.Effect, lines []change.Line) string {
	var names []string
	for i := range lines {
		names = append(names, lines[i].Operations...)
	}
	slices.Sort(names)
	names = slices.Compact(names)
	weak := func(name string) int {
		o := e.After.Operations[name]
		if o == nil {
			o = e.Before.Operations[name]
		}
		if o == nil || o.HighRisk || len(o.Opens) > 0 {
			return -9
		}
		return -int(o.Level)
	}
	slices.SortStableFunc(names, func(a, b string) int { return weak(a) - weak(b) })
	const most = 5
	if len(names) > most+1 {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
	}
	return strings.Join(names, ", ")
}

// comingSystems names the systems that lines about what may come are about.
func comingSystems(lines []change.Line) string {
	var out []string
	for _, l := range lines {
		for _, pile := range l.Piles {
			name := pile.May().Address.System
			if pile.May().Kind != "" {
				name = "new systems"
			}
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	const most = 4
	if len(out) > most+1 {
		out = append(out[:most], fmt.Sprintf("%d more systems", len(out)-most))
	}
	return strings.Join(out, ", ")
}

// linesText writes what some subjects gain or lose: in one sentence if it is one thing.
func (a *app) linesText(p *view.Page, e *change.Effect, lines []change.Line) {
	l := &lines[0]
	verb, style := verbOf(l)
	direct := ""
	if n := e.Direct(l); n > 0 && len(l.Subjects) > 1 {
		direct = fmt.Sprintf(", %d of them directly", n)
	} else if n > 0 && l.Way.More() {
		direct = ", directly"
	}
	asked := ""
	if l.OnRequest {
		asked = "on request: "
	}
	if len(lines) == 1 {
		p.Table(0, nil, [][]view.Cell{{{Text: e.Who(l)}, {Text: verb, Style: style},
			{Text: asked + e.What(l) + " on " + e.Where(l) + direct}}})
	} else {
		p.Line("%s  %s%s", e.Who(l), p.Paint(style, verb), p.Paint(view.Faint, strings.TrimSuffix("  "+asked, "  ")+direct))
		var rows [][]view.Cell
		for _, part := range e.ByPlace(lines) {
			rows = append(rows, []view.Cell{{Text: e.Where(&part)}, {Text: e.What(&part)}})
		}
		p.Table(2, nil, rows)
	}
	switch is, was := l.Is(), l.Was(); {
	case l.Way == change.Gains && is != "always":
		p.Table(4, nil, [][]view.Cell{{{Text: "when: " + is, Style: view.Faint}}})
	case l.Way != change.Gains && l.Way != change.Loses:
		p.Table(4, nil, [][]view.Cell{{{Text: "was: " + was, Style: view.Faint}}, {{Text: "now: " + is, Style: view.Faint}}})
	}
}

func (a *app) consequencesText(p *view.Page, c change.Consequences) {
	if len(c.Found)+len(c.Gone)+len(c.Turned) > 0 {
		p.Line("")
	}
	for _, t := range c.Turned {
		style := view.No
		if t.Passes {
			style = view.Yes
		}
		words := turnedWords[t.What]
		line := p.Paint(style, words.is[t.Passes]) + " " + t.What + " " + t.ID
		if !t.Fresh {
			line += ", which " + words.was[!t.Passes]
		}
		p.Line("%s", line)
	}
	for _, f := range c.Found {
		p.Table(0, nil, [][]view.Cell{{{Text: p.Severity(f.Severity, "new "+f.Severity.String())},
			{Text: f.Code + ": " + f.Message}}})
	}
	if c.Part {
		p.Line("%s", p.Paint(view.Faint,
			"In an estate of this size an edit looks for some findings only; `hgate check` looks for all."))
	}
	if n := len(c.Gone); n > 0 {
		p.Line("%s", p.Paint(view.Faint, count(n, "finding")+" less: "+goneCodes(c.Gone)))
	}
}

// turnedWords tell how a test and a guarantee come out, and came out before.
var turnedWords = map[string]struct{ is, was map[bool]string }{
	"test":      {map[bool]string{true: "passes", false: "fails"}, map[bool]string{true: "passed", false: "failed"}},
	"guarantee": {map[bool]string{true: "holds", false: "fails"}, map[bool]string{true: "held", false: "failed"}},
}

func goneCodes(list []finding.Found) string {
	var codes []string
	for _, f := range list {
		codes = append(codes, f.Code)
	}
	slices.Sort(codes)
	return strings.Join(slices.Compact(codes), ", ")
}

// existing sees that an entry is there.
func existing(e *estate.Estate, s policyfile.Section, id string) error {
	if o := e.Head(s.Name, id); o != nil && o.Source.File != "" {
		return nil
	}
	var known []string
	if s.Name == "resources" {
		if a, err := estate.ParseAddress(id); err == nil && a.Path != "" && e.Listed(a) != nil {
			return nil // others stand in it
		}
		for r := range e.Tree.All() {
			known = append(known, r.Address.String())
		}
	} else {
		known = ids(e.Section(s.Name))
	}
	return unknown(s.One, id, known)
}

// unprotected refuses to take away what is protected.
func unprotected(e *estate.Estate, s policyfile.Section, id, what string) error {
	if o := e.Head(s.Name, id); o != nil && o.Protected {
		return &draft.Error{Message: fmt.Sprintf("%s %s is protected (%s), so it is not %s", s.One, id, o.Source.Short(),
			what), Help: fmt.Sprintf("take that off first: hgate set %s %s --protected=false", s.One, id)}
	}
	return nil
}

// completeEntry offers the ids of a section for the first words.
func (a *app) completeEntry(s policyfile.Section, words int) complete {
	return func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) >= words {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.words(func(g *gate.Gate) []string {
			if s.Name == "resources" {
				return addresses(g, "")
			}
			return ids(g.Estate().Section(s.Name))
		})
	}
}

// missingFile says whether an error is that there is nothing.
func missingFile(err error) bool { return errors.Is(err, fs.ErrNotExist) }
