package policyfile

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

const idPattern = `[\p{L}\p{Nd}][\p{L}\p{Nd}._@-]{0,127}`

func pattern(p string) any { return object{"type": "string", "pattern": "^(?:" + p + ")$"} }

// anyScalar fits a text that YAML may take for a number, a truth value or a date.
var anyScalar = object{"type": []any{"string", "number", "boolean"}}

var textForm = scalarForm("text", anyScalar, func(_ *reader, text string) (string, error) {
	for _, c := range text {
		if unicode.IsControl(c) && c != '\n' && c != '\t' {
			return "", fmt.Errorf("the text has a control character")
		}
	}
	return text, nil
})

var flagForm = form[bool]{name: "true or false", schema: object{"type": "boolean"},
	read: func(r *reader, n *yaml.Node) (bool, bool) {
		text, ok := r.scalar(n, "true or false")
		if ok && ((text != "true" && text != "false") || n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0) {
			r.wrong(n, "write true or false", "%q is neither true nor false", text)
			ok = false
		}
		return text == "true", ok
	}}

func countForm(least, most int) form[int] {
	return form[int]{name: fmt.Sprintf("number from %d", least),
		schema: object{"type": "integer", "minimum": least, "maximum": most},
		read: func(r *reader, n *yaml.Node) (int, bool) {
			text, ok := r.scalar(n, "a number")
			i, err := strconv.Atoi(text)
			if ok && (err != nil || i < least || i > most || n.Tag != "!!int") {
				r.wrong(n, "", "%q is no number from %d to %d", text, least, most)
				ok = false
			}
			return i, ok
		}}
}

var principalForm = naming(scalarForm("subject", pattern(`((person|service|group):)?`+idPattern),
	func(_ *reader, text string) (estate.Principal, error) {
		return estate.ParsePrincipal(text)
	}), subjectSections, func(p estate.Principal) Naming { return Naming{Subjects: estate.Subjects{{Principal: p}}} },
	subjectWords)

var ownerForm = naming(scalarForm("person, service or group", pattern(`((person|service|group):)?`+idPattern),
	func(_ *reader, text string) (*estate.Principal, error) {
		p, err := estate.ParsePrincipal(text)
		if err == nil && p.Kind > estate.IsGroup {
			err = fmt.Errorf("%s can't own anything; an owner is a person, service:ID or group:ID", text)
		}
		return &p, err
	}), subjectSections, ownerNaming, subjectWords)

// refTo reads the id of an entry of a section.
func refTo(section string) form[estate.Ref] {
	return naming(form[estate.Ref]{name: "id", schema: pattern(idPattern),
		read: func(r *reader, n *yaml.Node) (estate.Ref, bool) {
			text, ok := parse(r, n, "an id", func(text string) (string, error) { return text, estate.CheckID(text) })
			return estate.Ref{ID: text, Position: r.at(n)}, ok
		}}, []string{section}, func(ref estate.Ref) Naming {
		if ref.ID == "" {
			return Naming{}
		}
		return Naming{Section: section, Entries: []estate.Ref{ref}}
	}, entryWords(section))
}

var (
	kindForm   = refTo("catalogs")
	groupsForm = listOf(refTo("groups"))
	roleForm   = refTo("roles")
	rolesForm  = listOf(roleForm)
)

// termsOf reads a list of terms, which is named as a whole.
func termsOf[T any, L ~[]T](name string, item form[T], whole func(L) Naming) form[L] {
	list := listOf(item)
	out := form[L]{name: name, schema: list.schema, names: list.names, sites: list.sites}
	out.read = func(r *reader, n *yaml.Node) (L, bool) { return list.read(r, n) }
	out.naming = func(v L, visit func(Naming)) {
		n := whole(v)
		n.IsList = true
		visit(n)
	}
	return out
}

// gathers reads a list of terms and sees that not all of them take away.
func gathers[T any, L ~[]T](list form[L], not func(T) bool) form[L] {
	read := list.read
	list.read = func(r *reader, n *yaml.Node) (L, bool) {
		out, ok := read(r, n)
		if ok && !slices.ContainsFunc(out, func(t T) bool { return !not(t) }) && len(out) == len(r.items(n)) {
			r.wrong(n, "put what they take away from before them", "only `not` entries stand here, so nothing is gathered")
			ok = false
		}
		return out, ok
	}
	return list
}

// mayTakeAway says that a list may take away alone: another key of the entry gathers too.
func mayTakeAway[V any](list form[V]) form[V] {
	of := list.naming
	list.naming = func(v V, visit func(Naming)) {
		of(v, func(n Naming) {
			n.Beside = true
			visit(n)
		})
	}
	return list
}

var subjectTerm = naming(form[estate.SubjectTerm]{name: "subject",
	schema: pattern(`(not )?((person|service|group):)?` + idPattern),
	read: func(r *reader, n *yaml.Node) (estate.SubjectTerm, bool) {
		t, ok := parse(r, n, "a subject", estate.ParseSubjectTerm)
		t.Position = r.at(n)
		return t, ok
	}}, subjectSections, func(t estate.SubjectTerm) Naming { return Naming{Subjects: estate.Subjects{t}} }, subjectWords)

var subjectTerms = termsOf("subjects", subjectTerm, func(l estate.Subjects) Naming { return Naming{Subjects: l} })

var subjectsForm = gathers(subjectTerms, func(t estate.SubjectTerm) bool { return t.Not })

// membersForm may take away alone: `match` may gather beside it.
var membersForm = mayTakeAway(subjectTerms)

const operationPattern = `(not )?(all|(only|up to|from) (view|use|change|govern)|[a-z0-9.*-]*[*.][a-z0-9.*-]*)`

var operationTerm = naming(form[estate.OperationTerm]{name: "operation", schema: pattern(operationPattern),
	read: func(r *reader, n *yaml.Node) (estate.OperationTerm, bool) {
		t, ok := parse(r, n, "an operation", estate.ParseOperationTerm)
		t.Position = r.at(n)
		return t, ok
	}}, []string{NamesOperation}, func(t estate.OperationTerm) Naming { return Naming{Operations: estate.Operations{t}} },
	operationWords)

var operationTerms = termsOf("operations", operationTerm,
	func(l estate.Operations) Naming { return Naming{Operations: l} })

var operationsForm = gathers(operationTerms, func(t estate.OperationTerm) bool { return t.Not })

// allowForm may take away alone: `include` may gather beside it.
var allowForm = mayTakeAway(operationTerms)

const resourcePattern = `(not )?[\p{L}\p{Nd}*][^\x00-\x1f]*`

// selector is the object form of a resource term while it is read.
type selector struct {
	in      *estate.Pattern
	kinds   []string
	types   []string
	tags    []estate.Match
	owners  []estate.Principal
	exactly bool
	not     *estate.ResourceTerm
}

var patternForm = scalarForm("address or pattern", pattern(`[\p{L}\p{Nd}*][^\x00-\x1f]*`),
	func(_ *reader, text string) (*estate.Pattern, error) {
		p, err := estate.ParsePattern(text)
		return &p, err
	})

var selectorFields = []field{
	of("in", patternForm, "inside what this covers", func(s *selector) **estate.Pattern { return &s.in }),
	of("kind", listOf(textForm), "in a system of this kind, or of one based on it",
		func(s *selector) *[]string { return &s.kinds }),
	of("type", listOf(textForm), "of this type", func(s *selector) *[]string { return &s.types }),
	of("tags", tagMatches, "with these values in effect", func(s *selector) *[]estate.Match { return &s.tags }),
	of("owner", listOf(principalForm), "with this owner, as written",
		func(s *selector) *[]estate.Principal { return &s.owners }),
	of("exactly", flagForm, "what `in` matches alone, not what is inside", func(s *selector) *bool { return &s.exactly }),
}

var resourceTerm = naming(form[estate.ResourceTerm]{
	name: "resource",
	schema: object{"anyOf": []any{pattern(resourcePattern), object{"$ref": "#/$defs/selector"},
		object{"type": "object", "required": []any{"not"}, "additionalProperties": false,
			"properties": object{"not": object{"$ref": "#/$defs/selector"}}}}},
	read: readResourceTerm,
}, placeSections, func(t estate.ResourceTerm) Naming { return Naming{Resources: estate.Resources{t}} }, placeWords)

func readResourceTerm(r *reader, n *yaml.Node) (estate.ResourceTerm, bool) {
	if n.Kind != yaml.MappingNode || looksLikeAddress(n) {
		t, ok := parse(r, n, "a resource", estate.ParseResourceTerm)
		t.Position = r.at(n)
		return t, ok
	}
	var s selector
	table := append(slices.Clone(selectorFields), field{name: "not", read: func(r *reader, _ any, v *yaml.Node) {
		if v.Kind != yaml.MappingNode {
			r.wrong(v, "", "not: takes a selector such as {in: …}; before an address write `not` as a word")
		} else if t, ok := readResourceTerm(r, v); ok {
			t.Not = !t.Not
			s.not = &t
		}
	}})
	before := len(r.errors)
	if !r.fields(table, &s, n, owner{"a selector of resources", r.at(n)}) || len(r.errors) > before {
		return estate.ResourceTerm{}, false
	}
	switch {
	case s.not != nil && len(n.Content) > 2:
		r.wrong(n, "write the others in an entry of their own", "not: stands alone in its entry")
		return estate.ResourceTerm{}, false
	case s.not != nil && !s.not.Not:
		r.wrong(n, "", "a not: inside a not: is not used")
		return estate.ResourceTerm{}, false
	case s.not != nil:
		s.not.Position = r.at(n)
		return *s.not, true
	case s.exactly && s.in == nil:
		r.wrong(n, "add in: PATTERN", "exactly: needs in:, which says what it narrows")
		return estate.ResourceTerm{}, false
	case len(n.Content) == 0:
		r.wrong(n, "write everything, if that is meant", "the selector says nothing")
		return estate.ResourceTerm{}, false
	}
	return estate.ResourceTerm{In: s.in, Exactly: s.exactly, Kinds: s.kinds, Types: s.types, Tags: s.tags,
		Owners: s.owners, Position: r.at(n)}, true
}

// looksLikeAddress tells `{ridge-net: summit}` from a selector: one pair of scalars whose key no selector has.
func looksLikeAddress(n *yaml.Node) bool {
	return len(n.Content) == 2 && n.Content[0].Kind == yaml.ScalarNode && n.Content[1].Kind == yaml.ScalarNode &&
		!slices.Contains(append(fieldNames(selectorFields), "not"), n.Content[0].Value) &&
		diagnostic.Nearest(n.Content[0].Value, fieldNames(selectorFields)) == ""
}

var resourcesForm = gathers(
	termsOf("resources", resourceTerm, func(l estate.Resources) Naming { return Naming{Resources: l} }),
	func(t estate.ResourceTerm) bool { return t.Not })

// checkKey tells what is wrong with the key of a tag or attribute.
func checkKey(key string) error {
	if key == "" || len(key) > estate.MaxID ||
		strings.ContainsFunc(key, func(c rune) bool { return unicode.IsControl(c) || unicode.IsSpace(c) }) {
		return fmt.Errorf("%q is no key of a tag: it has no spaces and at most %d bytes", key, estate.MaxID)
	}
	return nil
}

// tagsForm reads keys with one text each.
var tagsForm = form[estate.Tags]{name: "tags", schema: object{"type": "object", "additionalProperties": anyScalar},
	read: func(r *reader, n *yaml.Node) (estate.Tags, bool) {
		var out estate.Tags
		ok := r.pairs(n, "tags, as in {team: domes}", func(key, value *yaml.Node) {
			if err := checkKey(key.Value); err != nil {
				r.wrong(key, "", "%s", err)
			}
			if text, ok := textForm.read(r, value); ok {
				out = append(out, estate.Tag{Key: key.Value, Value: text})
			}
		})
		slices.SortFunc(out, func(a, b estate.Tag) int { return strings.Compare(a.Key, b.Key) })
		return out, ok
	}}

// tagMatches and attributeMatches read keys with the values of which one must be there. Attributes of a request may be
// compared with the empty text; a tag never has it.
var (
	tagMatches = matchesForm("tags to match", checkKey, func(r *reader, n *yaml.Node, values []string) bool {
		if slices.Contains(values, "") {
			r.wrong(n, "an empty value clears a tag, so none ever has it; for tags that are not set write not: {…}",
				"a tag is never empty")
			return false
		}
		return true
	})
	attributeMatches = matchesForm("attributes to match", estate.CheckAttribute,
		func(*reader, *yaml.Node, []string) bool { return true })
)

// matchesForm reads them by a check of the keys and one of the values.
func matchesForm(name string, checkKey func(string) error,
	checkValues func(*reader, *yaml.Node, []string) bool) form[[]estate.Match] {
	return form[[]estate.Match]{name: name, schema: object{"type": "object", "minProperties": 1,
		"additionalProperties": listOf(textForm).schema}, read: func(r *reader, n *yaml.Node) ([]estate.Match, bool) {
		var out []estate.Match
		ok := r.pairs(n, name+", as in {team: domes}", func(key, value *yaml.Node) {
			if err := checkKey(key.Value); err != nil {
				r.wrong(key, "", "%s", err)
				return
			}
			if values, ok := listOf(textForm).read(r, value); ok && checkValues(r, value, values) {
				out = append(out, estate.Match{Key: key.Value, Values: values})
			}
		})
		if ok && len(n.Content) == 0 {
			r.wrong(n, "name a tag, or leave the key out", "nothing is named to match")
			ok = false
		}
		slices.SortFunc(out, func(a, b estate.Match) int { return strings.Compare(a.Key, b.Key) })
		return out, ok
	}}
}

// momentForm reads a date or a time in the estate's zone.
var momentForm = scalarForm("date or time", object{"type": "string", "pattern": `^\d{4}-\d{2}-\d{2}(T\d{2}:\d{2}.*)?$`},
	func(r *reader, text string) (*estate.Moment, error) {
		m, err := estate.ParseMoment(r.zone, text)
		return m, exact(text, err)
	})

// exact refuses more digits of a second than the program keeps.
func exact(text string, err error) error {
	if _, fraction, found := strings.Cut(text, "."); err == nil && found &&
		len(strings.TrimRight(fraction, "Zz+-:0123456789")) == 0 {
		if digits := strings.IndexFunc(fraction+"Z", func(c rune) bool { return !unicode.IsDigit(c) }); digits > 6 {
			return fmt.Errorf("%q is finer than a microsecond", text)
		}
	}
	return err
}

// timeForm reads a time alone.
var timeForm = scalarForm("time", object{"type": "string", "pattern": `^\d{4}-\d{2}-\d{2}[Tt]\d{2}:\d{2}.*$`},
	func(r *reader, text string) (*estate.Moment, error) {
		at, err := r.zone.ParseTime(text)
		return &estate.Moment{Instant: at, Text: text}, exact(text, err)
	})

var durationForm = scalarForm("duration", pattern(`[1-9]\d*[mhd]`),
	func(_ *reader, text string) (time.Duration, error) {
		return estate.ParseDuration(text)
	})

var prefixForm = scalarForm("network", pattern(`[0-9a-fA-F:.]+/\d+`),
	func(_ *reader, text string) (netip.Prefix, error) {
		return estate.ParsePrefix(text)
	})

var addrForm = scalarForm("address", pattern(`[0-9a-fA-F:.]+`), func(_ *reader, text string) (netip.Addr, error) {
	return estate.ParseAddr(text)
})

var hoursForm = scalarForm("hours", pattern(`([a-z,-]+ +)?\d\d:\d\d-\d\d:\d\d`),
	func(_ *reader, text string) (estate.Hours, error) {
		return estate.ParseHours(text)
	})

// addressForm reads the path of a resource in its system; the system is put before it later.
var pathForm = scalarForm("path", pattern(`[^\x00-\x1f]+`), func(_ *reader, text string) (string, error) {
	if strings.Contains(text, "*") {
		return "", fmt.Errorf("%q has a wildcard where one resource is listed; a * in a name is written %%2A", text)
	}
	return estate.CanonicalPath(text)
})
