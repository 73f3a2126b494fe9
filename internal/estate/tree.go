package estate

import (
	"bytes"
	"iter"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/lookup"
)

// Tree is the listed resources of an estate in tree order: systems by id, then in each the paths, so that what
// stands in a place follows it at once. It keeps columns of numbers, some 32 bytes a resource beside its address and 16 to find it by; a Resource is
// made when it is asked for, and stays. Asking for one is not safe for concurrent use, everything else is.
type Tree struct {
	Columns
	Systems []*System
	Types   []string
	Tags    []Tags       // the first is nil
	Owners  []*Principal // the first is nil
	Files   []string     // inventories; the first is none
	Entries []*Entry     // of those that a file says more of than a column can hold
	chunks  [][]Resource
}

// Columns is what of a tree is numbers and text alone.
type Columns struct {
	Text  string // the addresses, one after another
	Rows  []Row
	Index lookup.Table
}

// Row is one resource. Numbers point into the tree's lists.
type Row struct {
	at     uint64 // offset of the address in Text << 24 | its length
	Parent uint32 // one more than the row above; 0 for a system
	System uint32
	Tags   uint32
	Owner  uint32
	line   uint32 // of the inventory; where file is 0, one more than the entry's number
	Type   uint16
	file   uint16 // with ownOwner
}

// ownOwner marks a row of an inventory that says its owner itself.
const ownOwner = 1 << 15

const chunk = 256

// Len counts the listed resources.
func (t *Tree) Len() int { return len(t.Rows) }

// Address gives a row's address as text.
func (t *Tree) Address(i int) string {
	at := t.Rows[i].at
	return t.Text[at>>24 : at>>24+at&0xffffff]
}

// Find gives the row of a canonical address; -1 if there is none.
func (t *Tree) Find(address string) int {
	hash := lookup.Hash(t.Index.Seed, address)
	for i := hash; ; {
		var n int
		if n, i = t.Index.Probe(hash, i); n < 0 || t.Address(n) == address {
			return n
		}
	}
}

// find is Find for an address in two parts.
func (t *Tree) find(a Address) int {
	if a.Path == "" {
		return t.Find(a.System)
	}
	var buffer [256]byte
	text := append(append(append(buffer[:0], a.System...), ':'), a.Path...)
	return t.Find(unsafe.String(unsafe.SliceData(text), len(text)))
}

// At gives a row's resource.
func (t *Tree) At(i int) *Resource {
	c := t.chunks[i/chunk]
	if c == nil {
		c = make([]Resource, min(chunk, len(t.Rows)-i/chunk*chunk))
		t.chunks[i/chunk] = c
		for j := range c {
			t.fill(&c[j], i/chunk*chunk+j)
		}
	}
	return &c[i%chunk]
}

func (t *Tree) fill(r *Resource, i int) {
	row := t.Rows[i]
	r.Index = i
	r.System, r.Type, r.Tags, r.Owner = t.Systems[row.System], t.Types[row.Type], t.Tags[row.Tags], t.Owners[row.Owner]
	text := t.Address(i)
	r.Address.System = r.System.ID
	if row.Parent > 0 {
		r.Address.Path = text[len(r.System.ID)+1:]
		r.Parent = t.At(int(row.Parent - 1)) // it stands before
	}
	switch {
	case row.file > 0:
		r.Entry = &Entry{Address: r.Address, Object: Object{Source: Source{Position: diagnostic.Position{File: t.Files[row.file&^ownOwner], Line: int(row.line), Column: 1}}}}
		if row.file&ownOwner != 0 {
			r.Entry.Owner = r.Owner
		}
	case row.line > 0:
		r.Entry = t.Entries[row.line-1]
	}
}

// All gives the resources in tree order.
func (t *Tree) All() iter.Seq[*Resource] {
	return func(yield func(*Resource) bool) {
		for i := range t.Rows {
			if !yield(t.At(i)) {
				return
			}
		}
	}
}

// Slice gives the resources in tree order, all of them at once.
func (t *Tree) Slice() []*Resource { return slices.AppendSeq(make([]*Resource, 0, t.Len()), t.All()) }

// Some says whether any listed resource is so.
func (t *Tree) Some(is func(*Resource) bool) bool {
	for r := range t.All() {
		if is(r) {
			return true
		}
	}
	return false
}

// planter builds a tree.
type planter struct {
	*Tree
	estate   *Estate
	text     []byte
	tags     map[string]uint32    // numbers of tags, by what they say
	owners   map[Principal]uint32 // numbers of owners
	types    map[string]uint16
	inherits map[[2]uint32]uint32
	columns  map[*Vocabulary]*column
	files    map[string]uint16
	twice    []TwiceError
}

// sprout is a listed resource before it stands in the tree.
type sprout struct {
	path  []byte
	entry *Entry
	from  *Listing
	row   int
}

func (s sprout) position() diagnostic.Position {
	if s.entry != nil {
		return s.entry.Source.Position
	}
	return s.from.position(s.row)
}

// plant builds the tree of resources from the systems' entries and the listings; those listed twice it gives back. What a
// listing says of a system that there is not is passed over.
func (e *Estate) plant() []TwiceError {
	p := &planter{Tree: &Tree{}, estate: e, tags: map[string]uint32{}, owners: map[Principal]uint32{}, types: map[string]uint16{}, inherits: map[[2]uint32]uint32{}, columns: map[*Vocabulary]*column{}, files: map[string]uint16{}}
	p.Tree.Tags, p.Owners, p.Files = []Tags{nil}, []*Principal{nil}, []string{""}
	p.tags[""] = 0
	of, total := e.sprouts()
	p.Rows = make([]Row, 0, total+total/8)
	for _, s := range Sorted(e.Systems) {
		p.grow(s, of[s])
		of[s] = nil
	}
	p.Text = unsafe.String(unsafe.SliceData(p.text), len(p.text))
	p.Index = lookup.New(rand.Uint64(), len(p.Rows))
	for i := range p.Rows {
		p.Index.Add(lookup.Hash(p.Index.Seed, p.Address(i)), i)
	}
	p.chunks = make([][]Resource, (len(p.Rows)+chunk-1)/chunk)
	e.Tree = p.Tree
	slices.SortFunc(p.twice, func(a, b TwiceError) int { return a.Second.Compare(b.Second) })
	return p.twice
}

// sprouts gathers what is listed, by system, and counts it.
func (e *Estate) sprouts() (map[*System][]sprout, int) {
	of, total := map[*System][]sprout{}, 0
	for _, s := range e.Systems {
		total += 1 + len(s.Resources)
		for _, entry := range s.Resources {
			of[s] = append(of[s], sprout{path: []byte(entry.Address.Path), entry: entry})
		}
	}
	for _, l := range e.Listings {
		total += len(l.rows)
		var s *System
		var list []sprout
		fold := false
		for i := range l.rows {
			text, n := l.address(i)
			if s == nil || s.ID != string(text[:n]) {
				if s != nil {
					of[s] = list
				}
				if s = e.Systems[string(text[:n])]; s == nil {
					continue
				}
				list, fold = of[s], e.Folds(s)
				if list == nil {
					list = make([]sprout, 0, len(l.rows)-i)
				}
			}
			path := text[n+1:]
			if fold {
				path = []byte(Fold(string(path)))
			}
			list = append(list, sprout{path: path, from: l, row: i})
		}
		if s != nil {
			of[s] = list
		}
	}
	return of, total
}

func compareSprouts(a, b sprout) int {
	if c := comparePaths(a.path, b.path); c != 0 {
		return c
	}
	return a.position().Compare(b.position())
}

// sorted brings sprouts into tree order. Inventories mostly come in it; else the halves are sorted side by side.
func sorted(list []sprout) []sprout {
	if slices.IsSortedFunc(list, compareSprouts) {
		return list
	}
	if len(list) < 1<<14 {
		slices.SortFunc(list, compareSprouts)
		return list
	}
	a, b := list[:len(list)/2], list[len(list)/2:]
	var wait sync.WaitGroup
	wait.Go(func() { slices.SortFunc(a, compareSprouts) })
	slices.SortFunc(b, compareSprouts)
	wait.Wait()
	out := make([]sprout, 0, len(list))
	for len(a) > 0 && len(b) > 0 {
		if compareSprouts(a[0], b[0]) <= 0 {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
}

// grow adds a system and what is in it.
func (p *planter) grow(s *System, list []sprout) {
	number := uint32(len(p.Systems))
	p.Systems = append(p.Systems, s)
	offer := p.estate.offers[s.Kind.ID]
	list = sorted(list)
	path := []byte(nil)
	above := []uint32{uint32(len(p.Rows))} // the rows that lead to the last one
	p.add(s, nil, Row{System: number, Type: p.typ(offer.TypeAt(0)), Tags: p.number(inherit(nil, s.Tags)), Owner: p.owner(s.Owner)})
	for i, one := range list {
		if i > 0 && bytes.Equal(one.path, path) {
			p.twice = append(p.twice, TwiceError{Address{s.ID, string(path)}, list[i-1].position(), one.position()})
			continue
		}
		depth, start := common(path, one.path)
		above = above[:depth+1]
		path = one.path
		for {
			end := len(path)
			if next := bytes.IndexByte(path[start:], '/'); next >= 0 {
				end = start + next
			}
			up := p.Rows[above[len(above)-1]]
			row := Row{Parent: above[len(above)-1] + 1, System: number, Tags: up.Tags, Owner: up.Owner, Type: p.typ(offer.TypeAt(len(above)))}
			if end == len(path) {
				p.say(&row, one)
			}
			above = append(above, uint32(len(p.Rows)))
			p.add(s, path[:end], row)
			if end == len(path) {
				break
			}
			start = end + 1
		}
	}
}

// common counts the segments with which both paths begin, and gives where the next begins in the second.
func common(a, b []byte) (segments, next int) {
	for i := 0; ; i++ {
		endA, endB := i == len(a) || a[i] == '/', i == len(b) || b[i] == '/'
		if endA && endB && i > 0 {
			segments, next = segments+1, i+1
		}
		if i == len(a) || i == len(b) || a[i] != b[i] {
			return segments, next
		}
	}
}

func (p *planter) add(s *System, path []byte, row Row) {
	at := len(p.text)
	p.text = append(p.text, s.ID...)
	if path != nil {
		p.text = append(append(p.text, ':'), path...)
	}
	row.at = uint64(at)<<24 | uint64(len(p.text)-at)
	p.Rows = append(p.Rows, row)
}

// column translates the numbers of a vocabulary into the tree's.
type column struct {
	types  []uint16
	tags   []uint32
	owners []uint32
}

// say puts what is said of a resource over what it inherits.
func (p *planter) say(row *Row, s sprout) {
	if s.entry != nil {
		p.Entries = append(p.Entries, s.entry)
		row.line = uint32(len(p.Entries))
		if s.entry.Type != "" {
			row.Type = p.typ(s.entry.Type)
		}
		row.Tags = p.inherit(row.Tags, p.number(s.entry.Tags))
		if s.entry.Owner != nil || s.entry.NoOwner {
			row.Owner = p.owner(s.entry.Owner)
		}
		return
	}
	c := p.columns[s.from.Vocabulary]
	if c == nil {
		c = p.column(s.from.Vocabulary)
	}
	said := s.from.rows[s.row]
	row.file, row.line = p.file(s.from.File), said.line
	if said.typ > 0 {
		row.Type = c.types[said.typ]
	}
	if said.tags > 0 {
		row.Tags = p.inherit(row.Tags, c.tags[said.tags])
	}
	if said.owner != NoneSaid {
		row.Owner = c.owners[said.owner]
		row.file |= ownOwner
	}
}

func (p *planter) file(name string) uint16 {
	n, ok := p.files[name]
	if !ok {
		n = uint16(len(p.Files))
		p.files[name] = n
		p.Files = append(p.Files, name)
	}
	return n
}

func (p *planter) column(l *Vocabulary) *column {
	c := &column{}
	p.columns[l] = c
	for _, t := range l.Types {
		c.types = append(c.types, p.typ(t))
	}
	for _, t := range l.Tags {
		c.tags = append(c.tags, p.number(t))
	}
	for _, o := range l.Owners {
		c.owners = append(c.owners, p.owner(o))
	}
	return c
}

func (p *planter) typ(name string) uint16 {
	n, ok := p.types[name]
	if !ok {
		n = uint16(len(p.Types))
		p.types[name] = n
		p.Types = append(p.Types, name)
	}
	return n
}

func (p *planter) owner(o *Principal) uint32 {
	if o == nil {
		return 0
	}
	n, ok := p.owners[*o]
	if !ok {
		n = uint32(len(p.Owners))
		p.owners[*o] = n
		p.Owners = append(p.Owners, o)
	}
	return n
}

func (p *planter) number(t Tags) uint32 {
	var key strings.Builder
	for _, tag := range t {
		key.WriteString(tag.Key)
		key.WriteByte(0)
		key.WriteString(tag.Value)
		key.WriteByte(0)
	}
	n, ok := p.tags[key.String()]
	if !ok {
		n = uint32(len(p.Tree.Tags))
		p.tags[key.String()] = n
		p.Tree.Tags = append(p.Tree.Tags, t)
	}
	return n
}

func (p *planter) inherit(above, own uint32) uint32 {
	if own == 0 {
		return above
	}
	key := [2]uint32{above, own}
	n, ok := p.inherits[key]
	if !ok {
		n = p.number(inherit(p.Tree.Tags[above], p.Tree.Tags[own]))
		p.inherits[key] = n
	}
	return n
}

// comparePaths orders paths so that a place is followed by all inside it: `/` sorts before everything else.
func comparePaths[T string | []byte](a, b T) int {
	for i := 0; i < len(a) && i < len(b); i++ {
		if a[i] != b[i] {
			switch {
			case a[i] == '/':
				return -1
			case b[i] == '/':
				return 1
			}
			return int(a[i]) - int(b[i])
		}
	}
	return len(a) - len(b)
}
