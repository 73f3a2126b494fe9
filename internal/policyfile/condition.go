package policyfile

import (
	"net/netip"
	"slices"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
)

type condition = estate.Condition

// conditionForm reads what must hold of a request. It is a variable filled in below because conditions nest.
var conditionForm = form[*condition]{
	name:   "condition",
	schema: object{"$ref": "#/$defs/condition"},
	read:   func(r *reader, n *yaml.Node) (*condition, bool) { return readCondition(r, n) },
}

var conditionFields []field

func init() {
	conditionFields = append(factTerms(), []field{
		of("network", listOf(prefixForm), "it comes from one of these; a mapped address is IPv4, host bits are an error",
			func(c *condition) *[]netip.Prefix { return &c.Network }),
		of("hours", listOf(hoursForm),
			"the local time is at or after the first and before the second; days are `daily` (or left out), `sat`, `mon,wed`, "+
				"`sat-mon`; one that runs past midnight belongs to the day it begins on",
			func(c *condition) *[]estate.Hours { return &c.Hours }),
		of("context", attributeMatches, "the request's own attribute has this value",
			func(c *condition) *[]estate.Match { return &c.Context }),
		of("subject", tagMatches, "the subject's tag has this value",
			func(c *condition) *[]estate.Match { return &c.Subject }),
		of("resource", tagMatches, "the resource's tag has this value",
			func(c *condition) *[]estate.Match { return &c.Resource }),
		of("same", listOf(textForm), "subject and resource both have the tag, with the same value",
			func(c *condition) *[]string { return &c.Same }),
		of("owner", pointer(flagForm), "the subject owns the resource (`false`: not)",
			func(c *condition) **bool { return &c.Owner }),
		of("any", anyForm, "one of these holds", func(c *condition) *[]condition { return &c.Any }),
		of("not", conditionForm, "this does not hold", func(c *condition) **condition { return &c.Not }),
	}...)
}

// factTerms makes a key for each fact that a condition can ask about.
func factTerms() (out []field) {
	for _, f := range estate.Facts {
		if f.Condition == "" {
			continue
		}
		out = append(out, fieldAt(f.Name, factListForm(f), f.Condition, func(c *condition, values []string) {
			c.Facts = append(c.Facts, estate.FactTerm{Fact: f.Name, Values: values})
		}))
	}
	return out
}

// factListForm reads several ways in which a fact may be, where it has more than two.
func factListForm(f *estate.Fact) form[[]string] {
	switch f.Kind {
	case estate.Choice:
		return listOf(oneOf("way to sign in", f.Words...))
	case estate.Ago:
		return agoForm(f)
	}
	return factForm(f)
}

// agoForm reads within which time something has to have been, as all that is said of an Ago which was.
func agoForm(f *estate.Fact) form[[]string] {
	return as(oneOf("time", f.Words[:len(f.Words)-1]...), func(word string) []string {
		return f.Words[:slices.Index(f.Words, word)+1]
	})
}

var recentForm = agoForm(estate.FactNamed("signed-in-within"))

// factForm reads what is said of a fact.
func factForm(f *estate.Fact) form[[]string] {
	switch f.Kind {
	case estate.YesNo, estate.Carried:
		return as(flagForm, func(yes bool) []string { return []string{estate.YesOrNo(yes)} })
	case estate.Ago:
		return as(oneOf("time", f.Words...), func(word string) []string { return []string{word} })
	case estate.FromNetwork:
		return as(addrForm, func(a netip.Addr) []string { return []string{a.String()} })
	}
	return as(oneOf("way to sign in", f.Words...), func(word string) []string { return []string{word} })
}

var anyForm = form[[]condition]{
	name:   "list of conditions",
	schema: object{"type": "array", "minItems": 1, "items": object{"$ref": "#/$defs/condition"}},
	read: func(r *reader, n *yaml.Node) ([]condition, bool) {
		if n.Kind != yaml.SequenceNode {
			r.wrong(n, "write any: [{…}, {…}]", "any: takes a list of conditions")
			return nil, false
		}
		var out []condition
		for _, c := range r.items(n) {
			if v, ok := readCondition(r, c); ok {
				out = append(out, *v)
			}
		}
		return out, len(out) > 0
	},
}

func readCondition(r *reader, n *yaml.Node) (*condition, bool) {
	var c condition
	before := len(r.errors)
	if !r.fields(conditionFields, &c, n, owner{"a condition", r.at(n)}) {
		return nil, false
	}
	if len(n.Content) == 0 {
		r.wrong(n, "say what must hold, or leave the key out", "the condition is empty")
	}
	return &c, len(r.errors) == before
}
