package splice

import (
	"slices"
	"sort"

	"go.yaml.in/yaml/v4"
)

// Piecewise makes several changes, one after the other. Of a file that has its entries in sections, each change reads
// again the entry that it changes and no other, so that a thousand changes need not read the file a thousand times. In
// the end the whole file is read, and must say what its pieces said; else, and where a change fails, it is as it was.
func (f *File) Piecewise(changes func() error) error {
	text := f.Bytes
	f.piecewise = true
	err := changes()
	f.piecewise = false
	pieces := f.all
	if err == nil {
		err = f.read(f.Bytes)
	}
	if err == nil && !slices.EqualFunc(said(f.all), said(pieces), equal) {
		err = ErrFault
	}
	if err != nil {
		_ = f.read(text) // as when it was parsed
	}
	return err
}

// entryAt is an entry of a section, from the first of its lines until the first behind it.
type entryAt struct {
	root, section *yaml.Node
	in, at        int // where the section stands in the root, and the entry in the section
	first, behind int // lines
}

// entryOf finds the entry whose lines hold all that stands from one byte until another; false if there is none, or its
// file is not plainly one of sections.
func (f *File) entryOf(start, end int) (e entryAt, ok bool) {
	if len(f.all) != 1 || len(f.roots) != 1 || !plainBlock(f.roots[0]) {
		return e, false
	}
	e.root = f.roots[0]
	line := f.lineAt(start)
	last := len(f.starts) + 1
	if e.in, e.behind, ok = keyOver(e.root, line, last); !ok || !plainBlock(e.root.Content[e.in+1]) {
		return e, false
	}
	e.section = e.root.Content[e.in+1]
	if e.at, e.behind, ok = keyOver(e.section, line, e.behind); !ok {
		return e, false
	}
	e.first = e.section.Content[e.at].Line
	return e, e.first > e.root.Content[e.in].Line && end <= f.LineStart(e.behind)
}

func plainBlock(n *yaml.Node) bool {
	return n.Kind == yaml.MappingNode && n.Style&yaml.FlowStyle == 0 && n.Anchor == ""
}

// keyOver finds the last key of a mapping that begins on a line or before it, and the line on which the next begins.
func keyOver(n *yaml.Node, line, behind int) (at, next int, ok bool) {
	k := sort.Search(len(n.Content)/2, func(i int) bool { return n.Content[2*i].Line > line })
	if k == 0 {
		return 0, 0, false
	}
	if 2*k < len(n.Content) {
		behind = n.Content[2*k].Line
	}
	return 2 * (k - 1), behind, true
}

// readEntry takes a text in which an entry is another, and reads that entry alone. ok is false where it can't be read
// by itself; then nothing is taken.
func (f *File) readEntry(e entryAt, text []byte) (ok bool) {
	now := NewText(text)
	more := len(now.starts) - len(f.starts) // lines
	piece := now.Bytes[now.LineStart(e.first):now.LineStart(e.behind+more)]
	var one File
	if one.read(slices.Concat([]byte("section:\n"), piece)) != nil || len(one.all) != 1 || len(one.roots) != 1 ||
		len(one.roots[0].Content) != 2 {
		return false
	}
	root, section, behind := copied(e.root), copied(e.section), e.at+2
	root.Content[e.in+1] = section
	switch entry := one.roots[0].Content[1]; {
	case entry.Kind == yaml.ScalarNode && entry.Tag == "!!null" && len(section.Content) > 2: // it is gone
		section.Content = slices.Delete(section.Content, e.at, behind)
		behind = e.at
	case plainBlock(entry) && len(entry.Content) == 2 && entry.Content[0].Column == section.Content[e.at].Column:
		moved(entry.Content, e.first-2)
		section.Content[e.at], section.Content[e.at+1] = entry.Content[0], entry.Content[1]
	default:
		return false
	}
	moved(slices.Concat(section.Content[behind:], root.Content[e.in+2:]), more)
	section.Line = section.Content[0].Line
	f.Text, f.roots, f.all = now, []*yaml.Node{root}, []*yaml.Node{root}
	return true
}

// moved gives nodes, and what is in them, other lines.
func moved(nodes []*yaml.Node, lines int) {
	for _, n := range nodes {
		n.Line += lines
		moved(n.Content, lines)
	}
}
