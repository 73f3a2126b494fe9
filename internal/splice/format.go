package splice

import (
	"bytes"
	"errors"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// ErrForm says that a file can't be brought into form without losing something; it is left as it is.
var ErrForm = errors.New("it is written in a way that can't be brought into form; it is left as it is")

// Format brings a file into one form: indents of two, keys of entries in the order that order gives for their section,
// short lists on one line. Every comment stays with what it is about; whether an entry stands in braces or not stays as
// it is, as long as it fits. The meaning is the same: if it were not, the error is ErrForm.
func (f *File) Format(order func(section string) []string) ([]byte, error) {
	if f.crlf {
		unix := &File{}
		if err := unix.read(bytes.ReplaceAll(f.Bytes, []byte("\r\n"), []byte("\n"))); err != nil {
			return nil, err
		}
		out, err := unix.Format(order)
		return bytes.ReplaceAll(out, []byte("\n"), []byte("\r\n")), err
	}
	w := former{File: f, order: order}
	at := 1
	for _, root := range f.roots {
		if root.Style&yaml.FlowStyle != 0 || len(root.Content) == 0 {
			return nil, ErrForm
		}
		w.raw(at, root.Content[0].Line)
		at = w.mapping(root, layout{from: root.Content[0].Line, below: func(key string) ordering {
			return ordering{keys: order(key)}
		}})
	}
	w.raw(at, len(f.starts)+1)
	out := append(bytes.TrimRight(w.out.Bytes(), "\n"), '\n')
	if len(bytes.TrimSpace(out)) == 0 {
		return f.Bytes, nil
	}
	again, err := Parse(out)
	if err != nil || !same(f.roots, again.roots) || !slices.Equal(comments(f.Text), comments(again.Text)) {
		return nil, ErrForm
	}
	return out, nil
}

// ordering says how the entries below a key are ordered: keys is the order within each of them.
type ordering struct{ keys []string }

type former struct {
	*File
	order func(string) []string
	out   bytes.Buffer
}

// raw copies lines as they are, from one until another; several blank ones become one.
func (w *former) raw(from, to int) { w.between(from, to, -1) }

// between copies comments and blank lines, indented anew.
func (w *former) between(from, to, indent int) {
	for line := from; line < to && line <= len(w.starts); line++ {
		text := string(w.line(line))
		switch {
		case strings.TrimSpace(text) == "":
			if line == len(w.starts) || bytes.HasSuffix(w.out.Bytes(), []byte("\n\n")) || w.out.Len() == 0 {
				continue
			}
		case indent >= 0 && strings.HasPrefix(strings.TrimSpace(text), "#"):
			text = strings.Repeat(" ", indent) + strings.TrimSpace(text)
		}
		w.out.WriteString(text + "\n")
	}
}

// chunk is a key of a mapping with the comments above it.
type chunk struct {
	key, value *yaml.Node
	from       int // the first line of what stands above it
	last       int // its last line
}

// chunks takes a block mapping apart, from a line on.
func (w *former) chunks(n *yaml.Node, from int) []chunk {
	var out []chunk
	for i := 0; i+1 < len(n.Content); i += 2 {
		_, end := w.Extent(n, n.Content[i])
		last := w.lineAt(max(end-1, 0))
		out = append(out, chunk{n.Content[i], n.Content[i+1], from, last})
		from = last + 1
	}
	return out
}

// layout is how a mapping is written: how far in, from which line on it stands, the order of its keys, nil for theirs,
// and the order within.
type layout struct {
	indent, from int
	keys         []string
	below        func(key string) ordering
}

// mapping writes a block mapping and gives the line behind it.
func (w *former) mapping(n *yaml.Node, l layout) int {
	all := w.chunks(n, l.from)
	end := l.from
	if len(all) > 0 {
		end = all[len(all)-1].last + 1
	}
	if l.keys != nil {
		slices.SortStableFunc(all, func(a, b chunk) int { return rank(l.keys, a.key.Value) - rank(l.keys, b.key.Value) })
	}
	for _, c := range all {
		w.between(c.from, c.key.Line, l.indent)
		w.entry(n, c, l.indent, l.below)
	}
	return end
}

func rank(keys []string, key string) int {
	if i := slices.Index(keys, key); i >= 0 {
		return i
	}
	return len(keys)
}

// entry writes one key with its value.
func (w *former) entry(in *yaml.Node, c chunk, indent int, below func(string) ordering) {
	margin := strings.Repeat(" ", indent)
	start := w.Offset(c.key.Line, c.key.Column)
	_, end := w.Extent(in, c.key)
	valueEnd := w.end(c.value, c.key)
	tail := "" // a comment behind the value
	single := w.lineAt(start) == w.lineAt(max(end-1, start))
	if single && valueEnd < end {
		tail = string(bytes.TrimRight(w.Bytes[valueEnd:end], " \t"))
	}
	isBlock := c.value.Style&yaml.FlowStyle == 0 && c.value.Kind != yaml.ScalarNode
	text := w.Bytes[start:end]
	switch {
	case c.value.Kind == yaml.MappingNode && isBlock && below != nil:
		head := bytes.TrimRight(w.Bytes[w.keyEnd(c.key):w.lineEnd(c.key.Line)], " \t")
		w.out.WriteString(margin + flowKeyOf(c.key) + ":" + string(head) + "\n")
		order := below(c.key.Value)
		w.mapping(c.value, layout{indent + 2, c.key.Line + 1, inner(order, indent), nextBelow(order, indent)})
	case hasComment(text[:len(text)-len(tail)]) || c.value.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 ||
		c.value.Kind == yaml.ScalarNode && !single:
		w.shift(c, indent)
	default:
		value := c.value
		if value.Kind == yaml.MappingNode && value.Style&yaml.FlowStyle != 0 && indent == 2 && below != nil {
			value = sorted(value, below(c.key.Value).keys)
		}
		lines := strings.SplitN(Entry(c.key.Value, value, indent), "\n", 2)
		if value.Kind == yaml.ScalarNode {
			lines = []string{flowKeyOf(c.key) + ": " + string(w.Bytes[w.Offset(value.Line, value.Column):valueEnd])}
		}
		w.out.WriteString(margin + lines[0] + tail + "\n")
		if len(lines) > 1 {
			w.out.WriteString(lines[1] + "\n")
		}
	}
}

// nextBelow says how the mapping within a section, and then an entry, is ordered.
func nextBelow(order ordering, indent int) func(string) ordering {
	if indent == 0 {
		return func(string) ordering { return order }
	}
	return nil
}

// inner gives the order of an entry's own keys; those of a section stay in theirs.
func inner(order ordering, indent int) []string {
	if indent == 2 {
		return order.keys
	}
	return nil
}

func flowKeyOf(key *yaml.Node) string { return scalar(Scalar(key.Value)) }

// sorted gives a mapping with its keys in order.
func sorted(n *yaml.Node, keys []string) *yaml.Node {
	type pair struct{ key, value *yaml.Node }
	var all []pair
	for i := 0; i+1 < len(n.Content); i += 2 {
		all = append(all, pair{n.Content[i], n.Content[i+1]})
	}
	slices.SortStableFunc(all, func(a, b pair) int { return rank(keys, a.key.Value) - rank(keys, b.key.Value) })
	out := *n
	out.Content = nil
	for _, p := range all {
		out.Content = append(out.Content, p.key, p.value)
	}
	return &out
}

// shift writes an entry's lines as they are, moved to an indent.
func (w *former) shift(c chunk, indent int) {
	by := indent - (c.key.Column - 1)
	for line := c.key.Line; line <= c.last; line++ {
		text := string(w.line(line))
		if trimmed := strings.TrimLeft(text, " "); trimmed != "" {
			text = strings.Repeat(" ", max(0, len(text)-len(trimmed)+by)) + trimmed
		}
		w.out.WriteString(text + "\n")
	}
}

// hasComment says whether a comment stands in a text, or may.
func hasComment(text []byte) bool {
	quote := byte(0)
	for i, c := range text {
		switch {
		case quote != 0:
			if c == quote && (quote == '\'' || text[i-1] != '\\') {
				quote = 0
			}
		case (c == '"' || c == '\'') && (i == 0 || bytes.IndexByte([]byte(" ,[{:\n"), text[i-1]) >= 0):
			quote = c
		case c == '#' && (i == 0 || bytes.IndexByte([]byte(" \t\n"), text[i-1]) >= 0):
			return true
		}
	}
	return false
}

// comments lists the comments of a text, sorted.
func comments(t *Text) []string {
	var out []string
	for line := range t.starts {
		text := t.line(line + 1)
		for i := range text {
			if text[i] == '#' && hasComment(text[:i+1]) {
				out = append(out, string(text[i:]))
				break
			}
		}
	}
	slices.Sort(out)
	return out
}

// same says whether documents say the same, in whatever order their keys stand.
func same(a, b []*yaml.Node) bool {
	return slices.EqualFunc(a, b, sameNode)
}

func sameNode(a, b *yaml.Node) bool {
	if a.Kind != b.Kind || len(a.Content) != len(b.Content) {
		return false
	}
	switch a.Kind {
	case yaml.ScalarNode:
		return a.Value == b.Value && a.Tag == b.Tag
	case yaml.MappingNode:
		for i := 0; i+1 < len(a.Content); i += 2 {
			k := keyIn(b, a.Content[i].Value)
			if k < 0 || !sameNode(a.Content[i+1], b.Content[k+1]) {
				return false
			}
		}
		return true
	}
	return slices.EqualFunc(a.Content, b.Content, sameNode)
}
