package splice

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// File is a YAML file that is being changed. Each change is made at once; lines and columns that are given to it are
// those of the text as it was when the file was parsed or last changed.
type File struct {
	*Text
	roots []*yaml.Node // the documents that are mappings
	all   []*yaml.Node // what every document says
	crlf  bool         // its lines end so

	piecewise bool // only the entry that changes is read again
}

// Parse reads a YAML file, which may be empty.
func Parse(text []byte) (*File, error) {
	f := &File{crlf: bytes.Contains(text, []byte("\r\n"))}
	return f, f.read(text)
}

// errBreak says that lines can't be counted as every reader of YAML counts them.
var errBreak = errors.New("a line ends with something else than a line feed, which not every reader takes for its end")

func (f *File) read(text []byte) error {
	if bytes.ContainsAny(bytes.ReplaceAll(text, []byte("\r\n"), nil), "\r\u0085\u2028\u2029") {
		return errBreak
	}
	loader, err := yaml.NewLoader(bytes.NewReader(text))
	if err != nil {
		return err
	}
	var roots, all []*yaml.Node
	for {
		var root yaml.Node
		if err := loader.Load(&root); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return err
		}
		if root.Kind != yaml.DocumentNode || len(root.Content) != 1 {
			all = append(all, &root)
			continue
		}
		all = append(all, root.Content[0])
		if root.Content[0].Kind == yaml.MappingNode {
			roots = append(roots, root.Content[0])
		}
	}
	f.Text, f.roots, f.all = NewText(text), roots, all
	return nil
}

// edit replaces the bytes from Start until End.
type edit struct {
	start, end int
	text       string
}

// apply makes edits that do not overlap. One of a text that was misread may lie beyond its end; the proof refuses it.
func (f *File) apply(edits ...edit) error {
	slices.SortStableFunc(edits, func(a, b edit) int { return a.start - b.start })
	var out []byte
	at := 0
	for _, e := range edits {
		text := e.text
		if f.crlf {
			text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\n", "\r\n")
		}
		out = append(append(out, f.Bytes[at:min(max(at, e.start), len(f.Bytes))]...), text...)
		at = min(max(at, e.end), len(f.Bytes))
	}
	out = append(out, f.Bytes[at:]...)
	if f.piecewise && len(edits) > 0 {
		if e, ok := f.entryOf(edits[0].start, edits[len(edits)-1].end); ok && f.readEntry(e, out) {
			return nil
		}
	}
	return f.read(out)
}

// step is a key on the way to a value, with the mapping it stands in.
type step struct {
	mapping, key, value *yaml.Node
}

// find follows a path of keys as far as it leads.
func (f *File) find(path []string) []step {
	var best []step
	for _, root := range f.roots {
		var steps []step
		at := root
		for _, key := range path {
			i := keyIn(at, key)
			if i < 0 {
				break
			}
			steps = append(steps, step{at, at.Content[i], at.Content[i+1]})
			at = at.Content[i+1]
		}
		if len(steps) > len(best) {
			best = steps
		}
	}
	return best
}

func keyIn(n *yaml.Node, key string) int {
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == key {
				return i
			}
		}
	}
	return -1
}

// Get gives the value at a path; nil if there is none.
func (f *File) Get(path ...string) *yaml.Node {
	if steps := f.find(path); len(steps) == len(path) && len(path) > 0 {
		return steps[len(steps)-1].value
	}
	return nil
}

// Keys lists the keys of the mapping at a path.
func (f *File) Keys(path ...string) []string {
	n := f.Get(path...)
	if n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	var out []string
	for i := 0; i < len(n.Content); i += 2 {
		out = append(out, n.Content[i].Value)
	}
	return out
}

// Written gives the text of the key at a path with its value, without what stands before it on its line; "" if there is
// none.
func (f *File) Written(path ...string) string {
	steps := f.find(path)
	if len(steps) < len(path) || len(path) == 0 {
		return ""
	}
	last := steps[len(steps)-1]
	start, end := f.Extent(last.mapping, last.key)
	return strings.TrimSpace(string(f.Bytes[start:end]))
}

// ErrMissing says that a path leads nowhere.
var ErrMissing = errors.New("there is no such key")

// Set gives the key at a path a value: in place of the one it has, or as a new key after the others. Keys on the way
// are made if need be.
func (f *File) Set(value *yaml.Node, path ...string) error {
	w := f.want(path)
	w.set(value, path)
	return f.proved(w.docs, func() error { return f.set(value, path) })
}

func (f *File) set(value *yaml.Node, path []string) error {
	steps := f.find(path)
	if len(steps) == len(path) {
		return f.replace(steps[len(steps)-1], value)
	}
	for i := len(path) - 1; i > len(steps); i-- {
		value = Map(Scalar(path[i]), value)
	}
	key := path[len(steps)]
	if len(steps) == 0 {
		return f.addSection(key, value)
	}
	return f.insert(steps[len(steps)-1], key, value)
}

// SetBehind gives a key of the outermost mapping a value, in place of the one it has, or as a new key behind the last
// of some that are there; behind all where none of them is.
func (f *File) SetBehind(value *yaml.Node, key string, others []string) error {
	var last []step
	for _, other := range others {
		if steps := f.find([]string{other}); len(steps) == 1 && (last == nil || steps[0].key.Line > last[0].key.Line) {
			last = steps
		}
	}
	if f.Get(key) != nil || last == nil || last[0].mapping.Style&yaml.FlowStyle != 0 {
		return f.Set(value, key)
	}
	s := last[0]
	w := f.want([]string{s.key.Value})
	at := w.steps[0].mapping
	i := slices.Index(at.Content, w.steps[0].key) + 2
	at.Content = slices.Insert(at.Content, i, Scalar(key), value)
	return f.proved(w.docs, func() error {
		end := f.behind(s.mapping, s.key)
		return f.apply(edit{end, end, "\n" + Entry(key, value, 0)})
	})
}

// replace writes another value of a key.
func (f *File) replace(s step, value *yaml.Node) error {
	start := f.Offset(s.value.Line, s.value.Column)
	end := f.endIn(s.mapping, s.value, s.key)
	switch {
	case s.mapping.Style&yaml.FlowStyle != 0:
		return f.apply(edit{start, end, Flow(value)})
	case s.value.Line > s.key.Line: // the value began on a line of its own
		_, end = f.Extent(s.mapping, s.key)
		return f.apply(edit{f.Offset(s.key.Line, s.key.Column), end, Entry(s.key.Value, value, s.key.Column-1)})
	case value.Kind == yaml.ScalarNode:
		return f.apply(edit{start, end, scalar(value)})
	case len(Entry(s.key.Value, value, s.key.Column-1)) <= Wide:
		return f.apply(edit{start, end, Flow(value)})
	}
	_, end = f.Extent(s.mapping, s.key)
	return f.apply(edit{f.Offset(s.key.Line, s.key.Column), end, Entry(s.key.Value, value, s.key.Column-1)})
}

// insert adds a key to the mapping that is a step's value.
func (f *File) insert(s step, key string, value *yaml.Node) error {
	n := s.value
	if n.Kind != yaml.MappingNode {
		return fmt.Errorf("%s is no set of keys", s.key.Value)
	}
	if n.Style&yaml.FlowStyle != 0 {
		return f.insertFlow(s, key, value)
	}
	last := n.Content[len(n.Content)-2]
	end := f.behind(n, last)
	margin := strings.Repeat(" ", last.Column-1)
	apart := ""
	if k := len(n.Content); k >= 4 { // as the ones before stand apart
		before := n.Content[k-4]
		if _, e := f.Extent(n, before); f.lineAt(e)+1 < last.Line && len(f.line(f.lineAt(e)+1)) == 0 {
			apart = "\n"
		}
	}
	return f.apply(edit{end, end, "\n" + apart + margin + Entry(key, value, last.Column-1)})
}

// behind gives the end of the last line of a key with its value, behind a comment on it.
func (f *File) behind(in, key *yaml.Node) int {
	_, end := f.Extent(in, key)
	end = f.lineEnd(f.lineAt(max(end-1, 0)))
	if end > 0 && f.Bytes[end-1] == '\r' {
		end--
	}
	return end
}

// insertFlow adds a key to a mapping in braces; one that gets too long is written over several lines, unless comments
// stand in it.
func (f *File) insertFlow(s step, key string, value *yaml.Node) error {
	n := s.value
	start := f.Offset(n.Line, n.Column)
	end := f.bracketEnd(start)
	text := flowKey(key) + ": " + Flow(value)
	line := f.lineAt(start)
	comments := bytes.ContainsRune(f.Bytes[start:end], '#')
	if s.mapping.Style&yaml.FlowStyle == 0 && !comments && len(n.Content) > 0 &&
		len([]rune(string(f.line(line))))+len([]rune(text))+2 > Wide+10 && f.lineAt(end-1) == line {
		grown := *n
		grown.Content = append(slices.Clone(n.Content), Scalar(key), value)
		var b bytes.Buffer
		block(&b, &grown, s.key.Column+1)
		tail := "" // a comment behind the braces stays on the first line
		if rest := bytes.TrimSpace(f.Bytes[end:f.lineEnd(line)]); len(rest) > 0 {
			tail = " " + string(rest)
		}
		return f.apply(edit{f.keyEnd(s.key), f.lineEnd(line), tail + b.String()})
	}
	if len(n.Content) == 0 {
		return f.apply(edit{start + 1, end - 1, text})
	}
	_, after := f.Extent(n, n.Content[len(n.Content)-2])
	return f.apply(edit{after, after, ", " + text})
}

// flowKey writes a key in braces.
func flowKey(key string) string { return flowScalar(Scalar(key)) }

// keyEnd gives the place behind the colon of a key.
func (f *File) keyEnd(key *yaml.Node) int {
	at := f.endInFlow(key)
	start := f.Offset(key.Line, key.Column)
	if key.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) == 0 {
		at = start + len(key.Value)
	}
	for at < len(f.Bytes) && f.Bytes[at] != ':' {
		at++
	}
	return at + 1
}

// addSection adds a key to the outermost mapping, which may not be there yet.
func (f *File) addSection(key string, value *yaml.Node) error {
	text := Entry(key, value, 0)
	if value.Kind == yaml.MappingNode && len(value.Content) > 0 { // a section always has its entries on lines of their own
		var b bytes.Buffer
		b.WriteString(key + ":")
		block(&b, value, 2)
		text = b.String()
	}
	end := len(f.Bytes)
	if n := len(f.roots); n > 0 {
		root := f.roots[n-1]
		if root.Style&yaml.FlowStyle != 0 {
			return fmt.Errorf("the file is written in braces")
		}
		_, end = f.Extent(root, root.Content[len(root.Content)-2])
		end = f.lineEnd(f.lineAt(max(end-1, 0)))
	}
	rest := string(f.Bytes[end:])
	head := strings.TrimRight(string(f.Bytes[:end]), "\n")
	if head != "" {
		text = "\n\n" + text
	}
	if strings.TrimSpace(rest) == "" {
		rest = "\n"
		return f.apply(edit{len(head), len(f.Bytes), text + rest})
	}
	return f.apply(edit{len(head), end, text})
}

// Delete takes a key out; mappings on the way that are left empty go with it, down to the path's first keep keys.
func (f *File) Delete(keep int, path ...string) error {
	steps := f.find(path)
	if len(steps) < len(path) {
		return ErrMissing
	}
	n := len(steps) - 1
	for n > keep && len(steps[n].mapping.Content) == 2 {
		n--
	}
	w := f.want(path)
	w.cut(n)
	return f.proved(w.docs, func() error { return f.delete(steps, n) })
}

// delete takes the key of a step out.
func (f *File) delete(steps []step, n int) error {
	if n == 0 && len(steps[0].mapping.Content) == 2 { // nothing is left of the document
		start, end := f.Extent(steps[0].mapping, steps[0].key)
		return f.apply(edit{start, min(end+1, len(f.Bytes)), ""})
	}
	return f.cut(steps[n])
}

// cut takes a key with its value out of a mapping that has others.
func (f *File) cut(s step) error {
	start, end := f.Extent(s.mapping, s.key)
	if s.mapping.Style&yaml.FlowStyle != 0 {
		return f.apply(f.cutFlow(s.mapping, s.key, start, end))
	}
	return f.apply(f.cutLines(start, end))
}

// cutLines takes whole lines out, if nothing stands before what begins at start on its line.
func (f *File) cutLines(start, end int) edit {
	first := f.LineStart(f.lineAt(start))
	if strings.TrimSpace(string(f.Bytes[first:start])) != "" { // the first key of a mapping within a list
		next := end
		for next < len(f.Bytes) && bytes.IndexByte([]byte(" \r\n"), f.Bytes[next]) >= 0 {
			next++
		}
		return edit{start, next, ""}
	}
	next := min(f.lineEnd(f.lineAt(max(end-1, start)))+1, len(f.Bytes))
	if bytes.HasSuffix(f.Bytes[:first], []byte("\n\n")) && !f.keepsBlankLines() {
		switch { // what stood apart before and behind is not twice as far apart
		case next == len(f.Bytes):
			first--
		case f.Bytes[next] == '\n':
			next++
		}
	}
	return edit{first, next, ""}
}

// keepsBlankLines says whether some text may count the empty lines behind it (YAML 1.2.2, section 8.1.1.2).
func (f *File) keepsBlankLines() bool {
	return bytes.Contains(f.Bytes, []byte("|+")) || bytes.Contains(f.Bytes, []byte(">+"))
}

// cutFlow takes one of several parts out of braces or brackets.
func (f *File) cutFlow(in, part *yaml.Node, start, end int) edit {
	if part == in.Content[0] {
		at := end
		for at < len(f.Bytes) && f.Bytes[at] != ',' {
			at++
		}
		at++
		for at < len(f.Bytes) && f.Bytes[at] == ' ' {
			at++
		}
		if len(in.Content) == 1 || in.Kind == yaml.MappingNode && len(in.Content) == 2 {
			return edit{start, end, ""}
		}
		if at < len(f.Bytes) && f.Bytes[at] == '#' && f.Bytes[at-1] == ' ' {
			at-- // a comment has a space before it
		}
		return edit{start, at, ""}
	}
	at := start - 1
	for at > 0 && f.Bytes[at] != ',' {
		at--
	}
	return edit{at, end, ""}
}

// RenameKey gives a key another name.
func (f *File) RenameKey(name string, path ...string) error {
	steps := f.find(path)
	if len(steps) < len(path) {
		return ErrMissing
	}
	s := steps[len(steps)-1]
	start := f.Offset(s.key.Line, s.key.Column)
	end := start + len(s.key.Value)
	if s.key.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0 {
		end = f.quoteEnd(start)
	}
	w := f.want(path)
	w.steps[len(steps)-1].key.Value = name
	return f.proved(w.docs, func() error {
		return f.apply(edit{start, end, scalarIn(s.mapping, Scalar(name))})
	})
}
