package draft

import (
	"bytes"
	"errors"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// Mention is a place at which the files name an entry. In an inventory it has no Node: Section is then "inventories",
// ID the file.
type Mention struct {
	policyfile.Site
	File string
}

// Line is where the mention stands; 0 in an inventory.
func (m Mention) Line() int {
	if m.Node == nil {
		return 0
	}
	return m.Node.Line
}

// target is what is looked for.
type target struct {
	section, id string
	address     estate.Address // of a resource
	estate      *estate.Estate
}

// Mentions lists where the files name an entry, itself apart. Those in inventories are given by file alone.
func (d *Draft) Mentions(section, id string) ([]Mention, error) {
	found, err := d.mentions([][2]string{{section, id}})
	var out []Mention
	for _, one := range found {
		out = append(out, one.Mention)
	}
	return out, err
}

// mentionOf is a mention with what it names.
type mentionOf struct {
	Mention
	of *target
}

// mentions lists where the files name some entries, by section and id.
func (d *Draft) mentions(entries [][2]string) (out []mentionOf, err error) {
	sought, err := d.targets(entries)
	if err != nil {
		return nil, err
	}
	names, err := d.sources.Now(d.under)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if policyfile.IsInventory(name) {
			s, err := d.sheet(name)
			if err != nil {
				return nil, err
			}
			for _, t := range sought.inCells {
				err = s.each(t.wordIn(s), func(key, value string) (string, bool) {
					if _, ok := t.inCell(key, value, ""); ok {
						out = append(out, mentionOf{Mention{policyfile.Site{Section: inventories, ID: name, Key: key}, name}, t})
					}
					return "", false
				})
				if err != nil {
					return nil, err
				}
			}
			continue
		}
		f, err := d.yaml(name)
		if err != nil {
			return nil, err
		}
		for _, root := range f.Roots() {
			policyfile.EachSite(root, func(one policyfile.Site) {
				for _, t := range sought.in(one.Words) {
					out = append(out, mentionOf{Mention{one, name}, t})
				}
			})
		}
	}
	return out, nil
}

// targets are what is looked for at once, found by what words say.
type targets struct {
	entries  map[[2]string]*target // by section and id
	subjects map[string]*target
	placed   []*target // that places can name
	inCells  []*target // that inventories can name
}

func (d *Draft) targets(entries [][2]string) (*targets, error) {
	out := &targets{entries: map[[2]string]*target{}, subjects: map[string]*target{}}
	for _, one := range entries {
		t, err := d.target(one[0], one[1])
		if err != nil {
			return nil, err
		}
		out.entries[one] = &t
		if t.isSubject() {
			out.subjects[Named(t.section, t.id)] = &t
		}
		if t.isPlaced() {
			out.placed = append(out.placed, &t)
		}
		if t.isSubject() || t.isPlaced() || policyfile.CellsName(t.section) {
			out.inCells = append(out.inCells, &t)
		}
	}
	return out, nil
}

// in gives what some words name, each once.
func (ts *targets) in(words []policyfile.Word) (out []*target) {
	for _, w := range words {
		perhaps := ts.placed
		switch w.As {
		case policyfile.AsEntry:
			perhaps = []*target{ts.entries[[2]string{w.Section, w.Text()}]}
		case policyfile.AsSubject:
			perhaps = []*target{ts.subjects[plainSubject(w.Text())]}
		}
		for _, t := range perhaps {
			if t != nil && t.isNamed(w) && !slices.Contains(out, t) {
				out = append(out, t)
			}
		}
	}
	return out
}

// inventories is the section of a Mention in an inventory.
const inventories = "inventories"

func (d *Draft) target(section, id string) (target, error) {
	t := target{section: section, id: id, estate: d.estate}
	if section == "resources" {
		a, err := estate.ParseAddress(id)
		if err != nil {
			return t, err
		}
		t.address = d.estate.Canonical(a)
	}
	if p := d.estate.Profiles[id]; section == "profiles" && p != nil { // which is a resource too
		t.address = d.estate.Canonical(p.Address())
	}
	return t, nil
}

// wordIn is part of every line of an inventory that names the target. Of a resource it is the last name in its address,
// which few lines have, as long as it can't be written otherwise there.
func (t target) wordIn(s sheet) string {
	if t.section != "resources" {
		return t.id
	}
	last := t.address.Path[strings.LastIndexByte(t.address.Path, '/')+1:]
	system := t.estate.Systems[t.address.System]
	if last == "" || system == nil || t.estate.Folds(system) || strings.ContainsFunc(last, mayStandOtherwise) {
		return t.address.System
	}
	if text := s.bytes(); bytes.IndexByte(text, '%') >= 0 || bytes.IndexByte(text, '\\') >= 0 {
		return t.address.System
	}
	return last
}

// mayStandOtherwise says that a file may write a character in several ways, without an escape for all of them.
func mayStandOtherwise(r rune) bool {
	letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
	return !letter && (r < '0' || r > '9') && !strings.ContainsRune("-_.", r)
}

// isNamed says whether a word names the target, or for a resource something inside it.
func (t target) isNamed(w policyfile.Word) bool {
	switch text := w.Text(); w.As {
	case policyfile.AsEntry:
		return w.Section == t.section && text == t.id
	case policyfile.AsSubject:
		return t.isSubject() && plainSubject(text) == Named(t.section, t.id)
	case policyfile.AsPlace:
		return t.isPlace(text)
	case policyfile.AsPath:
		if c, err := estate.CanonicalPath(text); t.section == "resources" && err == nil {
			a := t.estate.Canonical(estate.Address{System: w.Section, Path: c})
			return a != t.address && a.Inside(t.address)
		}
	}
	return false
}

func (t target) isSubject() bool { _, ok := prefixes[t.section]; return ok }

// isPlaced says that places can name it.
func (t target) isPlaced() bool {
	return slices.Contains([]string{"scopes", "systems", "resources", "profiles"}, t.section)
}

// isPlace says whether an address, a pattern or the name of a scope names the target, or for a resource something
// inside it.
func (t target) isPlace(text string) bool {
	switch t.section {
	case "scopes":
		return text == "scope:"+t.id
	case "systems":
		system, _, _ := strings.Cut(text, ":")
		return system == t.id && !strings.HasPrefix(text, "scope:")
	case "resources", "profiles":
		a, err := estate.ParseAddress(text)
		if err != nil || strings.HasPrefix(text, "scope:") {
			return false
		}
		a = t.estate.Canonical(a)
		return a == t.address || a.Inside(t.address)
	}
	return false
}

// renamed gives what a word that names the target says once that has another id.
func (t target) renamed(w policyfile.Word, to string) string {
	text := w.Text()
	switch {
	case w.As == policyfile.AsPath:
		c, err := estate.CanonicalPath(text)
		b, _ := estate.ParseAddress(to)
		if err != nil {
			return text
		}
		rest := t.estate.Canonical(estate.Address{System: t.address.System, Path: c})
		return b.Path + strings.TrimPrefix(rest.Path, t.address.Path)
	case w.As == policyfile.AsPlace && t.section == "systems":
		return to + strings.TrimPrefix(text, t.id)
	case w.As == policyfile.AsPlace && (t.section == "resources" || t.section == "profiles"):
		if t.section == "profiles" {
			to = t.address.System + ":" + to
		}
		a, err := estate.ParseAddress(text)
		if err != nil {
			return text
		}
		return to + strings.TrimPrefix(t.estate.Canonical(a).Path, t.address.Path)
	}
	return strings.TrimSuffix(text, t.id) + to
}

// inCell gives what a cell of an inventory says once the target has another id ("": none any more), if it names the
// target. The line of a resource names that itself too, which is left.
func (t target) inCell(column, value, to string) (string, bool) {
	for _, w := range policyfile.CellWords(column, value) {
		if !t.isNamed(w) || column == "at" && t.section == "resources" && t.isItself(value) {
			continue
		}
		if to == "" && column != "at" {
			return "", true
		}
		return t.renamed(w, to), true
	}
	return "", false
}

func (t target) isItself(address string) bool {
	a, err := estate.ParseAddress(address)
	return err == nil && t.estate.Canonical(a) == t.address
}

// Redirect has everything that names an entry name another id instead.
func (d *Draft) Redirect(section, id, to string, mentions []Mention) error {
	t, err := d.target(section, id)
	if err != nil {
		return err
	}
	byFile := map[string]map[*yaml.Node]string{}
	sheets := map[string]bool{}
	for _, m := range mentions {
		if m.Node == nil {
			sheets[m.File] = true
			continue
		}
		if byFile[m.File] == nil {
			byFile[m.File] = map[*yaml.Node]string{}
		}
		for _, w := range m.Words {
			if t.isNamed(w) {
				byFile[m.File][w.Node] = w.Node.Value[:w.Start] + t.renamed(w, to) + w.Node.Value[w.End:]
			}
		}
	}
	for name, changes := range byFile {
		f, err := d.yaml(name)
		if err != nil {
			return err
		}
		if err := f.Substitute(changes); err != nil {
			return err
		}
	}
	for name := range sheets {
		s, err := d.sheet(name)
		if err != nil {
			return err
		}
		other := func(key, value string) (string, bool) { return t.inCell(key, value, to) }
		if err := s.each(t.wordIn(s), other); err != nil {
			return err
		}
	}
	return nil
}

// RemoveWith takes an entry out with its mentions, and so every entry that is of no use without it, however far that
// goes. Those are given.
func (d *Draft) RemoveWith(section, id string, mentions []Mention) (gone []Mention, err error) {
	t, err := d.target(section, id)
	if err != nil {
		return nil, err
	}
	var next []mentionOf
	for _, m := range mentions {
		next = append(next, mentionOf{m, &t})
	}
	for len(next) > 0 {
		more, err := d.takeOut(next)
		if err != nil {
			return nil, err
		}
		gone = append(gone, more...)
		var entries [][2]string
		for _, m := range more {
			entries = append(entries, [2]string{m.Section, m.ID})
		}
		if next = nil; len(entries) > 0 {
			if next, err = d.mentions(entries); err != nil {
				return nil, err
			}
		}
	}
	return gone, d.Remove(section, id)
}

// takeOut takes mentions of entries out of everything that names those. Entries that are of no use without go as a
// whole; they are given.
func (d *Draft) takeOut(mentions []mentionOf) (gone []Mention, err error) {
	type inFile struct {
		of   *target
		file string
	}
	sheets := map[inFile]bool{}
	var files []string
	byFile := map[string][]Mention{}
	for i := len(mentions) - 1; i >= 0; i-- { // from behind, so that places in lists stay what they are
		m := mentions[i]
		sheet := inFile{m.of, m.File}
		switch {
		case m.Node != nil:
			if byFile[m.File] == nil {
				files = append(files, m.File)
			}
			byFile[m.File] = append(byFile[m.File], m.Mention)
		case !sheets[sheet]:
			sheets[sheet] = true
			if err := d.takeOutOfSheet(m); err != nil {
				return nil, err
			}
		}
	}
	for _, name := range files {
		more, err := d.takeOutOfFile(name, byFile[name])
		if err != nil {
			return nil, err
		}
		gone = append(gone, more...)
	}
	return gone, nil
}

// takeOutOfFile takes mentions out of a YAML file, each or the entry with it.
func (d *Draft) takeOutOfFile(name string, mentions []Mention) (gone []Mention, err error) {
	f, err := d.yaml(name)
	if err != nil {
		return nil, err
	}
	take := func() error {
		gone = nil
		entries := map[[2]string]bool{}
		for _, m := range mentions {
			entry := [2]string{m.Section, m.ID}
			if entries[entry] {
				continue
			}
			whole, err := d.takeOutOne(f, m)
			if err != nil {
				return err
			}
			if whole {
				entries[entry] = true
				gone = append(gone, m)
			}
		}
		return nil
	}
	if err = f.Piecewise(take); errors.Is(err, splice.ErrFault) {
		err = take() // what can't be read in pieces
	}
	return gone, err
}

func (d *Draft) takeOutOfSheet(m mentionOf) error {
	s, err := d.sheet(m.File)
	if err != nil {
		return err
	}
	if m.Key != "at" {
		return s.each(m.of.wordIn(s), func(key, value string) (string, bool) { return m.of.inCell(key, value, "") })
	}
	return s.drop(m.of.wordIn(s), func(key, value string) bool {
		_, ok := m.of.inCell(key, value, "")
		return ok && key == "at"
	})
}

// takeOutOne takes one mention out, or the entry with it.
func (d *Draft) takeOutOne(f *splice.File, m Mention) (whole bool, err error) {
	if f.Get(m.Path...) == nil { // it went with something else
		return false, nil
	}
	if m.IsKey {
		keep := 2
		if m.Section == "resources" {
			keep = 3
		}
		last := m.Key == "levels" && len(f.Keys("tests", m.ID, "levels")) == 1 &&
			(len(m.Path) == 4 || len(f.Keys(m.Path[:4]...)) == 1)
		if last && f.Get("tests", m.ID, "allowed") == nil && f.Get("tests", m.ID, "denied") == nil {
			return true, d.Remove(m.Section, m.ID)
		}
		return false, f.Delete(keep, m.Path...)
	}
	if gathers := gathering(f.Items(m.Path...), m.Index); !gathers {
		if policyfile.IsVital(m.Section, m.Key) {
			return true, d.Remove(m.Section, m.ID)
		}
		if m.Section == "tests" && len(f.Items("tests", m.ID, "allowed"))+len(f.Items("tests", m.ID,
			"denied")) == len(f.Items(m.Path...)) {
			return true, d.Remove(m.Section, m.ID)
		}
		path := m.Path
		if len(f.Keys(path[:len(path)-1]...)) == 1 {
			if len(path) > 3 { // the keys of on-request or given go as a whole
				return false, f.Delete(2, path...)
			}
			return false, f.Set(splice.Map(), path[:len(path)-1]...)
		}
		return false, f.Delete(len(path)-1, path...)
	}
	return false, f.Drop(m.Index, len(m.Path)-1, m.Path...)
}

// gathering says whether a list still gathers anything without one of its items.
func gathering(items []*yaml.Node, without int) bool {
	for i, n := range items {
		if i == without {
			continue
		}
		if n.Kind == yaml.ScalarNode && !strings.HasPrefix(n.Value, "not ") || n.Kind == yaml.MappingNode &&
			!(len(n.Content) == 2 && n.Content[0].Value == "not") {
			return true
		}
	}
	return false
}
