// Package placemap tells which lists of resources cover a resource: lists of addresses as spans of marks,
// numbered in tree order, and what tags, types, kinds, owners and patterns select as traits, with an automaton
// for the patterns of each system.
package placemap

import (
	"slices"
	"sync"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/lookup"
)

// Covers says whether a list covers a resource, which may be one that is not listed.
func Covers(e *estate.Estate, list estate.Resources, r *estate.Resource) bool {
	in := false
	for i := range list {
		t := &list[i]
		if (!in || t.Not) && CoversTerm(e, t, r) {
			if t.Not {
				return false
			}
			in = true
		}
	}
	return in
}

// CoversTerm says whether one term of a list covers a resource, whatever its `not`.
func CoversTerm(e *estate.Estate, t *estate.ResourceTerm, r *estate.Resource) bool {
	switch {
	case t.Everything:
		return true
	case t.Scope != "":
		return Covers(e, e.Scopes[t.Scope].Resources, r)
	case t.In != nil && !isIn(e, t, r),
		t.Kinds != nil && !slices.ContainsFunc(t.Kinds, e.Offer(r.System.Kind.ID).Is),
		t.Types != nil && !slices.Contains(t.Types, r.Type),
		t.Owners != nil && (r.Owner == nil || !slices.Contains(t.Owners, *r.Owner)):
		return false
	}
	return estate.Fits(t.Tags, r.Tags)
}

// isIn holds the pattern of a term against an address.
func isIn(e *estate.Estate, t *estate.ResourceTerm, r *estate.Resource) bool {
	if t.Exactly {
		return t.In.Matches(r.Address, e.Folds(r.System))
	}
	return t.In.Covers(r.Address, e.Folds(r.System))
}

// Spot is all that the lists of resources in grants and blocks tell of a resource: the nearest marked place at or
// above it, its trait, and its class, which says what can be done to it.
type Spot struct{ Mark, Trait, Class uint32 }

// Span is marks from one until another, the latter excluded.
type Span struct{ From, To uint32 }

// list is a list of resources in a grant or block, taken apart: what addresses alone select, as spans of marks, and the
// rest, which its traits tell; trait is -1 if there is no rest.
type list struct {
	Spans []Span
	Trait int
}

// Map tells which lists cover a resource.
//
// Every address that a list names is a mark. Marks are numbered in tree order, mark 0 standing above all, so what lies
// in a marked place has the marks of a span, however many resources that are. What tags, types, owners and patterns
// select lies anywhere: which of such lists cover a resource is its trait, and traits are numbered as they occur.
type Map struct {
	Lists   []list
	sources []estate.Resources                  // of each list, what it says
	texts   func() *listTexts                   // likewise, as texts
	byFirst func() map[*estate.ResourceTerm]int // the numbers of lists by where their first terms stand
	Marks   map[estate.Address]uint32
	Spots   []Spot     // of each listed resource
	in      []bool     // which of them are known; nil: all
	groups  *Groups    // once somebody asks
	index   *spotIndex // likewise
	// the last one that knows more lists and marks, and which those are
	knowing   *Map
	knowingOf string
	// Phantoms are the marks that no inventory lists.
	Phantoms []estate.Address
	phantoms lookup.Names
	phantom  []uint32 // the numbers of those marks
	Traits
}

// New takes the lists apart and finds every listed resource's spot. marks are more addresses that are marks;
// classes gives the class of a system's type.
func New(e *estate.Estate, all []estate.Resources, marks []estate.Address, classes *opset.Classes) (*Map, []int) {
	p, which := TakeApart(e, all, marks)
	p.Spots = lookup.Large[Spot](e.Tree.Len(), e.Tree.Len())
	p.locate(func(row int, mark uint32) { p.Spots[row].Mark = mark })
	p.inherit(classes)
	p.Traits.init(p, classes)
	p.Traits.learn(p)
	p.Traits.forget()
	return p, which
}

// listTexts is what lists say, as in ResourcesKey.
type listTexts struct {
	numbers map[string]int
	texts   []string // of each
	complex []string // of each that traits tell
}

// TakeApart takes the lists apart, and tells which of them, by number, each is. More are addresses that are marks too.
func TakeApart(e *estate.Estate, all []estate.Resources, more []estate.Address) (*Map, []int) {
	return takeApart(e, all, more, ResourcesKey)
}

// takeApart does it by what gives the keys of lists.
func takeApart(e *estate.Estate, all []estate.Resources, more []estate.Address, keyOf func(estate.Resources) string,
) (*Map, []int) {
	p := &Map{Traits: Traits{Estate: e}, Marks: map[estate.Address]uint32{}}
	which := make([]int, len(all))
	said := &listTexts{numbers: map[string]int{}}
	for i, l := range all {
		key := keyOf(l)
		n, ok := said.numbers[key]
		if !ok {
			n = len(p.sources)
			said.numbers[key] = n
			p.sources, said.texts = append(p.sources, l), append(said.texts, key)
		}
		which[i] = n
	}
	p.texts = func() *listTexts { return said }
	complexes := map[string]int{} // by what they say
	p.splitAll(more, func(i int, rest estate.Resources) int {
		key := said.texts[i]
		if len(rest) < len(p.sources[i]) {
			key = ResourcesKey(rest)
		}
		n, ok := complexes[key]
		if !ok {
			n = len(complexes)
			complexes[key], said.complex = n, append(said.complex, key)
		}
		return n
	})
	p.remember(all, which)
	return p, which
}

// splitAll takes all lists apart, where more addresses are marks, too; number gives the number of what traits tell of a
// list, which begins with the next one.
func (p *Map) splitAll(more []estate.Address, number func(list int, rest estate.Resources) int) {
	for _, l := range p.sources {
		p.GatherMarks(l)
	}
	for _, a := range more {
		p.Marks[a] = 0
	}
	ends := p.numberMarks()
	p.Lists = make([]list, len(p.sources))
	for i, l := range p.sources {
		spans, rest := p.split(l, ends)
		one := list{spans, -1}
		if len(rest) > 0 {
			if one.Trait = number(i, rest); one.Trait == len(p.Complex) {
				p.Complex = append(p.Complex, rest)
			}
		}
		p.Lists[i] = one
	}
}

// remember has lists told by where they stand.
func (p *Map) remember(all []estate.Resources, which []int) {
	p.byFirst = sync.OnceValue(func() map[*estate.ResourceTerm]int {
		out := make(map[*estate.ResourceTerm]int, len(all))
		for i, l := range all {
			if len(l) > 0 {
				out[&l[0]] = which[i]
			}
		}
		return out
	})
}

// NumberOf gives the number of a list; false if the map does not tell places apart by it.
func (p *Map) NumberOf(l estate.Resources) (n int, ok bool) {
	if n, ok = p.veryList(l); !ok {
		n, ok = p.texts().numbers[ResourcesKey(l)]
	}
	return n, ok
}

// veryList gives the number of a list that is one of those of which the map was made, as most are that it is asked
// about: it is told by where it stands.
func (p *Map) veryList(l estate.Resources) (n int, ok bool) {
	if len(l) > 0 {
		n, ok = p.byFirst()[&l[0]]
	}
	return n, ok && len(l) == len(p.sources[n])
}

// keyOf gives the key of a list; of those that the map knows it is there already.
func (p *Map) keyOf(l estate.Resources) string {
	if n, ok := p.veryList(l); ok {
		return p.texts().texts[n]
	}
	return ResourcesKey(l)
}

// Knows says that the map tells places apart by a list.
func (p *Map) Knows(l estate.Resources) bool {
	_, ok := p.NumberOf(l)
	return ok
}

// ResourcesKey is the same for lists that say the same.
func ResourcesKey(l estate.Resources) string {
	if len(l) == 1 {
		return l[0].String()
	}
	key := ""
	for _, t := range l {
		key += t.String() + "\n"
	}
	return key
}

// isAddress says that a term is nothing but an address, whatever its `not`.
func isAddress(t *estate.ResourceTerm) bool {
	return t.In != nil && !t.Exactly && t.Kinds == nil && t.Types == nil && t.Tags == nil && t.Owners == nil &&
		t.In.Plain()
}

// GatherMarks makes every address that a list names a mark.
func (p *Map) GatherMarks(l estate.Resources) {
	for i := range l {
		switch t := &l[i]; {
		case t.Scope != "":
			p.GatherMarks(p.Estate.Scopes[t.Scope].Resources)
		case isAddress(t):
			p.Marks[p.Estate.Canonical(t.In.Address())] = 0
		}
	}
}

// numberMarks numbers the marks in tree order and gives, for each, the first that is no longer inside it.
func (p *Map) numberMarks() []uint32 {
	sorted := make([]estate.Address, 0, len(p.Marks))
	for a := range p.Marks {
		sorted = append(sorted, a)
	}
	slices.SortFunc(sorted, estate.Address.Compare)
	ends := make([]uint32, len(sorted)+1)
	ends[0] = uint32(len(sorted) + 1)
	var within []int
	for i, a := range sorted {
		p.Marks[a] = uint32(i + 1)
		for len(within) > 0 && !a.Inside(sorted[within[len(within)-1]-1]) {
			ends[within[len(within)-1]] = uint32(i + 1)
			within = within[:len(within)-1]
		}
		within = append(within, i+1)
	}
	for _, i := range within {
		ends[i] = uint32(len(sorted) + 1)
	}
	return ends
}

// split takes a list apart into spans of marks and a list of the rest. Where `not` entries meet anything but
// addresses, the rest is the whole.
func (p *Map) split(l estate.Resources, ends []uint32) ([]Span, estate.Resources) {
	var in, out []Span
	var rest estate.Resources
	not := false
	for i := range l {
		t := &l[i]
		not = not || t.Not
		var some []Span
		switch {
		case t.Everything:
			some = []Span{{0, ends[0]}}
		case isAddress(t):
			m := p.Marks[p.Estate.Canonical(t.In.Address())]
			some = []Span{{m, ends[m]}}
		case t.Scope != "":
			inner, more := p.split(p.Estate.Scopes[t.Scope].Resources, ends)
			some = inner
			if len(more) > 0 {
				rest = append(rest, *t)
			}
		default:
			rest = append(rest, *t)
		}
		if t.Not {
			out = append(out, some...)
		} else {
			in = append(in, some...)
		}
	}
	if not && len(rest) > 0 {
		return nil, l
	}
	return subtract(in, out), rest
}

// subtract gives the sorted, disjoint spans of in without those of out.
func subtract(in, out []Span) []Span {
	type edge struct {
		at      uint32
		in, out int
	}
	var edges []edge
	for _, s := range in {
		edges = append(edges, edge{s.From, 1, 0}, edge{s.To, -1, 0})
	}
	for _, s := range out {
		edges = append(edges, edge{s.From, 0, 1}, edge{s.To, 0, -1})
	}
	slices.SortFunc(edges, func(a, b edge) int { return int(a.at) - int(b.at) })
	var spans []Span
	inside, outside := 0, 0
	for i, e := range edges {
		inside, outside = inside+e.in, outside+e.out
		if i+1 < len(edges) && edges[i+1].at > e.at && inside > 0 && outside == 0 {
			if n := len(spans); n > 0 && spans[n-1].To == e.at {
				spans[n-1].To = edges[i+1].at
			} else {
				spans = append(spans, Span{e.at, edges[i+1].at})
			}
		}
	}
	return spans
}

// locate finds which marks are listed resources, and tells; the others are phantoms.
func (p *Map) locate(tell func(row int, mark uint32)) {
	tree := p.Estate.Tree
	var names []string
	for a, m := range p.Marks {
		if i := tree.Find(a.String()); i >= 0 {
			tell(i, m)
		} else {
			names = append(names, a.String())
			p.Phantoms, p.phantom = append(p.Phantoms, a), append(p.phantom, m)
		}
	}
	p.phantoms, _ = lookup.NewNames(tree.Names.Table.Seed, names)
}

// inherit gives every listed resource the mark above it and its class.
func (p *Map) inherit(classes *opset.Classes) {
	for i, row := range p.Estate.Tree.Rows {
		if !p.KnowsRow(i) {
			continue
		}
		s := &p.Spots[i]
		if s.Mark == 0 && row.Parent > 0 {
			s.Mark = p.Spots[row.Parent-1].Mark
		}
		s.Class = classes.Of(row.System, row.Type)
	}
}

// Covers says whether a list, by number, covers a spot.
func (p *Map) Covers(n int, at Spot) bool {
	l := &p.Lists[n]
	if l.Trait >= 0 && p.Traits.Has(at.Trait, l.Trait) {
		return true
	}
	return within(l.Spans, at.Mark)
}

// Under gives the marks at and inside an address, which is canonical; ok is false if it is no mark.
func (p *Map) Under(a estate.Address) (s Span, ok bool) {
	n, ok := p.Marks[a]
	s = Span{n, n + 1}
	for other, m := range p.Marks {
		if m >= s.To && other.Inside(a) {
			s.To = m + 1
		}
	}
	return s, ok
}

// Fork gives a map that answers as this one does and can be asked beside it, on another goroutine. It shares all but
// what it remembers. Nothing is being matched in it.
func (p *Map) Fork() *Map {
	f := *p
	t := &f.Traits
	t.known = map[traitKey]uint32{} // its keys name sets that are numbered anew
	t.numbers = lookup.Table{}      // made anew once it is needed
	t.Bits = p.Traits.Bits[:len(p.Traits.Bits):len(p.Traits.Bits)]
	t.judging = judging{} // which one alone may use
	t.forgetMachines()
	return &f
}
