package policyfile

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/splice"
)

// loader gathers an estate and everything that is wrong with its files.
type loader struct {
	estate   *estate.Estate
	zone     *clock.Zone
	settings settings
	errors   diagnostic.List
	texts    map[string][]byte   // of each YAML file
	lines    map[string][]string // of those that have errors
	// listedPeople are those of inventories, in order: they alone name their groups.
	listedPeople []*estate.Subject
	// fresh names the files whose entries have yet to be resolved, where all other entries are and nothing that they name
	// is gone; nil: all have.
	fresh map[string]bool
	// incomplete says that something with a name could not be read at all: then a name that finds nothing proves
	// nothing, and names are not looked up.
	incomplete bool
	// knownTypes are the types of resource of all kinds, and knownOperations the operations, once someone asks for them.
	knownTypes, knownOperations map[string]bool
}

// reader reads one file's nodes into the loader's estate.
type reader struct {
	*loader
	file string
	text *splice.Text
	bad  map[*yaml.Node]bool // already reported
}

// fail reports an error at a position, with what to write instead ("" for nothing to say).
func (l *loader) fail(p diagnostic.Position, help, format string, args ...any) {
	d := diagnostic.Diagnostic{Severity: diagnostic.Error, Message: fmt.Sprintf(format, args...), Help: help, Position: p}
	if lines := l.linesOf(p.File); p.Line > 0 && p.Line <= len(lines) {
		d.Source = lines[p.Line-1]
	}
	l.errors = append(l.errors, d)
}

// linesOf gives the lines of a YAML file that has been opened.
func (l *loader) linesOf(file string) []string {
	text, opened := l.texts[file]
	if opened && l.lines[file] == nil {
		l.lines[file] = strings.Split(strings.ReplaceAll(string(text), "\r\n", "\n"), "\n")
	}
	return l.lines[file]
}

func (r *reader) at(n *yaml.Node) diagnostic.Position {
	return diagnostic.Position{File: r.file, Line: n.Line, Column: n.Column}
}

// wrong reports an error at a node, once.
func (r *reader) wrong(n *yaml.Node, help, format string, args ...any) {
	if !r.bad[n] {
		r.bad[n] = true
		r.fail(r.at(n), help, format, args...)
	}
}

// scalar gives the text of a scalar as written; what it should be is said when it is something else.
func (r *reader) scalar(n *yaml.Node, should string) (string, bool) {
	if r.bad[n] {
		return "", false
	}
	switch {
	case n.Kind == yaml.ScalarNode:
		return n.Value, true
	case n.Kind == yaml.MappingNode && len(n.Content) == 2 && n.Content[0].Kind == yaml.ScalarNode &&
		n.Content[1].Kind == yaml.ScalarNode:
		key, value := n.Content[0].Value, n.Content[1].Value
		r.wrong(n, fmt.Sprintf("write %s:%s, with no space after the colon", key, value),
			"%q is a key with a value; %s is meant here", key+": "+value, should)
	default:
		r.wrong(n, "", "a %s stands where %s is meant", nodeName(n), should)
	}
	return "", false
}

func nodeName(n *yaml.Node) string {
	switch n.Kind {
	case yaml.SequenceNode:
		return "list"
	case yaml.MappingNode:
		return "set of keys"
	}
	return "single value"
}

// pairs walks a mapping's keys and values; it reports anything but a mapping.
func (r *reader) pairs(n *yaml.Node, should string, each func(key, value *yaml.Node)) bool {
	if r.bad[n] {
		return false
	}
	if n.Kind != yaml.MappingNode {
		r.wrong(n, "", "a %s stands where %s is meant", nodeName(n), should)
		return false
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if key := n.Content[i]; !r.bad[key] {
			each(key, n.Content[i+1])
		}
	}
	return true
}

// items gives the entries of a list, or the one value that stands for a list of one.
func (r *reader) items(n *yaml.Node) []*yaml.Node {
	if r.bad[n] {
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		return []*yaml.Node{n}
	}
	if len(n.Content) == 0 {
		r.wrong(n, "leave the key out, or name something", "the list is empty")
	}
	return n.Content
}

// parse reads a scalar with one of the estate's parsers.
func parse[V any](r *reader, n *yaml.Node, should string, read func(string) (V, error)) (V, bool) {
	var none V
	text, ok := r.scalar(n, should)
	if !ok {
		return none, false
	}
	v, err := read(text)
	if err != nil {
		help := ""
		if rest, found := strings.CutPrefix(text, "!"); found {
			help = "write not " + strings.TrimSpace(rest)
		}
		r.wrong(n, help, "%s", err)
		return none, false
	}
	return v, true
}

// check finds what no file may have, whatever it is about: anchors, aliases, tags, merge keys, missing values,
// keys that occur twice, and too much of anything. deep tells that the nesting is hopeless: then none of the nodes
// around it is read.
func (r *reader) check(n *yaml.Node, depth int) (deep bool) {
	if depth > MaxDepth {
		r.wrong(n, "", "this is nested deeper than %d levels", MaxDepth)
		return true
	}
	switch {
	case n.Kind == yaml.AliasNode:
		r.wrong(n, fmt.Sprintf("a value that begins with * is written in quotes: %q; to repeat something, write it out",
			"*"+n.Value), "aliases are not used")
		return false
	case n.Anchor != "":
		r.wrong(n, "leave &"+n.Anchor+" out", "anchors are not used")
	case n.Style&yaml.TaggedStyle != 0:
		r.taggedWrong(n)
	case n.Kind == yaml.ScalarNode && n.Tag == "!!null":
		r.wrong(n, "write a value, or take the key out", "the value is missing")
	}
	if len(n.Content) > 2*MaxEntries {
		r.wrong(n, "move people and resources into an inventory", "a %s has more than %d entries", nodeName(n), MaxEntries)
		return true
	}
	if n.Kind == yaml.MappingNode {
		seen := make(map[string]*yaml.Node, len(n.Content)/2)
		for i := 0; i+1 < len(n.Content); i += 2 {
			key := n.Content[i]
			switch {
			case key.Kind == yaml.ScalarNode && key.Tag == "!!merge":
				r.wrong(key, "write the keys out", "merge keys are not used")
			case key.Kind != yaml.ScalarNode && key.Kind != yaml.AliasNode:
				r.wrong(key, "", "a %s can't be a key", nodeName(key))
			case key.Kind == yaml.ScalarNode && seen[key.Value] != nil:
				r.wrong(key, fmt.Sprintf("the first stands in line %d; keep one of them", seen[key.Value].Line),
					"the key %q occurs twice", key.Value)
			default:
				seen[key.Value] = key
			}
		}
	}
	for _, c := range n.Content {
		if r.check(c, depth+1) {
			r.bad[n] = true
			return true
		}
	}
	return false
}

// tainted says whether a node or anything in it was reported.
func (r *reader) tainted(n *yaml.Node) bool {
	return r.bad[n] || len(r.bad) > 0 && slices.ContainsFunc(n.Content, r.tainted)
}

func (r *reader) taggedWrong(n *yaml.Node) {
	tag := n.Tag
	if name, local := strings.CutPrefix(tag, "!"); local && !strings.HasPrefix(name, "!") {
		if n.Value != "" {
			name += " " + n.Value
		}
		r.wrong(n, "write not "+strings.TrimSpace(name), "%q takes nothing away: a ! is a tag in YAML, and tags are not used",
			tag)
		return
	}
	r.wrong(n, "leave it out; values are text as written", "the tag %s is not used", tag)
}
