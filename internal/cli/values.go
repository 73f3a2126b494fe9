package cli

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// values are the flags by which the keys of an entry are given.
type values struct {
	section policyfile.Section
	given   map[string]*[]string
	command *cobra.Command
}

// valueFlags gives a command a flag for each key of a section's entries.
func (a *app) valueFlags(c *cobra.Command, s policyfile.Section) *values {
	v := &values{section: s, given: map[string]*[]string{}, command: c}
	for _, f := range s.Fields {
		if c.Flags().Lookup(f.Name) != nil {
			continue
		}
		given := new([]string)
		v.given[f.Name] = given
		flag := c.Flags().VarPF(keyFlag{given, metavar(f)}, f.Name, "", strings.ReplaceAll(f.Doc, "`", "'"))
		if f.Shape == policyfile.OfFlag {
			flag.NoOptDefVal = "true"
		}
		if len(f.Words) > 0 {
			_ = c.RegisterFlagCompletionFunc(f.Name, cobra.FixedCompletions(f.Words, cobra.ShellCompDirectiveNoFileComp))
		} else if len(f.Names) > 0 {
			_ = c.RegisterFlagCompletionFunc(f.Name, a.completeNames(f.Names))
		}
	}
	return v
}

// keyFlag takes the value of a key, each time it is given.
type keyFlag struct {
	given *[]string
	shape string
}

func (f keyFlag) String() string { return "" }
func (f keyFlag) Type() string   { return f.shape }
func (f keyFlag) Set(text string) error {
	*f.given = append(*f.given, text)
	return nil
}

// metavar names a flag's value.
func metavar(f policyfile.Field) string {
	switch f.Shape {
	case policyfile.OfFlag:
		return "yes"
	case policyfile.OfList:
		return "list"
	case policyfile.OfKeys:
		return "k=v"
	case policyfile.OfNumber:
		return "number"
	}
	return "text"
}

// said lists the keys that were given, in the order of the table.
func (v *values) said() []policyfile.Field {
	var out []policyfile.Field
	for _, f := range v.section.Fields {
		if given := v.given[f.Name]; given != nil && v.command.Flags().Changed(f.Name) {
			out = append(out, f)
		}
	}
	return out
}

// any says whether any key was given.
func (v *values) any() bool { return len(v.said()) > 0 }

// body gives the keys and values of a new entry.
func (v *values) body() (*yaml.Node, error) {
	out := splice.Map()
	for _, f := range v.said() {
		n, err := v.value(f)
		if err != nil {
			return nil, err
		}
		if n != nil {
			out.Content = append(out.Content, splice.Scalar(v.key(f, n)), n)
		}
	}
	return out, nil
}

// key is the word under which a value stands: a grant has a role, or roles.
func (v *values) key(f policyfile.Field, n *yaml.Node) string {
	if v.section.Name == "grants" && f.Name == "role" && n.Kind == yaml.SequenceNode {
		return "roles"
	}
	return f.Name
}

// value reads what was given for a key; nil where it is empty.
func (v *values) value(f policyfile.Field) (*yaml.Node, error) {
	n, err := valueOf(f, *v.given[f.Name])
	if err != nil {
		return nil, fmt.Errorf("--%s: %w", f.Name, err)
	}
	return n, nil
}

func valueOf(f policyfile.Field, texts []string) (*yaml.Node, error) {
	last := texts[len(texts)-1]
	switch f.Shape {
	case policyfile.OfList:
		items, err := itemsOf(texts)
		switch {
		case err != nil || len(items) == 0:
			return nil, err
		case len(items) == 1:
			return items[0], nil
		}
		return splice.List(items...), nil
	case policyfile.OfKeys:
		var all []string
		for _, t := range texts {
			if strings.TrimSpace(t) != "" {
				all = append(all, t)
			}
		}
		if len(all) == 0 {
			return nil, nil
		}
		return keysOf(strings.Join(all, ", "))
	case policyfile.OfFlag:
		switch last {
		case "", "false", "no":
			return nil, nil
		case "true", "yes":
			return splice.Scalar("true"), nil
		}
		return nil, fmt.Errorf("%q is neither yes nor no", last)
	}
	if last == "" {
		return nil, nil
	}
	n := splice.Scalar(last)
	if f.Name == "name" || f.Name == "title" || f.Name == "about" || f.Name == "why" {
		n.Style = yaml.DoubleQuotedStyle // a text, whatever it looks like
	}
	return n, nil
}

// itemsOf takes lists apart at their commas, those within brackets and quotes left alone.
func itemsOf(texts []string) ([]*yaml.Node, error) {
	var out []*yaml.Node
	for _, text := range texts {
		for _, item := range splitList(text) {
			if item == "" {
				continue
			}
			n, err := itemOf(item)
			if err != nil {
				return nil, err
			}
			out = append(out, n)
		}
	}
	return out, nil
}

// itemOf reads a value, as in a file where it begins with a brace, a bracket or a quote.
func itemOf(text string) (*yaml.Node, error) {
	if text == "" || !strings.ContainsRune("{[\"'", rune(text[0])) {
		return splice.Scalar(text), nil
	}
	n, err := splice.Value(text)
	if err != nil {
		return nil, fmt.Errorf("%q can't be read: %w", text, err)
	}
	return n, nil
}

func splitList(text string) []string {
	var out []string
	depth, quote, from := 0, rune(0), 0
	for i, c := range text {
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			depth--
		case c == ',' && depth == 0:
			out = append(out, strings.TrimSpace(text[from:i]))
			from = i + 1
		}
	}
	return append(out, strings.TrimSpace(text[from:]))
}

var assignment = regexp.MustCompile(`^[\p{L}\p{Nd}][^=:{}\[\] ]*=`)

// keysOf reads keys with values: k=v,k=v or as they stand in a file, with or without the braces.
func keysOf(text string) (*yaml.Node, error) {
	text = strings.TrimSpace(text)
	if parts := splitList(text); !slices.ContainsFunc(parts, func(p string) bool { return !assignment.MatchString(p) }) {
		out := splice.Map()
		for _, p := range parts {
			key, value, _ := strings.Cut(p, "=")
			n, err := itemOf(value)
			if err != nil {
				return nil, err
			}
			out.Content = append(out.Content, splice.Scalar(key), n)
		}
		return out, nil
	}
	braced := text
	if !strings.HasPrefix(text, "{") {
		braced = "{" + text + "}"
	}
	n, err := splice.Value(braced)
	bare := func(c *yaml.Node) bool { return c.Tag == "!!null" && c.Value == "" } // a key that stands alone
	if err != nil || n.Kind != yaml.MappingNode || slices.ContainsFunc(n.Content, bare) {
		return nil, fmt.Errorf("%q names no keys with values; write key=value,key=value, or as in a file: {key: value}", text)
	}
	return n, nil
}

// signs tells apart what a list is to have more, and what it is to have no more; replaced is true where items have
// no sign.
func signs(items []*yaml.Node) (add, drop []*yaml.Node, replaced bool, err error) {
	for _, n := range items {
		sign := ""
		if n.Kind == yaml.ScalarNode && n.Style == 0 && len(n.Value) > 1 {
			sign = n.Value[:1]
		}
		if sign != "+" && sign != "-" {
			replaced = true
			continue
		}
		item, err := itemOf(n.Value[1:])
		if err != nil {
			return nil, nil, false, err
		}
		if sign == "+" {
			add = append(add, item)
		} else {
			drop = append(drop, item)
		}
	}
	if replaced && len(add)+len(drop) > 0 {
		return nil, nil, false, errors.New("write + or - before every item, or before none: " +
			"with a sign items are added and taken out, without one they replace what is there")
	}
	return add, drop, replaced, nil
}
