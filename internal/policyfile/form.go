package policyfile

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

// form is the way a value is written: its name on the reference pages, its JSON Schema, and how it is read.
type form[V any] struct {
	name   string
	schema any
	read   func(r *reader, n *yaml.Node) (V, bool)
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
}

// of makes a field of T that is written in the form and kept where at says.
func of[T, V any](name string, f form[V], doc string, at func(*T) *V) field {
	return field{name: name, doc: doc, form: f.name, schema: f.schema, read: func(r *reader, into any, n *yaml.Node) {
		if v, ok := f.read(r, n); ok {
			*at(into.(*T)) = v
		}
	}, value: func(entry any) (any, bool) {
		t, ok := entry.(*T)
		if !ok {
			return nil, false
		}
		return *at(t), true
	}}
}

// head makes a field that every entry has.
func head[V any](name string, f form[V], doc string, at func(*estate.Object) *V) field {
	return field{name: name, doc: doc, form: f.name, schema: f.schema, read: func(r *reader, into any, n *yaml.Node) {
		if v, ok := f.read(r, n); ok {
			*at(into.(estate.Head).Head()) = v
		}
	}, value: func(entry any) (any, bool) {
		h, ok := entry.(estate.Head)
		if !ok {
			return nil, false
		}
		return *at(h.Head()), true
	}}
}

// must marks a field that may not be left out.
func (f field) must() field {
	f.required = true
	return f
}

// fields reads a mapping's keys into an entry. owner names what the entry is, at is where an error about the
// whole of it points.
func (r *reader) fields(table []field, into any, n *yaml.Node, owner string, at diagnostic.Position) bool {
	var seen []string
	ok := r.pairs(n, "the keys of "+owner, func(key, value *yaml.Node) {
		for _, f := range table {
			if f.name == key.Value {
				seen = append(seen, f.name)
				if !r.bad[value] {
					f.read(r, into, value)
				}
				return
			}
		}
		r.wrong(key, nearestHelp(key.Value, fieldNames(table)), "%s has no key %q", owner, key.Value)
	})
	for _, f := range table {
		if ok && f.required && !slices.Contains(seen, f.name) {
			r.fail(at, "add "+f.name+": "+f.doc, "%s needs the key %q", owner, f.name)
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
	}
}

// pointer keeps whether a value was written at all.
func pointer[V any](f form[V]) form[*V] {
	return form[*V]{name: f.name, schema: f.schema, read: func(r *reader, n *yaml.Node) (*V, bool) {
		v, ok := f.read(r, n)
		return &v, ok
	}}
}

// scalarForm reads one text with a parser.
func scalarForm[V any](name string, schema any, read func(*reader, string) (V, error)) form[V] {
	return form[V]{name: name, schema: schema, read: func(r *reader, n *yaml.Node) (V, bool) {
		return parse(r, n, name, func(text string) (V, error) { return read(r, text) })
	}}
}

// oneOf reads one of a few words.
func oneOf(name string, words ...string) form[string] {
	return form[string]{name: name + ": " + strings.Join(words, ", "), schema: object{"enum": anys(words)}, read: func(r *reader, n *yaml.Node) (string, bool) {
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
