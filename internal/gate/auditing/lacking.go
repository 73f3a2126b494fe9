package auditing

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/region"
)

// Lack is an operation that subjects may do without one that it needs.
type Lack struct {
	Grant     string // the first that gives the operation
	Operation string
	Need      string
	Subjects  []estate.Principal // people first, by id
	Places    []string           // some of the resources, in tree order; of those that no rule tells apart, one
	Count     int                // how many there are, so counted
}

// mostLacking is how many places a Lack names.
const mostLacking = 4

// Lacking lists where somebody may do an operation and, in some of the same contexts, not one that it needs. It costs
// what the cells do. Its error says that conditions are too complex.
func Lacking(ctx context.Context, g *gate.Gate) ([]Lack, error) {
	cells, err := differing.CompileCells(g.Estate(), differing.Scene{Which: g.Which, Roster: g.Roster, Base: g})
	if err != nil {
		return nil, err
	}
	l := &lacking{Cells: cells, covered: make([][]uint32, len(cells.Places.Lists)), at: make([]heldAt, cells.Numbers()),
		sets: map[string]int{"": 0}, pairs: [][]int{nil},
		known: map[changesAt]int{}, splits: map[grantSet]*split{}, regions: map[grantGives]region.Region{},
		found: map[grantSet]*shortfall{}, round: 1}
	wanted := l.numberNeeds()
	cells.Choose(func(o *estate.Operation) bool { return wanted[o.Name] }, nil)
	l.climb()
	err = cells.ByClass(ctx, clock.Beginning, l.take, func(class []estate.Principal) error {
		err := l.settle(class)
		l.round++
		l.touched = l.touched[:0]
		return err
	})
	if err != nil {
		return nil, err
	}
	return l.tell(), nil
}

// lacking looks for what is missing, class of subjects by class. What is missing on a pile hangs on what a subject may
// do there (a change list) and in the places above where it is judged, which few combinations make up.
type lacking struct {
	*differing.Cells
	needs   []need
	above   []upward // of each pile
	round   int
	at      []heldAt // of each pile
	touched []uint32 // piles on which the class at hand may do anything
	known   map[changesAt]int
	last    struct {
		key changesAt
		set int
	}
	sets    map[string]int // of needs by their numbers, the number of the set
	pairs   [][]int        // of each set, the needs
	covered [][]uint32     // of each list that a grant names, the piles; nil until it is asked for
	splits  map[grantSet]*split
	regions map[grantGives]region.Region
	found   map[grantSet]*shortfall
}

// need is an operation with one that it needs, by numbers of the pair and by name.
type need struct {
	operation, needed uint32
	names             [2]string
}

// upward is where what the operations on a pile need is judged: the pile itself, or what its resources stand in, which
// can be in several.
type upward struct {
	piles []uint32
	by    [][]int // of each need, where it is among them; none if it is judged nowhere
	shape int     // the same where by is
}

// heldAt is what a subject may do on a pile, and what is missing and not told yet, if it is of this round.
type heldAt struct {
	round   int
	changes differing.ChangeList
	set     int
}

// changesAt is all that what is missing hangs on.
type changesAt struct {
	shape int
	turns [4]differing.ChangeList // on the pile, and above
}

type grantSet struct{ grant, set int }

type grantGives struct {
	grant     int
	operation string
}

// split parts a set of needs: those of operations that a grant gives are told of, nil if it is none; the rest are left.
type split struct {
	gap  *shortfall
	rest int
}

// shortfall is to whom, and on which of the piles that it covers, a grant gives the operations of a set of needs.
type shortfall struct {
	subjects []estate.Principal
	places   []bool
}

// numberNeeds numbers the needs and tells which operations occur in them.
func (l *lacking) numberNeeds() map[string]bool {
	wanted := map[string]bool{}
	for i, name := range l.Names() {
		for _, needed := range l.Estate().Operations[name].Needs {
			n, _ := slices.BinarySearch(l.Names(), needed)
			l.needs = append(l.needs, need{uint32(i), uint32(n), [2]string{name, needed}})
			wanted[name], wanted[needed] = true, true
		}
	}
	return wanted
}

// climb finds for each pile where its needs are judged.
func (l *lacking) climb() {
	type kind struct{ pile, above int }
	tree, all := l.Estate().Tree, l.All()
	piles := make([]int, tree.Len())
	for n, p := range all {
		for row := range p.Rows(l.Estate()) {
			if row >= 0 {
				piles[row] = n
			}
		}
	}
	var kinds []kind
	known := map[kind]int{}
	of := make([]int, tree.Len())
	for i, row := range tree.Rows {
		k := kind{piles[i], -1}
		if row.Parent > 0 {
			k.above = of[row.Parent-1]
		}
		n, ok := known[k]
		if !ok {
			n = len(kinds)
			known[k] = n
			kinds = append(kinds, k)
		}
		of[i] = n
	}
	l.above = make([]upward, len(all))
	valid := func(pile int, operation string) bool {
		class := all[pile].Class()
		return l.Estate().Offer(l.Gate.Classes.Kinds[class]).Valid(operation, l.Gate.Classes.Types[class]) != nil
	}
	nearest := make([]int, len(kinds)) // what stands above comes before it
	for i, need := range l.needs {
		for n, k := range kinds {
			switch {
			case valid(k.pile, need.names[1]):
				nearest[n] = k.pile
			case k.above >= 0:
				nearest[n] = nearest[k.above]
			default:
				nearest[n] = -1
			}
			if nearest[n] < 0 || !valid(k.pile, need.names[0]) {
				continue
			}
			up := &l.above[k.pile]
			if up.by == nil {
				up.by = make([][]int, len(l.needs))
			}
			at := slices.Index(up.piles, uint32(nearest[n]))
			if at < 0 {
				at = len(up.piles)
				up.piles = append(up.piles, uint32(nearest[n]))
			}
			if !slices.Contains(up.by[i], at) {
				up.by[i] = append(up.by[i], at)
			}
		}
	}
	shapes := map[string]int{}
	for n := range l.above {
		key := fmt.Sprint(l.above[n].by)
		if _, ok := shapes[key]; !ok {
			shapes[key] = len(shapes)
		}
		l.above[n].shape = shapes[key]
	}
}

// take takes down what the class at hand may do on some piles.
func (l *lacking) take(t differing.ChangeList, piles []*differing.Pile) {
	for _, p := range piles {
		n := uint32(p.Number())
		at := &l.at[n]
		if at.round != l.round { // a pile may come in parts
			l.touched = append(l.touched, n)
		}
		at.round, at.changes = l.round, t
	}
}

// settle finds what a class lacks, and the grants that give it what is of no use.
func (l *lacking) settle(class []estate.Principal) error {
	left := false
	for _, n := range l.touched {
		at := &l.at[n]
		at.set = 0
		if l.All()[n].Listed() {
			at.set = l.missing(n, at.changes)
			left = left || at.set > 0
		}
	}
	if !left {
		return nil
	}
	s := l.Numbered(l.NumberOf(class[0]))
	for _, gr := range s.Grants {
		last, by := 0, (*split)(nil)
		for i, n := range l.piles(gr.List) {
			at := &l.at[n]
			if at.round != l.round || at.set == 0 {
				continue
			}
			if at.set != last || by == nil {
				var err error
				if by, err = l.split(gr, s, at.set, n); err != nil {
					return err
				}
				last = at.set
			}
			if one := by.gap; one != nil {
				if k := len(one.subjects); k == 0 || one.subjects[k-1] != class[len(class)-1] {
					one.subjects = append(one.subjects, class...)
				}
				one.places[i] = true
			}
			at.set = by.rest
			if l.asks(gr) {
				by = nil // it may be otherwise on the next pile
			}
		}
	}
	return nil
}

// missing works out what is missing on a pile, as a set of needs.
func (l *lacking) missing(n uint32, here differing.ChangeList) int {
	up := &l.above[n]
	key := changesAt{up.shape, [4]differing.ChangeList{here}}
	turns := make([]differing.ChangeList, 0, len(key.turns))
	for i, above := range up.piles {
		t := differing.NoChange
		if l.at[above].round == l.round {
			t = l.at[above].changes
		}
		if turns = append(turns, t); i+1 < len(key.turns) {
			key.turns[i+1] = t
		}
	}
	if key == l.last.key && len(turns) < len(key.turns) {
		return l.last.set
	}
	set, ok := l.known[key]
	if !ok || len(turns) >= len(key.turns) {
		var missing []int
		for i, need := range l.needs {
			has := l.When(here, need.operation)
			if has == region.Empty || up.by == nil {
				continue
			}
			for _, k := range up.by[i] {
				inside, err := l.Space().Contains(l.When(turns[k], need.needed), has)
				if err == nil && !inside { // else it is too complex to say
					missing = append(missing, i)
					break
				}
			}
		}
		set = l.set(missing)
		l.known[key] = set
	}
	l.last.key, l.last.set = key, set
	return set
}

// set numbers a set of needs; none is 0.
func (l *lacking) set(needs []int) int {
	key := ""
	if len(needs) > 0 {
		key = fmt.Sprint(needs)
	}
	n, ok := l.sets[key]
	if !ok {
		n = len(l.pairs)
		l.sets[key] = n
		l.pairs = append(l.pairs, needs)
	}
	return n
}

func (l *lacking) asks(gr *gate.CompiledGrant) bool {
	return l.Space().AsksBelow(gr.Region, l.Facts.Fixed)
}

// split tells which needs of a set a grant brings about on a pile.
func (l *lacking) split(gr *gate.CompiledGrant, s *gate.CompiledSubject, set int, pile uint32) (*split, error) {
	key := grantSet{gr.Number, set}
	if out := l.splits[key]; out != nil && !l.asks(gr) {
		return out, nil
	}
	var given, rest []int
	for _, i := range l.pairs[set] {
		when, err := l.gives(gr, s, l.needs[i].names[0])
		if err != nil {
			return nil, err
		}
		if l.asks(gr) {
			when = l.Space().Fix(when, l.Gate.Known(s, l.All()[pile].Resource(differing.New)))
		}
		if when == region.Empty {
			rest = append(rest, i)
		} else {
			given = append(given, i)
		}
	}
	out := &split{rest: l.set(rest)}
	if len(given) > 0 {
		at := grantSet{gr.Number, l.set(given)}
		if out.gap = l.found[at]; out.gap == nil {
			out.gap = &shortfall{places: make([]bool, len(l.piles(gr.List)))}
			l.found[at] = out.gap
		}
	}
	l.splits[key] = out
	return out, nil
}

// gives is when a grant gives an operation to those it goes to.
func (l *lacking) gives(gr *gate.CompiledGrant, s *gate.CompiledSubject, operation string) (region.Region, error) {
	key := grantGives{gr.Number, operation}
	when, ok := l.regions[key]
	if !ok {
		var err error
		if when, err = l.GrantRegion(gr, gate.SessionQuery{Subject: s, Operation: operation}); err != nil {
			return when, err
		}
		l.regions[key] = when
	}
	return when, nil
}

// piles lists those that a list covers, by number.
func (l *lacking) piles(list int) []uint32 {
	if l.covered[list] == nil {
		l.covered[list] = l.Covered(list)
	}
	return l.covered[list]
}

// tell lists what was found by grant, operation and need.
func (l *lacking) tell() []Lack {
	type gap struct{ grant, need int }
	all := map[gap]*shortfall{}
	for k, found := range l.found {
		for _, i := range l.pairs[k.set] {
			one := all[gap{k.grant, i}]
			if one == nil {
				one = &shortfall{places: make([]bool, len(found.places))}
				all[gap{k.grant, i}] = one
			}
			one.subjects = append(one.subjects, found.subjects...)
			for n, is := range found.places {
				one.places[n] = one.places[n] || is
			}
		}
	}
	out := make([]Lack, 0, len(all))
	for k, found := range all {
		gr := l.Grants[k.grant]
		one := Lack{Grant: gr.ID, Operation: l.needs[k.need].names[0], Need: l.needs[k.need].names[1],
			Subjects: found.subjects}
		for i, n := range l.piles(gr.List) {
			if found.places[i] {
				if one.Count++; one.Count <= mostLacking {
					one.Places = append(one.Places, l.All()[n].First())
				}
			}
		}
		slices.SortFunc(one.Subjects, estate.Principal.Compare)
		one.Subjects = slices.Compact(one.Subjects)
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b Lack) int {
		return cmp.Or(strings.Compare(a.Grant, b.Grant), strings.Compare(a.Operation, b.Operation),
			strings.Compare(a.Need, b.Need))
	})
	return out
}
