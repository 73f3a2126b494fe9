package cli

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/change"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/view"
)

// edited is an edit with what it does.
type edited struct {
	*change.Effect
	consequences change.Consequences
	changes      []draft.Change
	beyond       *beyond // nil where nobody is copied
}

// conclusion is what becomes of an edit.
type conclusion int

// The edit is written; it is looked at alone; it is not written, since it was not confirmed.
const (
	accepted conclusion = iota
	outlook
	refused
)

// mostEntries bounds how many entries are shown as they will stand.
const mostEntries = 6

// standing is an entry as it will stand in a file.
type standing struct {
	File string `json:"file"`
	Line int    `json:"line"`
	Text string `json:"text"`
}

// standings gives the settings and entries that an edit writes as they will stand, and how many more there are.
func (d edited) standings() (out []standing, more int) {
	for _, c := range d.changes {
		for _, s := range c.Settings() {
			out = append(out, standing{c.Name, s.Line, s.Text})
		}
	}
	for _, o := range d.Altered() {
		i := slices.IndexFunc(d.changes, func(c draft.Change) bool { return c.Name == o.Source.File })
		if i < 0 {
			continue
		}
		if len(out) >= mostEntries {
			more++
			continue
		}
		out = append(out, standing{o.Source.File, o.Source.Line, written(d.changes[i].New, o.Source)})
	}
	return out, more
}

// written gives the text of an entry: of one in an inventory its line, of any other all its lines, from where it
// begins.
func written(text []byte, at estate.Source) string {
	if at.Start >= at.End || at.End > len(text) {
		lines := bytes.Split(text, []byte("\n"))
		return string(lines[min(max(at.Line, 1), len(lines))-1])
	}
	begins := bytes.LastIndexByte(text[:at.Start], '\n') + 1
	if len(bytes.TrimSpace(text[begins:at.Start])) > 0 {
		begins = at.Start
	}
	return strings.TrimRight(string(text[begins:at.End]), "\n")
}

// editedText tells what an edit does, and how it will stand in the files.
func (a *app) editedText(d edited, expand bool) {
	p := a.page(a.Out)
	zoneText(p, d.Effect)
	if expand {
		a.expandText(p, d.Effect)
	} else {
		a.effectText(p, d.Effect, plain)
	}
	a.consequencesText(p, d.consequences)
	list, more := d.standings()
	for i, s := range list {
		if i == 0 || s.File != list[i-1].File {
			p.Line("\n%s", p.Paint(view.Faint, "As it will stand in "+s.File+":"))
		}
		for line := range strings.SplitSeq(s.Text, "\n") {
			fmt.Fprintln(p, line) // as it stands in the file, however wide
		}
	}
	if more > 0 {
		p.Line("%s", p.Paint(view.Faint, "and "+entries(more)+" more"))
	}
}

// concluded says what became of an edit; as JSON, with all that it does.
func (a *app) concluded(d edited, c conclusion) error {
	names := fileNames(d.changes)
	if a.format == "json" {
		return a.editedJSON(d, c, names)
	}
	p := a.page(a.Out)
	switch c {
	case accepted:
		p.Line("\nWrote %s.", strings.Join(names, ", "))
	case outlook:
		p.Line("\n%s", p.Paint(view.Faint, "Nothing was written; it would change "+strings.Join(names, ", ")+"."))
	}
	return nil
}

func (a *app) editedJSON(d edited, c conclusion, files []string) error {
	type found struct {
		Code     string `json:"code"`
		Severity string `json:"severity"`
		Message  string `json:"message"`
	}
	list := func(all []finding.Found) []found {
		out := []found{}
		for _, f := range all {
			out = append(out, found{f.Code, f.Severity.String(), f.Message})
		}
		return out
	}
	stand, more := d.standings()
	reasons := reasonsText(&view.Page{}, d.Reasons(d.consequences))
	parts := []jsonPart{{"written", c == accepted}, {"files", files}, {"entries", append([]standing{}, stand...)}}
	if more > 0 {
		parts = append(parts, jsonPart{"more_entries", more})
	}
	parts = append(parts, differencesOf(d.Effect, d.consequences.Turned)...)
	parts = append(parts, jsonPart{"findings", list(d.consequences.Found)},
		jsonPart{"resolved", list(d.consequences.Gone)}, jsonPart{"asks", append([]string{}, reasons...)})
	if beyond := d.beyond.json(); beyond != nil {
		parts = append(parts, jsonPart{"beyond", beyond})
	}
	return a.jsonObject(parts...)
}

// distinct gives each text once, in order.
func distinct(all []string) []string { return slices.Compact(slices.Sorted(slices.Values(all))) }

// plural is a word for so many.
func plural(n int, word string) string {
	_, text, _ := strings.Cut(count(n, word), " ")
	return text
}

func entries(n int) string {
	if n == 1 {
		return "one entry"
	}
	return count(n, "entrie")
}
