package splice

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Append adds an item to the list at a path. One value that stands bare becomes a list; where there is none, the value
// is the item, bare.
func (f *File) Append(item *yaml.Node, path ...string) error {
	steps := f.find(path)
	if len(steps) < len(path) {
		return f.Set(item, path...)
	}
	s := steps[len(steps)-1]
	w := f.want(path)
	if list := w.last; list.Kind == yaml.SequenceNode {
		list.Content = append(list.Content, item)
	} else {
		w.set(List(list, item), path)
	}
	return f.proved(w.docs, func() error { return f.append(item, s) })
}

// append adds an item to the list that is a step's value.
func (f *File) append(item *yaml.Node, s step) error {
	n := s.value
	if n.Kind != yaml.SequenceNode {
		start, end := f.Offset(n.Line, n.Column), f.endIn(s.mapping, n, s.key)
		if n.Kind == yaml.MappingNode && n.Style&yaml.FlowStyle == 0 {
			return f.replace(s, List(n, item))
		}
		return f.apply(edit{start, end, "[" + string(f.Bytes[start:end]) + ", " + Flow(item) + "]"})
	}
	if n.Style&yaml.FlowStyle != 0 {
		if len(n.Content) == 0 {
			at := f.Offset(n.Line, n.Column) + 1
			return f.apply(edit{at, at, Flow(item)})
		}
		last := n.Content[len(n.Content)-1]
		end := f.itemEnd(n, last)
		return f.apply(edit{end, end, ", " + Flow(item)})
	}
	last := n.Content[len(n.Content)-1]
	end := f.lineEnd(f.lineAt(max(f.itemEnd(n, last)-1, 0)))
	if end > 0 && f.Bytes[end-1] == '\r' {
		end--
	}
	text := Flow(item)
	if item.Kind == yaml.ScalarNode {
		text = scalar(item)
	}
	return f.apply(edit{end, end, "\n" + strings.Repeat(" ", n.Column-1) + "- " + text})
}

// itemEnd gives where an item of a list ends.
func (f *File) itemEnd(list, item *yaml.Node) int {
	if list.Style&yaml.FlowStyle != 0 {
		return f.flowEnd(f.Offset(item.Line, item.Column))
	}
	return f.end(item, item)
}

// Drop takes an item out of the list at a path, the first that is index; the last one takes the key with it, as Delete
// does.
func (f *File) Drop(index, keep int, path ...string) error {
	steps := f.find(path)
	if len(steps) < len(path) {
		return ErrMissing
	}
	n := steps[len(steps)-1].value
	if n.Kind != yaml.SequenceNode || len(n.Content) == 1 {
		return f.Delete(keep, path...)
	}
	w := f.want(path)
	w.last.Content = slices.Delete(w.last.Content, index, index+1)
	return f.proved(w.docs, func() error { return f.drop(n, n.Content[index]) })
}

// drop takes an item out of a list that has others.
func (f *File) drop(n, item *yaml.Node) error {
	start, end := f.Offset(item.Line, item.Column), f.itemEnd(n, item)
	if n.Style&yaml.FlowStyle != 0 {
		return f.apply(f.cutFlow(n, item, start, end))
	}
	first := f.LineStart(f.lineAt(start)) // the line of the dash
	last := f.lineEnd(f.lineAt(max(end-1, start)))
	return f.apply(edit{first, min(last+1, len(f.Bytes)), ""})
}

// Items gives the items of the list at a path, as the function does.
func (f *File) Items(path ...string) []*yaml.Node {
	return Items(f.Get(path...))
}

// Items gives the items of a list; one value that stands bare is a list of one, and nil a list of none.
func Items(n *yaml.Node) []*yaml.Node {
	switch {
	case n == nil:
		return nil
	case n.Kind == yaml.SequenceNode:
		return n.Content
	}
	return []*yaml.Node{n}
}

// Substitute gives scalars, named by their nodes in this file, other texts.
func (f *File) Substitute(changes map[*yaml.Node]string) error {
	var edits []edit
	var walk func(n *yaml.Node, write func(*yaml.Node) string)
	walk = func(n *yaml.Node, write func(*yaml.Node) string) {
		if n.Style&yaml.FlowStyle != 0 {
			write = flowScalar
		}
		if text, ok := changes[n]; ok && n.Kind == yaml.ScalarNode {
			start := f.Offset(n.Line, n.Column)
			end := start + len(n.Value)
			if n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0 {
				end = f.quoteEnd(start)
			}
			edits = append(edits, edit{start, end, write(&yaml.Node{Kind: yaml.ScalarNode, Value: text, Style: n.Style})})
		}
		for _, c := range n.Content {
			walk(c, write)
		}
	}
	for _, root := range f.roots {
		walk(root, scalar)
	}
	wanted := make([]*yaml.Node, len(f.all))
	for i, n := range f.all {
		wanted[i] = substituted(n, changes)
	}
	return f.proved(wanted, func() error { return f.apply(edits...) })
}

// substituted copies a node with other texts in place of some.
func substituted(n *yaml.Node, changes map[*yaml.Node]string) *yaml.Node {
	out := *n
	if text, ok := changes[n]; ok && n.Kind == yaml.ScalarNode {
		out.Value = text
	}
	out.Content = make([]*yaml.Node, len(n.Content))
	for i, c := range n.Content {
		out.Content[i] = substituted(c, changes)
	}
	return &out
}

// Roots gives the documents that are mappings.
func (f *File) Roots() []*yaml.Node { return f.roots }
