package estate

import (
	"bytes"
	"iter"
	"math/rand/v2"
	"runtime"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/lookup"
	"hiddengate/internal/parallel"
)

// Tree is the listed resources of an estate in tree order: systems by id, then in each the paths, so that what stands
// in a place follows it at once. It keeps columns of numbers, some 32 bytes a resource beside its address and 16 to
// find it by; a Resource is made when it is asked for, and stays.
type Tree struct {
	Columns
	Systems []*System
	Types   []string
	Tags    []Tags       // the first is nil
	Owners  []*Principal // the first is nil
	Files   []string     // inventories; the first is none
	Entries []*Entry     // of those that a file says more of than a column can hold
	chunks  []atomic.Pointer[[chunk]Resource]
}

// Columns is what of a tree is numbers and text alone.
type Columns struct {
	Names lookup.Names // the addresses
	Rows  []Row
}

// Row is one resource. Numbers point into the tree's lists.
type Row struct {
	name   uint32 // the place of the address's record
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

// chunk is how many resources are made at once where one is asked for: questions ask for few, which lie far apart.
const chunk = 4

// Len counts the listed resources.
func (t *Tree) Len() int { return len(t.Rows) }

// Address gives a row's address as text.
func (t *Tree) Address(i int) string {
	_, text := t.Names.Record(t.Rows[i].name)
	return text
}

// Find gives the row of a canonical address; -1 if there is none.
func (t *Tree) Find(address string) int { return t.Names.Find(address) }

// find is Find for an address in two parts.
func (t *Tree) find(a Address) int {
	if a.Path == "" {
		return t.Find(a.System)
	}
	var buffer [256]byte
	text := append(append(append(buffer[:0], a.System...), ':'), a.Path...)
	return t.Find(lookup.Text(text))
}

// End gives the row behind the last that stands in a row's place. It costs the logarithm of what the tree has.
func (t *Tree) End(row int) int {
	top := t.Address(row)
	return row + 1 + sort.Search(len(t.Rows)-row-1, func(n int) bool {
		text, inside := strings.CutPrefix(t.Address(row+1+n), top)
		return !inside || text[0] != '/' && text[0] != ':'
	})
}

// At gives a row's resource.
func (t *Tree) At(i int) *Resource {
	c := t.chunks[i/chunk].Load()
	if c == nil {
		c = new([chunk]Resource)
		for j := range min(chunk, len(t.Rows)-i/chunk*chunk) {
			t.fill(c, i/chunk*chunk+j)
		}
		if !t.chunks[i/chunk].CompareAndSwap(nil, c) {
			c = t.chunks[i/chunk].Load() // somebody was faster; a resource stands in one place
		}
	}
	return &c[i%chunk]
}

// fill makes a resource in its chunk, in which those before it stand already.
func (t *Tree) fill(c *[chunk]Resource, i int) {
	r := &c[i%chunk]
	row := t.Rows[i]
	r.Index = i
	r.System, r.Type, r.Tags, r.Owner = t.Systems[row.System], t.Types[row.Type], t.Tags[row.Tags], t.Owners[row.Owner]
	text := t.Address(i)
	r.Address.System = r.System.ID
	if row.Parent > 0 {
		r.Address.Path = text[len(r.System.ID)+1:]
		if up := int(row.Parent - 1); up/chunk == i/chunk { // it stands before
			r.Parent = &c[up%chunk]
		} else {
			r.Parent = t.At(up)
		}
	}
}

// Line gives the inventory that lists a row's resource, and the line there; "" of one that is said more of, or that
// only a child names.
func (t *Tree) Line(i int) (file string, line int) {
	row := t.Rows[i]
	return t.Files[row.file&^ownOwner], int(row.line)
}

// Entry gives what the workspace says of a listed resource; nil where only a child or the system names it. Of a line of
// an inventory it is made anew each time.
func (t *Tree) Entry(i int) *Entry {
	switch row := t.Rows[i]; {
	case row.file > 0:
		e := &Entry{Address: t.At(i).Address,
			Object: Object{Source: Source{Position: diagnostic.Position{File: t.Files[row.file&^ownOwner], Line: int(row.line),
				Column: 1}}}}
		if row.file&ownOwner != 0 {
			e.Owner = t.Owners[row.Owner]
		}
		return e
	case row.line > 0:
		return t.Entries[row.line-1]
	}
	return nil
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

// treeBuilder builds the trees of some systems, one after another; several work side by side.
type treeBuilder struct {
	*terms
	estate   *Estate
	rows     []Row
	names    []byte
	entries  []*Entry
	inherits map[[2]uint32]uint32
	twice    []Twice
	buffer   []byte
}

// terms numbers what many rows say alike.
type terms struct {
	sync.Mutex
	tree    *Tree
	tags    map[string]uint32    // by what they say
	owners  map[Principal]uint32 // numbers of owners
	types   map[string]uint16
	files   map[string]uint16
	columns map[*Vocabulary]*column
}

// listedRow is a listed resource before it stands in the tree.
type listedRow struct {
	path  []byte
	entry *Entry
	from  *Listing
	row   int
}

func (s listedRow) position() diagnostic.Position {
	if s.entry != nil {
		return s.entry.Source.Position
	}
	return s.from.position(s.row)
}

// buildTree builds the tree of resources from the systems' entries and the listings; those listed twice it
// gives back. What a listing says of a system that there is not is passed over.
func (e *Estate) buildTree() []Twice {
	t := &Tree{Tags: []Tags{nil}, Owners: []*Principal{nil}, Files: []string{""}, Systems: Sorted(e.Systems)}
	terms := &terms{tree: t, tags: map[string]uint32{"": 0}, owners: map[Principal]uint32{}, types: map[string]uint16{},
		files: map[string]uint16{}, columns: map[*Vocabulary]*column{}}
	for _, l := range e.Listings {
		terms.column(l.Vocabulary)
		terms.file(l.File)
	}
	of, counts := e.stretches()
	// Each builder takes systems that stand side by side, together about as much as any other.
	total := 0
	for _, n := range counts {
		total += n
	}
	workers := runtime.GOMAXPROCS(0)
	planters := make([]*treeBuilder, 0, workers)
	var wait parallel.Group
	for first := 0; first < len(t.Systems); {
		share, last := 0, first
		for last < len(t.Systems) && (share == 0 || share < total/workers) {
			share += counts[t.Systems[last]]
			last++
		}
		p := &treeBuilder{terms: terms, estate: e, inherits: map[[2]uint32]uint32{}, rows: make([]Row, 0, share+share/64+64)}
		planters = append(planters, p)
		from, to := first, last
		wait.Go(func() {
			for n := from; n < to; n++ {
				s := t.Systems[n]
				p.grow(s, uint32(n), e.listedRows(s, of[s], counts[s]))
			}
		})
		first = last
	}
	wait.Wait()
	twice := t.gather(planters)
	t.index()
	e.Tree = t
	slices.SortFunc(twice, func(a, b Twice) int { return a.Second.Compare(b.Second) })
	return twice
}

// gather puts what the planters made behind one another.
func (t *Tree) gather(planters []*treeBuilder) []Twice {
	var twice []Twice
	rows, names := 0, 0
	for _, p := range planters {
		rows, names = rows+len(p.rows), names+len(p.names)
	}
	t.Rows, t.Names.Records = lookup.Large[Row](0, rows), lookup.Large[byte](0, names)
	for _, p := range planters {
		first, name, entries := uint32(len(t.Rows)), lookup.End(t.Names.Records), uint32(len(t.Entries))
		t.Names.Records = append(t.Names.Records, p.names...)
		for i := range p.rows {
			r := p.rows[i]
			r.name += name
			lookup.Renumber(t.Names.Records, r.name, first+uint32(i))
			if r.Parent > 0 {
				r.Parent += first
			}
			if r.file == 0 && r.line > 0 {
				r.line += entries
			}
			t.Rows = append(t.Rows, r)
		}
		t.Entries, twice = append(t.Entries, p.entries...), append(twice, p.twice...)
		p.rows, p.names = nil, nil
	}
	return twice
}

// makeRoom prepares for resources to be asked for.
func (t *Tree) makeRoom() {
	t.chunks = make([]atomic.Pointer[[chunk]Resource], (len(t.Rows)+chunk-1)/chunk)
}

// index makes the table by which rows are found.
func (t *Tree) index() {
	t.Names.Table = lookup.New(rand.Uint64(), len(t.Rows))
	t.makeRoom()
	const run = 1 << 14
	hashes := make([][]uint64, (len(t.Rows)+run-1)/run)
	var wait parallel.Group
	workers := runtime.GOMAXPROCS(0)
	for w := range workers {
		wait.Go(func() {
			for k := w; k < len(hashes); k += workers {
				hashes[k] = make([]uint64, min(run, len(t.Rows)-k*run))
				for i := range hashes[k] {
					hashes[k][i] = lookup.Hash(t.Names.Table.Seed, t.Address(k*run+i))
				}
			}
		})
	}
	wait.Wait()
	for k, list := range hashes {
		for i, h := range list {
			t.Names.Table.Add(h, int(t.Rows[k*run+i].name))
		}
	}
}

// stretch is lines of a listing, one after another, about one system.
type stretch struct {
	from        *Listing
	first, last int
}

// stretches finds what listings say of each system, and counts it.
func (e *Estate) stretches() (of map[*System][]stretch, counts map[*System]int) {
	of, counts = map[*System][]stretch{}, map[*System]int{}
	for _, l := range e.Listings {
		for i := 0; i < len(l.rows); {
			text, n := l.address(i)
			id := string(text[:n])
			first := i
			for i++; i < len(l.rows); i++ {
				if next, n := l.address(i); string(next[:n]) != id {
					break
				}
			}
			if s := e.Systems[id]; s != nil {
				of[s] = append(of[s], stretch{l, first, i})
				counts[s] += i - first
			}
		}
	}
	for _, s := range e.Systems {
		counts[s] += 1 + len(s.Resources)
	}
	return of, counts
}

// listedRows gathers what is listed of a system, in tree order.
func (e *Estate) listedRows(s *System, of []stretch, count int) []listedRow {
	list, fold := make([]listedRow, 0, count), e.Folds(s)
	for _, entries := range [][]*Entry{s.Resources, e.profileEntries(s)} {
		for _, entry := range entries {
			list = append(list, listedRow{path: []byte(entry.Address.Path), entry: entry})
		}
	}
	for _, st := range of {
		for i := st.first; i < st.last; i++ {
			text, n := st.from.address(i)
			path := text[n+1:]
			if fold {
				path = []byte(Fold(string(path)))
			}
			list = append(list, listedRow{path: path, from: st.from, row: i})
		}
	}
	return sorted(list)
}

func compareRows(a, b listedRow) int {
	if c := comparePaths(a.path, b.path); c != 0 {
		return c
	}
	return a.position().Compare(b.position())
}

// sorted brings listedRows into tree order. Inventories mostly come in it; else the halves are sorted side by side.
func sorted(list []listedRow) []listedRow {
	if slices.IsSortedFunc(list, compareRows) {
		return list
	}
	if len(list) < 1<<14 {
		slices.SortFunc(list, compareRows)
		return list
	}
	a, b := list[:len(list)/2], list[len(list)/2:]
	var wait parallel.Group
	wait.Go(func() { slices.SortFunc(a, compareRows) })
	slices.SortFunc(b, compareRows)
	wait.Wait()
	out := make([]listedRow, 0, len(list))
	for len(a) > 0 && len(b) > 0 {
		if compareRows(a[0], b[0]) <= 0 {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
}

// grow adds a system and what is in it, which comes in tree order.
func (p *treeBuilder) grow(s *System, number uint32, list []listedRow) {
	offer := p.estate.offers[s.Kind.ID]
	types := p.placesOf(offer)
	above := []uint32{uint32(len(p.rows))}
	p.add(s, nil, Row{System: number, Type: types.byDepth[0], Tags: p.number(inherit(nil, s.Tags)),
		Owner: p.owner(s.Owner)})
	p.fill(s, number, types, list, nil, above)
}

// fill adds what is in a system, behind a path to which some rows lead, the system's first.
func (p *treeBuilder) fill(s *System, number uint32, types placeTypes, list []listedRow, path []byte, above []uint32) {
	for i, one := range list {
		if i > 0 && bytes.Equal(one.path, path) {
			p.twice = append(p.twice, Twice{Address{s.ID, string(path)}, list[i-1].position(), one.position()})
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
			up := p.rows[above[len(above)-1]]
			row := Row{Parent: above[len(above)-1] + 1, System: number, Tags: up.Tags, Owner: up.Owner,
				Type: types.of(len(above), path[start:end], up.Type)}
			if end == len(path) {
				p.say(&row, one)
			}
			above = append(above, uint32(len(p.rows)))
			p.add(s, path[:end], row)
			if end == len(path) {
				break
			}
			start = end + 1
		}
	}
}

// placeTypes tells the types of what says none, as numbers of the tree: the rule of Offer.TypeOf.
type placeTypes struct {
	byDepth []uint16
	named   map[string]uint16
	inside  map[uint16]uint16
}

func (p *treeBuilder) placesOf(o *Offer) placeTypes {
	out := placeTypes{named: map[string]uint16{}, inside: map[uint16]uint16{}}
	for _, t := range o.Types {
		out.byDepth = append(out.byDepth, p.typ(t))
	}
	for name, t := range o.named {
		out.named[name] = p.typ(t)
	}
	for above, t := range o.inside {
		out.inside[p.typ(above)] = p.typ(t)
	}
	return out
}

func (t *placeTypes) of(depth int, name []byte, above uint16) uint16 {
	if depth == 1 && len(t.named) > 0 {
		if n, ok := t.named[string(name)]; ok {
			return n
		}
	}
	if len(t.inside) > 0 {
		if n, ok := t.inside[above]; ok {
			return n
		}
	}
	return t.byDepth[min(depth, len(t.byDepth)-1)]
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

func (p *treeBuilder) add(s *System, path []byte, row Row) {
	p.buffer = append(p.buffer[:0], s.ID...)
	if path != nil {
		p.buffer = append(append(p.buffer, ':'), path...)
	}
	p.names, row.name = lookup.Append(p.names, 0, p.buffer) // its number is known later
	p.rows = append(p.rows, row)
}

// column translates the numbers of a vocabulary into the tree's.
type column struct {
	types  []uint16
	tags   []uint32
	owners []uint32
}

// say puts what is said of a resource over what it inherits.
func (p *treeBuilder) say(row *Row, s listedRow) {
	if s.entry != nil {
		p.entries = append(p.entries, s.entry)
		row.line = uint32(len(p.entries))
		if s.entry.Type != "" {
			row.Type = p.typ(s.entry.Type)
		}
		row.Tags = p.inherit(row.Tags, p.number(s.entry.Tags))
		if s.entry.Owner != nil || s.entry.NoOwner {
			row.Owner = p.owner(s.entry.Owner)
		}
		return
	}
	c := p.columns[s.from.Vocabulary] // which is there, and nobody adds to
	said := s.from.rows[s.row]
	row.file, row.line = p.files[s.from.File], said.line
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

func (t *terms) file(name string) {
	if _, ok := t.files[name]; !ok {
		t.files[name] = uint16(len(t.tree.Files))
		t.tree.Files = append(t.tree.Files, name)
	}
}

func (t *terms) column(v *Vocabulary) {
	if t.columns[v] != nil {
		return
	}
	c := &column{}
	t.columns[v] = c
	for _, name := range v.Types {
		c.types = append(c.types, t.typ(name))
	}
	for _, tags := range v.Tags {
		c.tags = append(c.tags, t.number(tags))
	}
	for _, o := range v.Owners {
		c.owners = append(c.owners, t.owner(o))
	}
}

func (t *terms) typ(name string) uint16 {
	t.Lock()
	defer t.Unlock()
	n, ok := t.types[name]
	if !ok {
		n = uint16(len(t.tree.Types))
		t.types[name] = n
		t.tree.Types = append(t.tree.Types, name)
	}
	return n
}

func (t *terms) owner(o *Principal) uint32 {
	if o == nil {
		return 0
	}
	t.Lock()
	defer t.Unlock()
	n, ok := t.owners[*o]
	if !ok {
		n = uint32(len(t.tree.Owners))
		t.owners[*o] = n
		t.tree.Owners = append(t.tree.Owners, o)
	}
	return n
}

func (t *terms) number(tags Tags) uint32 {
	key := tags.Name(nil)
	t.Lock()
	defer t.Unlock()
	n, ok := t.tags[key]
	if !ok {
		n = uint32(len(t.tree.Tags))
		t.tags[key] = n
		t.tree.Tags = append(t.tree.Tags, tags)
	}
	return n
}

// tagsOf gives the tags of a number while others may be numbering.
func (t *terms) tagsOf(n uint32) Tags {
	t.Lock()
	defer t.Unlock()
	return t.tree.Tags[n]
}

func (p *treeBuilder) inherit(above, own uint32) uint32 {
	if own == 0 {
		return above
	}
	key := [2]uint32{above, own}
	n, ok := p.inherits[key]
	if !ok {
		n = p.number(inherit(p.tagsOf(above), p.tagsOf(own)))
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
