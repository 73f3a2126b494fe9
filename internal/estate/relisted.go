package estate

import (
	"slices"
	"sort"
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/lookup"
)

// Relisting says how the tree of an estate is another than before. Each place is listed, or stands right in what is, or
// is a system that is new or gone; none lies in another.
type Relisting struct {
	Places  []Address
	Said    []*Listing // these and the entries are all that is said in the places
	Entries []*Entry
	Moved   map[string]Moved  // by file
	Instead map[*Entry]*Entry // entries that were read anew, and say the same of a resource's type, tags and owner
}

// Moved says that the lines of a file behind one stand so many lines further down than before.
type Moved struct{ After, By int }

// Relisted gives the estate with another tree. Systems that both have are of the same kinds. It costs some ten
// milliseconds for each million of resources, and half a second where there are more or fewer of them than before. ok
// is false if a listing says what cannot be.
func (e *Estate) Relisted(r Relisting) (out *Estate, ok bool) {
	checked, ok := *e, true
	checked.Listings = r.Said
	checked.CheckListings(func(diagnostic.Position, string, string, *System) { ok = false })
	if !ok {
		return nil, false
	}
	g := relisting{Relisting: r, estate: e, was: e.Tree}
	g.tree = &Tree{Systems: Sorted(e.Systems), Types: slices.Clip(e.Tree.Types), Tags: slices.Clip(e.Tree.Tags),
		Owners: slices.Clip(e.Tree.Owners), Files: slices.Clip(e.Tree.Files)}
	g.terms = g.tree.termsOf()
	g.systems = make([]uint32, len(e.Tree.Systems))
	for n, s := range e.Tree.Systems {
		g.systems[n] = g.numberOf(s.ID)
	}
	for _, l := range r.Said {
		g.terms.column(l.Vocabulary)
		g.terms.file(l.File)
	}
	slices.SortFunc(g.Places, Address.Compare)
	said := g.said()
	for n, a := range g.Places {
		if !g.makePlace(a, sorted(said[n])) {
			return nil, false
		}
	}
	g.gather()
	made := *e
	made.Tree, made.folding = g.tree, false
	for _, s := range made.Systems {
		made.folding = made.folding || made.Folds(s)
	}
	return &made, true
}

// termsOf gives the numbers of what a tree's rows say.
func (t *Tree) termsOf() *terms {
	out := &terms{tree: t, tags: map[string]uint32{"": 0}, owners: map[Principal]uint32{}, types: map[string]uint16{},
		files: map[string]uint16{}, columns: map[*Vocabulary]*column{}}
	for n, tags := range t.Tags {
		out.tags[tags.Name(nil)] = uint32(n)
	}
	for n, o := range t.Owners {
		if o != nil {
			out.owners[*o] = uint32(n)
		}
	}
	for n, name := range t.Types {
		out.types[name] = uint16(n)
	}
	for n, name := range t.Files {
		out.files[name] = uint16(n)
	}
	return out
}

// relisting makes a tree of another one.
type relisting struct {
	Relisting
	estate *Estate
	was    *Tree
	tree   *Tree
	terms  *terms
	// of each system of the old tree, its number in the new one, or that of the next, where it is gone
	systems []uint32
	places  []relistedPlace // in tree order
	moved   []int           // by how many rows what stands behind so many of them stands further on
}

// numberOf gives the number of a system in the new tree, or of the next.
func (g *relisting) numberOf(id string) uint32 {
	n, _ := slices.BinarySearchFunc(g.tree.Systems, id,
		func(s *System, id string) int { return strings.Compare(s.ID, id) })
	return uint32(n)
}

// relistedPlace is rows in place of others.
type relistedPlace struct {
	from, to int // the rows that go
	above    int // how many of the builder's rows lead to the place
	parent   int // the row in which it stands
	made     *treeBuilder
}

// makePlace makes the rows of a place. It is false if the place is not as it has to be, or something is listed twice
// there.
func (g *relisting) makePlace(a Address, said []listedRow) bool {
	t := g.was
	place := relistedPlace{from: t.find(a), parent: -1, made: &treeBuilder{terms: g.terms, estate: g.estate,
		inherits: map[[2]uint32]uint32{}}}
	if place.from >= 0 {
		place.to = t.End(place.from)
	}
	up, inside := a.Parent()
	if !inside {
		g.makeSystem(a.System, &place, said)
		return len(place.made.twice) == 0
	}
	if place.parent = t.find(up); place.parent < 0 {
		return false
	}
	if place.from < 0 {
		first, end := place.parent+1, t.End(place.parent)
		place.from = first + sort.Search(end-first, func(i int) bool {
			return comparePaths(t.Address(first + i)[len(a.System)+1:], a.Path) > 0
		})
		place.to = place.from
	}
	number := g.systems[t.Rows[place.parent].System]
	s := g.tree.Systems[number]
	for row := place.parent; row >= 0; row = int(t.Rows[row].Parent) - 1 {
		place.made.rows = append(place.made.rows, t.Rows[row])
	}
	slices.Reverse(place.made.rows)
	place.above = len(place.made.rows)
	above := make([]uint32, place.above)
	for i := range above {
		above[i] = uint32(i)
	}
	types := place.made.placesOf(g.estate.offers[s.Kind.ID])
	place.made.fill(s, number, types, said, []byte(up.Path), above)
	g.places = append(g.places, place)
	return len(place.made.twice) == 0
}

// makeSystem makes the rows of a system that is new, or none of one that is gone.
func (g *relisting) makeSystem(id string, place *relistedPlace, said []listedRow) {
	if s := g.estate.Systems[id]; s != nil {
		place.made.grow(s, g.numberOf(id), said)
	}
	if place.from < 0 {
		for place.from = 0; place.from < g.was.Len(); place.from = g.was.End(place.from) {
			if g.was.Systems[g.was.Rows[place.from].System].ID > id {
				break
			}
		}
		place.to = place.from
	}
	g.places = append(g.places, *place)
}

// said gives what is said of what is in each place.
func (g *relisting) said() [][]listedRow {
	out := make([][]listedRow, len(g.Places))
	say := func(a Address, row listedRow) {
		n := sort.Search(len(g.Places), func(i int) bool { return g.Places[i].Compare(a) > 0 }) - 1
		if n >= 0 && a.Inside(g.Places[n]) {
			row.path = []byte(a.Path)
			out[n] = append(out[n], row)
		}
	}
	for _, entry := range g.Entries {
		say(entry.Address, listedRow{entry: entry})
	}
	for _, l := range g.Said {
		i := 0
		for a := range l.Addresses() {
			if s := g.estate.Systems[a.System]; g.estate.Folds(s) { // which there is
				a.Path = Fold(a.Path)
			}
			say(a, listedRow{from: l, row: i})
			i++
		}
	}
	return out
}

// gather puts the rows that stay and those that were made behind one another.
func (g *relisting) gather() {
	t, was := g.tree, g.was
	alike := true // the addresses are those that were
	g.moved = []int{0}
	for n, p := range g.places {
		g.moved = append(g.moved, g.moved[n]+len(p.made.rows)-p.above-(p.to-p.from))
		alike = alike && g.sameNames(&p)
	}
	t.Rows = lookup.Large[Row](0, was.Len()+g.moved[len(g.places)])
	if t.Names = was.Names; !alike {
		t.Names.Records = append(lookup.Large[byte](0, len(was.Names.Records)), was.Names.Records...)
	}
	moved := make([]Moved, len(t.Files)+1)
	for n, name := range t.Files {
		moved[n] = g.Moved[name]
	}
	stay := func(from, to int) {
		for i := from; i < to; i++ {
			row := was.Rows[i]
			row.Parent, row.System = g.number(row.Parent), g.systems[row.System]
			switch {
			case row.file == 0 && row.line > 0:
				entry := was.Entries[row.line-1]
				if other := g.Instead[entry]; other != nil {
					entry = other
				}
				t.Entries = append(t.Entries, entry)
				row.line = uint32(len(t.Entries))
			case row.file > 0:
				if m := moved[row.file&^ownOwner]; int(row.line) > m.After {
					row.line = uint32(int(row.line) + m.By)
				}
			}
			t.Rows = append(t.Rows, row)
		}
	}
	next := 0
	for _, p := range g.places {
		stay(next, p.from)
		next = p.to
		first, name := len(t.Rows), lookup.End(t.Names.Records)
		for i, row := range p.made.rows[p.above:] {
			switch {
			case row.Parent > uint32(p.above):
				row.Parent += uint32(first - p.above)
			case p.parent >= 0:
				row.Parent = g.number(uint32(p.parent) + 1)
			}
			if row.file == 0 && row.line > 0 {
				t.Entries = append(t.Entries, p.made.entries[row.line-1])
				row.line = uint32(len(t.Entries))
			}
			if row.name += name; alike {
				row.name = was.Rows[p.from+i].name
			}
			t.Rows = append(t.Rows, row)
		}
		if !alike {
			t.Names.Records = append(t.Names.Records, p.made.names...)
		}
	}
	stay(next, was.Len())
	if alike {
		t.makeRoom()
		return
	}
	for i := range t.Rows {
		lookup.Renumber(t.Names.Records, t.Rows[i].name, uint32(i))
	}
	t.index()
}

// sameNames says that a place has the addresses that it had.
func (g *relisting) sameNames(p *relistedPlace) bool {
	made := p.made.rows[p.above:]
	if len(made) != p.to-p.from {
		return false
	}
	names := lookup.Names{Records: p.made.names}
	for i, row := range made {
		if _, text := names.Record(row.name); text != g.was.Address(p.from+i) {
			return false
		}
	}
	return true
}

// number gives one more than the new row of an old one that stays, by one more than that; 0 of none.
func (g *relisting) number(parent uint32) uint32 {
	if parent == 0 {
		return 0
	}
	before := sort.Search(len(g.places), func(n int) bool { return g.places[n].to > int(parent-1) })
	return uint32(int(parent) + g.moved[before])
}
