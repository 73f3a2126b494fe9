package cli

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/change"
	"hiddengate/internal/finding"
	"hiddengate/internal/view"
)

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

// effectPage is an effect as it is told.
type effectPage struct {
	*view.Page
	effect *change.Effect
	detail detail
	later  *change.Later // what may be told with what is there; nil while what may come is told
}

// effectText tells what an edit or a comparison does to everybody's access.
func (a *app) effectText(p *view.Page, e *change.Effect, d detail) {
	unlistedText(p, e)
	if e.Empty() {
		p.Line("%s", p.Paint(view.Heading, nobodysAccess(e)))
		return
	}
	if len(e.Lines) == 0 {
		p.Line("%s", p.Paint(view.Heading, "Nobody's access to what is listed changes."))
	}
	later := e.Later()
	effectPage{p, e, d, later}.changes(e.Lines)
	if left := later.Left(); len(left) > 0 {
		p.Line("\n%s", p.Paint(view.Heading, "On what is added later"))
		effectPage{p, e, d, nil}.coming(left)
	}
	if e.ComingInPart {
		p.Line("%s", p.Paint(view.Maybe,
			"There are too many ways in which a resource may be added to look at all of them; this is a part."))
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

// changes writes lines, those together that are about the same subjects. What is told of a place and is so of
// whatever is added under it too is one sentence.
func (p effectPage) changes(lines []change.Line) {
	for i := 0; i < len(lines); {
		if i >= maxLines {
			p.Line("%s", p.Paint(view.Faint, "and "+count(len(lines)-i, "change")+" more; --expand lists every cell"))
			p.rest(lines[i:])
			break
		}
		n := 1
		for i+n < len(lines) && lines[i].SameButWhere(&lines[i+n]) {
			n++
		}
		p.lines(lines[i : i+n])
		i += n
	}
}

// rest names what needs a second look among lines that are counted alone.
func (p effectPage) rest(lines []change.Line) {
	var more []change.Line
	for _, l := range lines {
		if l.Way.More() {
			more = append(more, l)
		}
	}
	if len(more) == 0 {
		return
	}
	if grave := p.effect.Named(more).Grave; len(grave) > 0 {
		p.Line("among them: %s", p.Grave(grave))
	}
}

// coming writes what changes for what may come: as it is where that is short, else in one sentence for the same
// subjects.
func (p effectPage) coming(parts [][]change.Line) {
	e := p.effect
	const mostPlaces, mostParts = 2, 6
	for i, part := range parts {
		if i == mostParts {
			p.Line("%s", p.Paint(view.Faint, "and "+count(len(parts)-i, "more such change")))
			p.rest(slices.Concat(parts[i:]...))
			break
		}
		part = e.Merged(part)
		places := map[string]bool{}
		for k := range part {
			for _, text := range e.Places(&part[k]) {
				places[text] = true
			}
		}
		if len(places) <= mostPlaces {
			p.changes(part)
			continue
		}
		l := &part[0]
		verb, style := verbOf(l)
		p.Table(0, nil, [][]view.Cell{{{Text: e.Who(l)}, {Text: verb, Style: style},
			{Text: onRequest(l) + p.Operations(e.Named(part)) + " on some of what is added under " + comingSystems(part)}}})
		p.through(part)
	}
}

// comingSystems names the systems that lines about what may come are about.
func comingSystems(lines []change.Line) string {
	var out []string
	for _, l := range lines {
		for pile := range l.Piles.All() {
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

// onRequest says that a line is about what can be lent.
func onRequest(l *change.Line) string {
	if l.OnRequest {
		return "on request: "
	}
	return ""
}

// lines writes what some subjects gain or lose: in one sentence if it is one thing.
func (p effectPage) lines(lines []change.Line) {
	e := p.effect
	l := &lines[0]
	verb, style := verbOf(l)
	direct := ""
	if n := e.Direct(l); n > 0 && len(l.Subjects) > 1 {
		direct = fmt.Sprintf(", %d of them directly", n)
	} else if n > 0 && l.Way.More() {
		direct = ", directly"
	}
	parts := e.ByPlace(lines)
	where := func(part *change.Line) string { return e.Where(part) + p.later.Take(part) }
	if len(parts) == 1 {
		p.Table(0, nil, [][]view.Cell{{{Text: e.Who(l)}, {Text: verb, Style: style},
			{Text: onRequest(l) + p.Operations(e.What(&parts[0])) + " on " + where(&parts[0]) + direct}}})
	} else {
		p.Line("%s  %s%s", e.Who(l), p.Paint(style, verb),
			p.Paint(view.Faint, strings.TrimSuffix("  "+onRequest(l), "  ")+direct))
		var rows [][]view.Cell
		for i := range parts {
			rows = append(rows, []view.Cell{{Text: where(&parts[i])}, {Text: p.Operations(e.What(&parts[i]))}})
		}
		p.Table(2, nil, rows)
	}
	switch is, was := l.Is(), l.Was(); {
	case l.Way == change.Gains && is != "always":
		p.Table(4, nil, [][]view.Cell{{{Text: "when: " + is, Style: view.Faint}}})
	case l.Way != change.Gains && l.Way != change.Loses:
		p.Table(4, nil, [][]view.Cell{{{Text: "was: " + was, Style: view.Faint}}, {{Text: "now: " + is, Style: view.Faint}}})
	}
	p.through(lines)
}

// through names the entries behind lines.
func (p effectPage) through(lines []change.Line) {
	if p.detail == plain {
		return
	}
	var texts []string
	for i := range lines {
		for _, c := range p.effect.Causes(&lines[i]) {
			if text := c.String(); !slices.Contains(texts, text) {
				texts = append(texts, text)
			}
		}
	}
	if len(texts) > 0 {
		p.Table(4, nil, [][]view.Cell{{{Text: "through: " + strings.Join(texts, ", "), Style: view.Faint}}})
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
		line := t.What + " " + t.ID + " " + p.Paint(style, words.is[t.Passes])
		switch {
		case t.Wrong != "":
			line = t.What + " " + t.ID + " " + p.Paint(view.No, "can't be run") + " any more: " +
				strings.TrimPrefix(t.Wrong, t.What+" "+t.ID+": ")
		case !t.Fresh:
			line += " now; it " + words.was[!t.Passes] + " before"
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
		p.Line("%s", p.Paint(view.Faint, count(n, "finding")+" resolved: "+codesOf(c.Gone)))
	}
}

// turnedWords tell how a test and a guarantee come out, and came out before.
var turnedWords = map[string]struct{ is, was map[bool]string }{
	"test":      {map[bool]string{true: "passes", false: "fails"}, map[bool]string{true: "passed", false: "failed"}},
	"guarantee": {map[bool]string{true: "holds", false: "fails"}, map[bool]string{true: "held", false: "failed"}},
}

// codesOf names the codes of findings, each once.
func codesOf(list []finding.Found) string {
	var codes []string
	for _, f := range list {
		codes = append(codes, f.Code)
	}
	return strings.Join(distinct(codes), ", ")
}
