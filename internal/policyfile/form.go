package policyfile

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

// form is the way a value is written: its name on the reference pages, its JSON Schema, how it is read, and what it
// names.
type form[V any] struct {
	name   string
	schema any
	read   func(r *reader, n *yaml.Node) (V, bool)
	names  []string                                                // the sections of what it names, for completion
	naming func(v V, visit func(Naming))                           // what a value names; nil for nothing
	sites  func(n *yaml.Node, path []string, visit func(one Site)) // where a node names it; nil for nowhere
}

// naming says that a form's values name entries of some sections: which, and in which words of a node.
func naming[V any](f form[V], sections []string, of func(V) Naming, words func(*yaml.Node) []Word) form[V] {
	f.names = sections
	f.naming = func(v V, visit func(Naming)) { visit(of(v)) }
	f.sites = func(n *yaml.Node, path []string, visit func(Site)) {
		visit(Site{Path: path, Node: n, Words: words(n)})
	}
	return f
}

// field is one key of an entry.
type field struct {
	name      string
	doc       string
	form      string
	schema    any
	required  bool
	read      func(r *reader, into any, n *yaml.Node)
	value     func(entry any) (any, bool) // false for what is no entry of the field's table
	authority Authority
	names     []string
	namings   func(entry any, visit func(Naming))
	sites     func(n *yaml.Node, path []string, visit func(one Site))
	nesting   bool // it names entries of the same section, of which the entry is made
	essential bool // an entry that gathers nothing by it any more is of no use
}

// of makes a field of T that is written in the form and kept where at says.
func of[T, V any](name string, f form[V], doc string, at func(*T) *V) field {
	return fieldOf(name, f, doc, func(entry any) *V {
		if t, ok := entry.(*T); ok {
			return at(t)
		}
		return nil
	})
}

// fieldOf makes a field that is kept where at says, which is nil for what is no entry of its table.
func fieldOf[V any](name string, f form[V], doc string, at func(entry any) *V) field {
	out := field{name: name, doc: doc, form: f.name, schema: f.schema, names: f.names, sites: f.sites}
	out.read = func(r *reader, into any, n *yaml.Node) {
		if v, ok := f.read(r, n); ok {
			*at(into) = v
		}
	}
	out.value = func(entry any) (any, bool) {
		v := at(entry)
		if v == nil {
			return nil, false
		}
		return *v, true
	}
	if f.naming != nil {
		out.namings = func(entry any, visit func(Naming)) {
			if v := at(entry); v != nil {
				f.naming(*v, visit)
			}
		}
	}
	return out
}

// head makes a field that every entry has.
func head[V any](name string, f form[V], doc string, at func(*estate.Object) *V) field {
	return fieldOf(name, f, doc, func(entry any) *V {
		if h, ok := entry.(estate.Head); ok {
			return at(h.Head())
		}
		return nil
	})
}

// must marks a field that may not be left out.
func (f field) must() field {
	f.required = true
	return f
}

// nests marks a field by which an entry is made of others of its section.
func (f field) nests() field {
	f.nesting = true
	return f
}

// vital marks a field without which an entry is of no use, though it may be left out beside others.
func (f field) vital() field {
	f.essential = true
	return f
}

// another marks a field that is another way of writing one before it: what it says is told as that.
func (f field) another() field {
	f.namings = nil
	f.value = func(any) (any, bool) { return nil, false }
	return f
}

// owner names what an entry is, and where an error about the whole of it points.
type owner struct {
	name string
	at   diagnostic.Position
}

// fields reads a mapping's keys into an entry.
func (r *reader) fields(table []field, into any, n *yaml.Node, of owner) bool {
	var seen []string
	ok := r.pairs(n, "the keys of "+of.name, func(key, value *yaml.Node) {
		for _, f := range table {
			if f.name == key.Value {
				seen = append(seen, f.name)
				if !r.bad[value] {
					f.read(r, into, value)
				}
				return
			}
		}
		r.wrong(key, nearestHelp(key.Value, fieldNames(table)), "%s has no key %q", of.name, key.Value)
	})
	for _, f := range table {
		if ok && f.required && !slices.Contains(seen, f.name) {
			r.fail(of.at, "add "+f.name+": "+f.doc, "%s needs the key %q", of.name, f.name)
		}
	}
	return ok
}

func fieldNames(table []field) []string {
	var names []string
	for _, f := range table {
		names = append(names, f.name)
	}
	return names
}

// nearestHelp proposes the nearest known word, or lists a few that are known.
func nearestHelp(word string, known []string) string {
	if near := diagnostic.Nearest(word, known); near != "" {
		return "did you mean " + near + "?"
	}
	if len(known) == 0 || len(known) > 16 {
		return ""
	}
	return "known here: " + strings.Join(known, ", ")
}

// listOf reads a list; a list of one may be written bare.
func listOf[V any](item form[V]) form[[]V] {
	return form[[]V]{
		name:   "list of " + item.name,
		schema: object{"anyOf": []any{item.schema, object{"type": "array", "minItems": 1, "items": item.schema}}},
		read: func(r *reader, n *yaml.Node) ([]V, bool) {
			var out []V
			for _, c := range r.items(n) {
				if v, ok := item.read(r, c); ok {
					out = append(out, v)
				}
			}
			return out, len(out) > 0
		},
		names: item.names,
		naming: whereNamed(item.naming != nil, func(list []V, visit func(Naming)) {
			for _, v := range list {
				item.naming(v, visit)
			}
		}),
		sites: whereNamed(item.sites != nil, func(n *yaml.Node, path []string, visit func(Site)) {
			eachItem(n, func(i int, c *yaml.Node) {
				item.sites(c, path, func(one Site) { // of whatever stands in an item, the item is what can be taken out
					one.Path, one.Index, one.IsKey = path, i, false
					visit(one)
				})
			})
		}),
	}
}

// as reads what a form reads as something else.
func as[V, W any](f form[V], turn func(V) W) form[W] {
	return form[W]{name: f.name, schema: f.schema, read: func(r *reader, n *yaml.Node) (W, bool) {
		v, ok := f.read(r, n)
		return turn(v), ok
	}}
}

// fieldAt makes a field of T whose values are handed to keep.
func fieldAt[T, V any](name string, f form[V], doc string, keep func(*T, V)) field {
	return field{name: name, doc: doc, form: f.name, schema: f.schema, read: func(r *reader, into any, n *yaml.Node) {
		if v, ok := f.read(r, n); ok {
			keep(into.(*T), v)
		}
	}, value: func(any) (any, bool) { return nil, false }}
}

// whereNamed gives a function if a form's values name something.
func whereNamed[F any](does bool, f F) F {
	var none F
	if !does {
		return none
	}
	return f
}

// pointer keeps whether a value was written at all.
func pointer[V any](f form[V]) form[*V] {
	out := form[*V]{name: f.name, schema: f.schema, names: f.names, sites: f.sites}
	out.read = func(r *reader, n *yaml.Node) (*V, bool) {
		v, ok := f.read(r, n)
		return &v, ok
	}
	out.naming = whereNamed(f.naming != nil, func(v *V, visit func(Naming)) {
		if v != nil {
			f.naming(*v, visit)
		}
	})
	return out
}

// scalarForm reads one text with a parser.
func scalarForm[V any](name string, schema any, read func(*reader, string) (V, error)) form[V] {
	return form[V]{name: name, schema: schema, read: func(r *reader, n *yaml.Node) (V, bool) {
		return parse(r, n, name, func(text string) (V, error) { return read(r, text) })
	}}
}

// oneOf reads one of a few words.
func oneOf(name string, words ...string) form[string] {
	return form[string]{name: name + ": " + strings.Join(words, ", "), schema: object{"enum": anys(words)},
		read: func(r *reader, n *yaml.Node) (string, bool) {
			text, ok := r.scalar(n, name)
			if ok && !slices.Contains(words, text) {
				help := nearestHelp(text, words)
				if !strings.HasPrefix(help, "known") {
					help = strings.TrimSpace(help + " known here: " + strings.Join(words, ", "))
				}
				r.wrong(n, help, "%q is no %s", text, name)
				ok = false
			}
			return text, ok
		}}
}

func anys(words []string) []any {
	out := make([]any, len(words))
	for i, w := range words {
		out[i] = w
	}
	return out
}

// object is a JSON object of a schema.
type object = map[string]any
