package policyfile

import (
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

// heading is how a section is called and what is said of it.
type heading struct {
	name string
	one  string // an entry of it, in a sentence
	doc  string
}

// section is one top-level key of a file whose entries have ids.
type section struct {
	heading
	table  []field
	create func() estate.Head
	add    func(*estate.Estate, estate.Head)
	find   func(*estate.Estate, string) *estate.Object      // nil if there is none
	finish func(r *reader, entry estate.Head, n *yaml.Node) // what no single key can tell
	bare   string                                           // the key whose value an entry may be written as, "" for none
	home   string                                           // the file for its entries where there are none yet
}

// sectionOf makes the section whose entries are kept where place says.
func sectionOf[T any, P interface {
	*T
	estate.Head
}](h heading, table []field, place func(*estate.Estate) map[string]P,
	finish func(*reader, P, *yaml.Node)) *section {
	s := &section{heading: h, table: append(table, common...)}
	s.create = func() estate.Head { return P(new(T)) }
	s.add = func(e *estate.Estate, h estate.Head) { place(e)[h.Head().ID] = h.(P) }
	s.find = func(e *estate.Estate, id string) *estate.Object {
		if entry, ok := place(e)[id]; ok {
			return entry.Head()
		}
		return nil
	}
	s.finish = func(r *reader, h estate.Head, n *yaml.Node) {
		if finish != nil {
			finish(r, h.(P), n)
		}
	}
	return s
}

// read reads a section of one file.
func (s *section) read(r *reader, n *yaml.Node) {
	sound := r.pairs(n, "entries by id", func(key, value *yaml.Node) {
		id, ok := parse(r, key, "an id", func(text string) (string, error) { return text, estate.CheckID(text) })
		if !ok {
			r.incomplete = true
			return
		}
		entry := s.create()
		entry.Head().ID = id
		entry.Head().Source = estate.Source{Position: r.at(key)}
		entry.Head().Source.Start, entry.Head().Source.End = r.text.Extent(n, key)
		before := len(r.errors)
		if f := s.bareField(value); f != nil {
			f.read(r, entry, value)
		} else if r.fields(s.table, entry, value, owner{s.one + " " + id, r.at(key)}) && len(r.errors) == before &&
			!r.tainted(value) {
			s.finish(r, entry, value)
		}
		s.enter(r, entry, r.at(key))
		// what stands in a catalog is named elsewhere too
		r.incomplete = r.incomplete || s.name == "catalogs" && len(r.errors) > before
	})
	r.incomplete = r.incomplete || !sound
}

// bareField gives the one key whose value an entry is written as; nil where keys are meant.
func (s *section) bareField(n *yaml.Node) *field {
	if s.bare == "" || n.Kind == yaml.MappingNode && len(keysOf(n, fieldNames(s.table)...)) > len(keysOf(n, "owner")) {
		return nil // `owner` is a key of selectors too
	}
	return s.fieldNamed(s.bare)
}

func (s *section) fieldNamed(name string) *field {
	for i := range s.table {
		if s.table[i].name == name {
			return &s.table[i]
		}
	}
	return nil
}

// written says under which key the value stands that an entry may be written as.
func (s *section) written(key string) *section {
	s.bare = key
	return s
}

// BareKey gives the key whose value an entry of a section is written as; "" where it is written with its keys.
func BareKey(section string, body *yaml.Node) string {
	for _, s := range sections {
		if s.name == section {
			if f := s.bareField(body); f != nil {
				return f.name
			}
		}
	}
	return ""
}

// Home gives the file for the entries of a section where there are none yet.
func Home(section string) string {
	for _, s := range sections {
		if s.name == section {
			return s.home
		}
	}
	return ""
}

// IsVital says whether an entry is of no use once the list under a key gathers nothing any more.
func IsVital(section, key string) bool {
	for _, f := range tableOf(section) {
		if f.name == key {
			return f.required || f.essential
		}
	}
	return false
}

// enter adds an entry to the estate unless its id is taken.
func (s *section) enter(r *reader, entry estate.Head, at diagnostic.Position) {
	id := entry.Head().ID
	if first := s.find(r.estate, id); first != nil {
		if first.Source.File != "" {
			r.fail(at, "an id is defined once in the whole workspace; the first stands in "+first.Source.Short(),
				"%s %q is defined twice", s.one, id)
		} else {
			r.fail(at, "choose another id; with based-on: "+id+" a kind can add to it", "%s %q is built in", s.one, id)
		}
		return
	}
	s.add(r.estate, entry)
}

// common is what every entry may carry.
var common = []field{
	head("title", textForm, "a name for people to read", func(o *estate.Object) *string { return &o.Title }).by(Free),
	head("about", textForm, "what it is", func(o *estate.Object) *string { return &o.About }).by(Free),
	head("why", textForm, "why it is so", func(o *estate.Object) *string { return &o.Why }).by(Free),
	head("owner", ownerForm, "who answers for it: a person, `service:ID` or `group:ID`, whose members then own",
		func(o *estate.Object) **estate.Principal { return &o.Owner }).by(ByControl),
	head("protected", flagForm, "commands refuse to remove, end or suspend it",
		func(o *estate.Object) *bool { return &o.Protected }).by(Owners),
	head("accept", listOf(acceptanceForm), "findings that are accepted, each with why, until an end",
		func(o *estate.Object) *[]estate.Acceptance { return &o.Accept }).by(Owners),
}

var findingForm = naming(textForm, []string{NamesFinding},
	func(code string) Naming { return Naming{Section: NamesFinding, Entries: []estate.Ref{{ID: code}}} },
	entryWords(NamesFinding))

var acceptanceFields = []field{
	of("finding", findingForm, "the finding's code", func(a *estate.Acceptance) *string { return &a.Finding }).must(),
	of("why", textForm, "why it is accepted", func(a *estate.Acceptance) *string { return &a.Why }).must(),
	of("ends", momentForm, "until when", func(a *estate.Acceptance) **estate.Moment { return &a.Ends }),
}

var acceptanceForm = record[estate.Acceptance]("acceptance", "an acceptance", acceptanceFields)

// record reads a mapping with a table of its own.
func record[T any](name, one string, table []field) form[T] {
	return form[T]{name: name, schema: tableSchema(table), read: func(r *reader, n *yaml.Node) (T, bool) {
		var v T
		before := len(r.errors)
		ok := r.fields(table, &v, n, owner{one, r.at(n)})
		return v, ok && len(r.errors) == before
	}, naming: func(v T, visit func(Naming)) {
		tableNamings(table, &v, visit)
	}, sites: func(n *yaml.Node, path []string, visit func(Site)) {
		tableSites(table, n, path, visit)
	}}
}

// starts and ends are two keys that several sections share.
func times[T any](a Authority, starts, ends func(*T) **estate.Moment) []field {
	return []field{
		of("starts", momentForm, "from when: a whole local day, or an instant, which is included", starts).by(a),
		of("ends", momentForm, "until when: a whole local day, which is included, or an instant, which is not", ends).by(a),
	}
}
