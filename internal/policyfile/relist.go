package policyfile

import (
	"bytes"
	"io/fs"
	"path"
	"slices"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
)

// relisted is what is not the same in inventories of people that have changed. Only the lines that differ are read: a
// list can be long.
type relisted struct {
	people []person
	gone   map[string]map[estate.Principal]bool // by inventory, those who are in no group by it any more, or in others
}

// read reads the lines in which an inventory differs from what it was. It is false if something is wrong with them.
func (a *relisted) read(l *loader, was, files fs.FS, name string) bool {
	old, err := readLimited(was, name, MaxInventory)
	if err != nil {
		return false
	}
	text, err := readLimited(files, name, MaxInventory)
	if err != nil {
		return false
	}
	head, tail := AlikeLines(old, text, path.Ext(name) == ".csv")
	before, ok := l.people(name, old, head, tail)
	if !ok {
		return false
	}
	after, ok := l.people(name, text, head, tail)
	if !ok {
		return false
	}
	known := map[string]*estate.Subject{}
	a.gone[name] = map[estate.Principal]bool{}
	for _, p := range before {
		known[p.ID] = p.Subject
		a.gone[name][p.Principal()] = true
		if s := l.estate.People[p.ID]; s == nil || s.Source.File != name {
			return false
		}
	}
	for i, p := range after {
		is, found := l.estate.People[p.ID], known[p.ID]
		if found == nil {
			continue
		}
		if slices.EqualFunc(found.Groups, p.Groups, func(a, b estate.Ref) bool { return a.ID == b.ID }) {
			p.Groups = nil
			delete(a.gone[name], p.Principal())
		}
		if is.Says(p.Subject) { // what says the same stays the same, for whoever compares
			same := *is
			same.Groups = p.Groups
			after[i].Subject = &same
			if p.Groups == nil {
				after[i].Subject = is
			}
		}
	}
	for id := range known {
		delete(l.estate.People, id)
	}
	a.people = append(a.people, after...)
	return true
}

// join puts the people who were read into the estate.
func (a *relisted) join(l *loader) {
	for _, p := range a.people {
		p.from.loader = l
		people.enter(p.from, p.Subject, p.Source.Position)
		l.listedPeople = append(l.listedPeople, p.Subject)
	}
}

// left says whether a membership is none any more.
func (a *relisted) left(t estate.SubjectTerm) bool { return a.gone[t.Position.File][t.Principal] }

// ownGroups takes out of the groups that stand as they stood who is in them no more, and readies those for others that
// get them.
func (a *relisted) ownGroups(e, before *estate.Estate) {
	joined := map[string]bool{}
	for _, p := range a.people {
		for _, ref := range p.Groups {
			joined[ref.ID] = true
		}
	}
	for id, was := range before.Groups {
		if e.Groups[id] != was || len(a.gone) == 0 || !joined[id] && !slices.ContainsFunc(was.Members, a.left) {
			continue
		}
		own := *was
		if own.Members = slices.DeleteFunc(slices.Clone(was.Members), a.left); len(own.Members) == 0 {
			own.Members = nil
		}
		e.Groups[id] = &own
	}
}

// people reads the people of an inventory, without so many bytes at its begin and at its end; of CSV the first line
// names the columns all the same.
func (l *loader) people(name string, text []byte, head, tail int) ([]person, bool) {
	all := &inventories{loader: &loader{estate: estate.New(), zone: l.zone, settings: l.settings}}
	r := &reader{loader: all.loader, file: name}
	before := bytes.Count(text[:head], []byte("\n"))
	some := text[head : len(text)-tail]
	if path.Ext(name) == ".csv" {
		if head > 0 {
			columns, _, _ := bytes.Cut(text, []byte("\n"))
			some = slices.Concat(columns, []byte("\n"), some)
			before--
		}
		all.readCSV(r, bytes.NewReader(some), all.peopleLines(r))
	} else {
		r.readLines(bytes.NewReader(some), func(n *yaml.Node) { all.takePerson(r, n) })
	}
	for _, p := range all.people {
		p.Source.Position.Line += before
		for i := range p.Groups {
			p.Groups[i].Position.Line += before
		}
	}
	return all.people, len(all.errors) == 0
}

// AlikeLines tells how many bytes two texts have in common at their begin and at their end, in whole lines. Of CSV, a
// line break in quotes ends no line, and the columns are in common or nothing is.
func AlikeLines(a, b []byte, isCSV bool) (head, tail int) {
	n := min(len(a), len(b))
	for head < n && a[head] == b[head] {
		head++
	}
	head = bytes.LastIndexByte(a[:head], '\n') + 1
	for tail < n-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	end := bytes.IndexByte(a[len(a)-tail:], '\n') // up to it, a line may be another's
	if end < 0 {
		tail = 0
	} else {
		tail -= end + 1
	}
	even := func(text []byte) bool { return bytes.Count(text, []byte{'"'})%2 == 0 }
	if isCSV && (!even(a[:head]) || !even(a[head:len(a)-tail]) || !even(b[head:len(b)-tail])) {
		return 0, 0
	}
	if isCSV && head == 0 {
		return 0, 0
	}
	return head, tail
}
