package splice

import (
	"errors"
	"slices"

	"go.yaml.in/yaml/v4"
)

// ErrFault says that a text would not have come to say what was asked for. The file is left as it was.
var ErrFault = errors.New("the file would not come to say what was asked for, so nothing is written; this is a fault " +
	"of the program, and writing the entry in another way helps")

// proved makes a change of the text, and sees that what it says is then what is wanted, document by document; else the
// text is as it was.
func (f *File) proved(wanted []*yaml.Node, change func() error) error {
	text, roots, all := f.Text, f.roots, f.all
	err := change()
	if err == nil && !slices.EqualFunc(said(f.all), said(wanted), equal) {
		err = ErrFault
	}
	if err != nil {
		f.Text, f.roots, f.all = text, roots, all
	}
	return err
}

// said leaves out documents that say nothing.
func said(docs []*yaml.Node) []*yaml.Node {
	return slices.DeleteFunc(slices.Clone(docs), func(n *yaml.Node) bool {
		return n.Kind == 0 || n.Kind == yaml.ScalarNode && n.Tag == "!!null" || n.Kind == yaml.MappingNode &&
			len(n.Content) == 0
	})
}

// equal says whether two nodes say the same, with their keys in the same order. Whether a text stands in quotes is
// nothing that it says, but for one that is empty or would be null.
func equal(a, b *yaml.Node) bool {
	return a == b || a.Kind == b.Kind && a.Value == b.Value && (a.Tag == "!!null") == (b.Tag == "!!null") &&
		a.Anchor == b.Anchor && a.Alias == b.Alias &&
		(a.Tag == "!!merge") == (b.Tag == "!!merge") && slices.EqualFunc(a.Content, b.Content, equal)
}

// wanted gives the documents as they are, with copies in place of the nodes on the way to a value, for a change of
// those.
type wanted struct {
	docs  []*yaml.Node
	steps []step // as find gives them, of the copies
	last  *yaml.Node
}

// want copies what is on a path as far as it leads.
func (f *File) want(path []string) wanted {
	w := wanted{docs: slices.Clone(f.all)}
	steps := f.find(path)
	root := f.lastRoot()
	if len(steps) > 0 {
		root = steps[0].mapping
	}
	if root == nil {
		w.last = &yaml.Node{Kind: yaml.MappingNode}
		w.docs = append(w.docs, w.last)
		return w
	}
	at := copied(root)
	w.docs[slices.Index(w.docs, root)] = at
	for _, s := range steps {
		i := slices.Index(s.mapping.Content, s.key)
		at.Content[i], at.Content[i+1] = copied(s.key), copied(s.value)
		w.steps = append(w.steps, step{at, at.Content[i], at.Content[i+1]})
		at = at.Content[i+1]
	}
	w.last = at
	return w
}

func (f *File) lastRoot() *yaml.Node {
	if len(f.roots) == 0 {
		return nil
	}
	return f.roots[len(f.roots)-1]
}

func copied(n *yaml.Node) *yaml.Node {
	out := *n
	out.Content = slices.Clone(n.Content)
	return &out
}

// set gives the key at the path's end a value, and makes keys on the way.
func (w *wanted) set(value *yaml.Node, path []string) {
	for i := len(path) - 1; i > len(w.steps); i-- {
		value = Map(Scalar(path[i]), value)
	}
	if n := len(w.steps); n == len(path) {
		s := w.steps[n-1]
		s.mapping.Content[slices.Index(s.mapping.Content, s.key)+1] = value
		return
	}
	w.last.Content = append(w.last.Content, Scalar(path[len(w.steps)]), value)
}

// cut takes the key of a step out.
func (w *wanted) cut(n int) {
	s := w.steps[n]
	i := slices.Index(s.mapping.Content, s.key)
	s.mapping.Content = slices.Delete(s.mapping.Content, i, i+2)
}
