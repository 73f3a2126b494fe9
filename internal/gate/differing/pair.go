// Package differing holds two estates against each other, without deciding cell by cell: who may do what on what that
// was not so before, among what is listed and what may come. All that anybody may do at all is the difference from an
// estate without grants.
package differing

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// Pair is two estates compiled alike, an old and a new one: their regions are of one space and their marks are the
// same, so that what each gives can be held against the other without deciding cell by cell.
type Pair struct {
	Old, New   *gate.Gate
	sides      [2]*side
	piles      []*Pile
	sets       *gathering    // of piles, since what is looked at began
	parts      *placemap.Map // which tells listed resources apart by more lists; nil: there are none
	first      []uint32      // of each mark, its first pile
	span       [2]uint32     // the marks, from one on and below another, that the chosen piles have
	uneven     []uint32      // piles that are not alike on both sides
	covers     *lookup.Sequences
	units      map[jointUnit]uint32
	list       []jointUnit       // by number
	within     *lookup.Sequences // by coverage, the piles
	names      []string          // operations of both, by number
	since      region.Region
	inside     region.Region                   // in which alone cells are told
	whole      map[region.Region]region.Region // of what is left of them from then on
	cells      map[string]*operationTimes
	turned     map[[2]*operationTimes]changeList
	turns      [][]operationChange // by number
	owners     bool                // some condition asks who owns
	only       map[estate.Principal]bool
	every      bool                        // piles are told on which nobody may anything, too
	wanted     []bool                      // of each operation, whether it is looked at; nil: all are
	chosen     []bool                      // likewise of each pile
	among      func(estate.Principal) bool // whoever is looked at; nil: everybody
	onlyOne    bool                        // one difference of each subject is enough
	concerned  []told                      // of covers, whether they have any that is
	speaking   []told                      // likewise of units
	sort       []uint32                    // of each pile, its sort; noSort: none
	sorts      int
	manners    map[manner]uint32          // by number
	bare       map[bareSpot][]changeList  // by sort
	runs       map[bareStretch][]run      // of the stretches that have been gone through
	remembered int                        // of those, the runs and the stretches
	tested     map[estate.Principal]bool  // the owners by which what may come is told apart
	made       map[*newplace.Specimen]int // of what may come, as which it was made up
	// Entries are those of both that count for whoever is looked at, and Lends says that some of them, as far as they
	// are looked at, are on request.
	Entries *[2]*gate.Entries
	Lends   bool
	// Part says that the gates answer about some places alone.
	Part bool
	// Whole says that all that may come is looked at; else there would be too much.
	Whole  bool
	idle   []*newplace.Specimen
	named  bool
	judged bool                               // those alone that a system judges though no inventory lists them
	rest   func() ([]newplace.Specimen, bool) // makes up more that are idle; nil: there are no more
}

// side is what a pair knows of one of its gates.
type side struct {
	*gate.Gate
	other     bool                     // it is the new one
	where     []int                    // lists, by number, of which one covers all that is looked at; nil: all is
	looking   func(placemap.Spot) bool // whether a spot is looked at
	operation []uint32                 // of each of the gate's operations, its number in the pair
	joint     []uint32                 // of each unit, its number in the pair
	cover     [2][]uint32              // of covers, those alone first, their number in the pair and one; 0: not known
	held      []bool                   // of each list that traits tell, whether somebody has something under it
	coverage  []uint32                 // of each of those, its coverage's number in the pair
	valid     map[uint32][]uint32      // of each class of resources, the operations, by number in the pair
	owned     map[estate.Principal][]ownedPlace
	owners    map[int][]estate.Principal // of each subject, as whom it owns something
}

// number is that of the side in the pair.
func (s *side) number() int {
	if s.other {
		return int(New)
	}
	return int(Old)
}

// ownedPlace is one resource of a pile.
type ownedPlace struct {
	pile  uint32
	index int
}

// jointUnit is a unit by what it says.
type jointUnit struct {
	ops    string
	region region.Region
	block  bool
}

// Estates are an old and a new estate, and what of them is compared.
type Estates struct {
	Before, After *estate.Estate
	Which         gate.Counting // which grants count
	// Only are those who are looked at, and for whom alone the gates answer; nil: everybody.
	Only    map[estate.Principal]bool
	Rosters [2]*membership.Roster // those that are known already, else nil
	// Where are lists of which one covers, on either side, all that is looked at and that the gates answer about, where
	// places are as in the gate at hand; nil: everything.
	Where *[2][]estate.Resources
	// Entries are those that count for whoever is looked at; nil: they are not known.
	Entries *[2]*gate.Entries
	// Base is a gate of either estate that is there already: places are as in it where it tells apart all that matters;
	// nil: there is none.
	Base *gate.Gate
	// Coming is what is looked at that may come: what an inventory lists one day, and what a system judges in none; nil:
	// nothing.
	Coming *Coming
}

// Coming says what a pair looks at that may come. The first lists are of the old estate.
type Coming struct {
	// Apart are lists by which it is told apart, beside those of grants and blocks.
	Apart [2][]estate.Resources
	// For are those whose grants and blocks tell it apart; nil: everybody's do. They are among those who are looked at.
	For map[estate.Principal]bool
	// Near leaves out the grants and blocks that can cover nothing of what must be covered.
	Near bool
	// Within are lists of which one must cover it on either side, unless it inherits and the listed resources are others
	// and not within that; nil: all is looked at.
	Within *[2][]estate.Resources
	// TreesWithin says that one of these covers, too, what the estates do not list alike, and all within that.
	TreesWithin bool
	// Inherit is how many ways of that are looked at that inherit, where TreesWithin is so; 0: no fewer than others.
	Inherit int
	// Most is how many ways of it are looked at; as many as there can be, where it is 0.
	Most int
	// Judged leaves out all but what a system judges though no inventory lists it.
	Judged bool
}

// CompilePair compiles two estates alike. Local times are those of the new estate's zone in both. Its error names
// entries whose conditions are too complex.
func CompilePair(of Estates) (*Pair, error) {
	return compilePair(sides{Estates: of}, gate.Options{Facts: factspace.Gather(of.Before, of.After), Which: of.Which,
		Only: of.Only})
}

// CompileGates gives gates of two estates that answer about those who are looked at, as those of a pair do, and nothing
// to hold them against each other.
func CompileGates(of Estates) ([2]*gate.Gate, error) {
	s, o := sides{Estates: of, loose: true}, gate.Options{Facts: factspace.Gather(of.Before, of.After), Which: of.Which,
		Only: of.Only}
	s.begin(&o)
	if o.Places = s.places(&o); o.Places != nil {
		o.Lists = nil
	}
	return s.compile(o)
}

// sides are estates on the way to a pair.
type sides struct {
	Estates
	bare       bool             // the old one is the new one without grants and blocks
	loose      bool             // nobody holds one against the other, so that either has the marks that it has
	everywhere bool             // places are told apart where nobody who is looked at may anything, too
	beside     []estate.Address // in no inventory, that are looked at too
	alike      bool             // the places of one do for the other
	chosen     [2]*gate.Entries
	near       [2]*placemap.Near // what all that is looked at lies in, in either estate; nil: it lies anywhere
}

func (s *sides) both() [2]*estate.Estate { return [2]*estate.Estate{s.Before, s.After} }

// compilePair does it with options that hold for both sides; their marks and lists are told apart too.
func compilePair(s sides, o gate.Options) (*Pair, error) {
	beside := o.Lists
	s.begin(&o)
	p := &Pair{Entries: s.Entries, Lends: s.lends(), Part: s.Where != nil,
		inside: region.Full, covers: lookup.NewSequences(), units: map[jointUnit]uint32{},
		within: lookup.NewSequences(),
		cells:  map[string]*operationTimes{}, turned: map[[2]*operationTimes]changeList{}}
	if o.Places = s.places(&o); o.Places != nil {
		p.parts, o.Lists = s.rest(&o, beside), nil
	}
	gates, err := s.compile(o)
	if err != nil {
		return nil, err
	}
	for k, g := range gates {
		p.sides[k] = &side{Gate: g, other: k == 1, valid: map[uint32][]uint32{}, where: s.where(g.Places)}
	}
	p.Old, p.New = p.sides[0].Gate, p.sides[1].Gate
	p.owners, p.only, p.every = o.Facts.Owner, s.Only, s.everywhere
	p.join()
	var coming []newplace.Specimen
	if c := s.Coming; c != nil {
		var lists [2][]estate.Resources
		for k := range lists {
			entries := s.tellingComing(k)
			lists[k] = append(gate.ListsOf(entries.Grants, entries.Blocks), c.Apart[k]...)
		}
		coming, p.Whole, p.rest = newplace.Specimens(newplace.Basis{Estates: s.both(), Lists: lists, Within: c.Within,
			Facts: &o.Facts, Most: c.Most, TreesWithin: c.TreesWithin, Inherit: c.Inherit, Unsettled: p.unsettled()})
		if p.judged = c.Judged; c.Judged {
			coming = slices.DeleteFunc(coming, func(s newplace.Specimen) bool { return !s.Inherit })
		}
	}
	p.buildPiles(coming, s.beside)
	return p, nil
}

// tellingComing gives the grants and blocks of an estate that tell apart what may come. They are the same whether there
// is a gate at hand or not, since which ways are told, where there are too many, hangs on them.
func (s *sides) tellingComing(k int) *gate.Entries {
	c, e, entries := s.Coming, s.both()[k], s.Entries[k]
	if c.For != nil && (s.Only == nil || len(c.For) < len(s.Only)) {
		entries = gate.EntriesFor(e, s.Rosters[k], c.For)
	}
	if c.Near && s.After.TermsAs(s.Before) {
		entries = entries.On(placemap.NewNear(e, slices.Concat(c.Within[Old], c.Within[New])).Meets)
	}
	return entries
}

// begin looks at what is compiled.
func (s *sides) begin(o *gate.Options) {
	o.Space = o.Facts.Space(s.After)
	// With the same resources and scopes the places of one side, told apart by the lists of both, do for the other.
	s.alike = s.After.PlacesAs(s.Before)
	if s.Where != nil && !s.here() && !s.nearby() {
		s.Where = nil
	}
	s.choose(o)
}

// nearby says that few resources are looked at, in either estate, where these do not list the same; they are told apart
// anew.
func (s *sides) nearby() bool {
	if s.After.Tree == s.Before.Tree || !s.After.TermsAs(s.Before) {
		return false
	}
	s.lookNear()
	return s.near[Old].Few() && s.near[New].Few()
}

// lookNear takes down where all lies that is looked at.
func (s *sides) lookNear() {
	for k, e := range s.both() {
		if s.near[k] == nil {
			s.near[k] = placemap.NewNear(e, slices.Concat(s.Where[Old], s.Where[New]))
		}
	}
}

// lends says that one of the grants that are chosen is on request.
func (s *sides) lends() bool {
	return slices.ContainsFunc(s.chosen[:], func(e *gate.Entries) bool {
		return slices.ContainsFunc(e.Grants, func(g *estate.Grant) bool { return g.OnRequest != nil })
	})
}

// choose chooses the entries that count on either side, and the marks and lists that both are told apart by.
func (s *sides) choose(o *gate.Options) {
	marks := map[estate.Address]bool{}
	for _, a := range o.Marks {
		marks[a] = true
	}
	if s.Where != nil {
		s.lookNear()
	}
	if s.Entries == nil {
		s.Entries = &[2]*gate.Entries{}
		for k, e := range s.both() {
			if s.Only != nil && s.Rosters[k] == nil {
				s.Rosters[k] = membership.New(e)
			}
			if s.Base != nil {
				s.Entries[k] = s.Base.EntriesFor(e, s.Rosters[k], s.Only)
			} else {
				s.Entries[k] = gate.EntriesFor(e, s.Rosters[k], s.Only)
			}
		}
	}
	for k, e := range s.both() {
		s.chosen[k] = s.Entries[k]
		if meets := s.meets(k); meets != nil {
			s.chosen[k] = s.chosen[k].On(meets)
		}
		if !s.alike {
			lists := append(gate.ListsOf(s.chosen[k].Grants, s.chosen[k].Blocks), o.Lists...)
			if s.Where != nil {
				lists = slices.Concat(lists, s.Where[Old], s.Where[New])
			}
			apart, _ := placemap.TakeApart(e, lists, nil)
			for a := range apart.Marks {
				marks[a] = true
			}
		}
		if s.Only != nil { // addresses in no inventory are told, whoever names them
			for _, a := range s.unlisted(e) {
				marks[a] = true
			}
		}
	}
	o.Marks = slices.SortedFunc(maps.Keys(marks), estate.Address.Compare)
	if s.alike {
		o.Lists = slices.Concat(o.Lists, gate.ListsOf(s.chosen[1].Grants, s.chosen[1].Blocks))
	}
}

// meets tells of a list whether it may cover anything that is looked at; nil: everything is.
func (s *sides) meets(k int) func(estate.Resources) bool {
	if s.Where == nil {
		return nil
	}
	if s.Coming == nil && s.alike {
		if exactly := s.near[New].Exactly(s.Base.Places); exactly != nil {
			return exactly
		}
	}
	return s.near[k].Meets
}

// unlisted lists the addresses in no inventory that an estate's grants and blocks name, but for those that the gate at
// hand knows.
func (s *sides) unlisted(e *estate.Estate) (out []estate.Address) {
	all := &placemap.Map{Traits: placemap.Traits{Estate: e}, Marks: map[estate.Address]uint32{}}
	known := &estate.Estate{}
	if s.here() {
		known = s.Base.Estate()
	}
	for id, g := range e.Grants {
		if known.Grants[id] != g {
			all.GatherMarks(g.On)
		}
	}
	for id, b := range e.Blocks {
		if known.Blocks[id] != b {
			all.GatherMarks(b.On)
		}
	}
	for a := range all.Marks {
		if e.Tree.Find(a.String()) < 0 {
			out = append(out, a)
		}
	}
	return out
}

// here says that there is a gate at hand, and places are as in it.
func (s *sides) here() bool {
	return s.Base != nil && s.alike && s.After.PlacesAs(s.Base.Estate())
}

// places gives the places of the gate at hand, told apart by all lists of the entries that count and by all marks; nil
// where there is no gate, or places are others.
func (s *sides) places(o *gate.Options) *placemap.Map {
	if !s.here() {
		return nil
	}
	var lists []estate.Resources
	for _, entries := range s.chosen {
		lists = append(lists, gate.ListsOf(entries.Grants, entries.Blocks)...)
	}
	if s.Where != nil {
		lists = append(lists, slices.Concat(s.Where[Old], s.Where[New])...)
		if slices.ContainsFunc(lists, func(l estate.Resources) bool { return !s.Base.Places.Knows(l) }) {
			if part := s.Base.Places.Part(lists, o.Marks, s.near[New]); part != nil {
				return part
			}
		}
	}
	return s.Base.Places.Knowing(lists, o.Marks)
}

// where numbers the lists of which one covers what is looked at; nil where everything is.
func (s *sides) where(places *placemap.Map) []int {
	if s.Where == nil {
		return nil
	}
	out := []int{}
	for _, l := range slices.Concat(s.Where[Old], s.Where[New]) {
		n, _ := places.NumberOf(l)
		out = append(out, n)
	}
	return out
}

// rest tells listed resources apart by those of some lists that the places do not know; nil where there are none.
func (s *sides) rest(o *gate.Options, beside []estate.Resources) *placemap.Map {
	var unknown []estate.Resources
	for _, l := range beside {
		if !o.Places.Knows(l) {
			unknown = append(unknown, l)
		}
	}
	if unknown == nil {
		return nil
	}
	parts, _ := placemap.New(s.After, unknown, nil, s.Base.Classes)
	return parts
}

// compile compiles the sides.
func (s *sides) compile(o gate.Options) (gates [2]*gate.Gate, err error) {
	if s.atHand(&o) {
		return [2]*gate.Gate{s.Base.Bare(s.Before), s.Base}, nil
	}
	if s.bare {
		o.Roster, o.Entries = s.Rosters[1], s.chosen[1]
		if gates[1], err = gate.CompileWith(s.After, nil, o); err == nil {
			gates[0] = gates[1].Bare(s.Before)
		}
		return gates, err
	}
	for k := range gates {
		if gates[k], err = s.compileSide(k, o); err != nil {
			return gates, err
		}
		if o.Places = nil; s.alike {
			o.Places = gates[k].Places
		}
	}
	return gates, nil
}

// compileSide compiles one of the estates.
func (s *sides) compileSide(k int, o gate.Options) (*gate.Gate, error) {
	o.Roster, o.Entries = s.Rosters[k], s.chosen[k]
	e, lists := s.both()[k], gate.ListsOf(s.chosen[k].Grants, s.chosen[k].Blocks)
	switch {
	case s.alike:
	case s.Where != nil:
		lists = slices.Concat(lists, s.Where[Old], s.Where[New])
		o.Places = placemap.PartOf(lists, o.Marks, s.near[k], opset.New(e))
	case s.loose && s.Base != nil:
		if places := s.Base.PlacesOf(e); places != nil {
			o.Places = places.Knowing(lists, o.Marks)
		}
	}
	return gate.CompileWith(e, nil, o)
}

// atHand says that the gate at hand is that of the estate that has the grants.
func (s *sides) atHand(o *gate.Options) bool {
	if !s.bare || s.Base == nil || o.Places != s.Base.Places || s.Only != nil || s.Base.Estate() != s.After ||
		!s.Base.Complete() {
		return false
	}
	return s.Which == s.Base.Which || !s.lends() && s.Which != gate.OnRequest && s.Base.Which != gate.OnRequest
}

// Ever gives a region of which what is over by now was left out as it was before that.
func (p *Pair) Ever(r region.Region) region.Region {
	if whole, ok := p.whole[r]; ok {
		return whole
	}
	return r
}

// Space gives the space of the regions of both.
func (p *Pair) Space() *region.Space { return p.New.Space() }

// join numbers operations and units in common.
func (p *Pair) join() {
	all := map[string]bool{}
	for _, s := range p.sides {
		for _, o := range s.Classes.Ops.List {
			all[o.Name] = true
		}
	}
	p.names = slices.Sorted(maps.Keys(all))
	number := map[string]uint32{}
	for i, name := range p.names {
		number[name] = uint32(i)
	}
	words := (len(p.names) + 63) / 64
	for _, s := range p.sides {
		for _, o := range s.Classes.Ops.List {
			s.operation = append(s.operation, number[o.Name])
		}
		for n, u := range s.Gate.Units.List {
			set := make(opset.Set, words)
			for i := range s.operation {
				if s.Gate.Units.Has(uint32(n), uint32(i)) {
					set.Add(s.operation[i])
				}
			}
			one := jointUnit{set.Key(), u.Region, u.Block}
			j, ok := p.units[one]
			if !ok {
				j = uint32(len(p.list))
				p.units[one] = j
				p.list = append(p.list, one)
			}
			s.joint = append(s.joint, j)
		}
	}
}

// has says whether a unit has an operation.
func (u *jointUnit) has(operation uint32) bool {
	return u.ops[operation/8]&(1<<(operation%8)) != 0
}

// coverOf gives the number in the pair of a cover of one side.
func (p *Pair) coverOf(s *side, cover uint32) uint32 {
	known, i := &s.cover[1], int(cover)
	if cover&unitrow.Alone != 0 {
		known, i = &s.cover[0], int(cover&^unitrow.Alone)
	}
	if more := i + 1 - len(*known); more > 0 {
		*known = append(*known, make([]uint32, more)...)
	}
	if n := (*known)[i]; n > 0 {
		return n - 1
	}
	var one [1]uint32
	var seq []uint32
	for _, u := range s.Rows.Cover(cover, &one) {
		seq = append(seq, s.joint[u])
	}
	slices.Sort(seq)
	n := p.covers.Number(slices.Compact(seq))
	(*known)[i] = n + 1
	return n
}

// validOn lists the operations that are valid on a class of resources of one side.
func (p *Pair) validOn(s *side, class uint32) []uint32 {
	list, ok := s.valid[class]
	if !ok {
		for i, n := range s.operation {
			if s.Classes.Valid[class].Has(uint32(i)) && (p.wanted == nil || p.wanted[n]) {
				list = append(list, n)
			}
		}
		s.valid[class] = list
	}
	return list
}

// cover finds which piles each list covers that traits tell, of those under which somebody has something.
func (p *Pair) cover(s *side) {
	s.held = make([]bool, len(s.Places.Complex))
	for _, e := range s.Rows.Extras {
		s.held[e.Trait] = true
	}
	in := p.coveredBy(s, func(list int) bool { return s.held[list] })
	s.coverage = make([]uint32, len(in))
	for list, piles := range in {
		s.coverage[list] = p.within.Number(piles)
	}
}

// coveredBy lists the piles that some of the lists cover that traits tell, by list.
func (p *Pair) coveredBy(s *side, some func(list int) bool) [][]uint32 {
	k := s.number()
	in := make([][]uint32, len(s.Places.Complex))
	for n, pile := range p.piles {
		if !pile.looks[k].there {
			continue
		}
		for list := range s.Places.Traits.Lists(pile.looks[k].at.Trait) {
			if some(list) {
				in[list] = append(in[list], uint32(n))
			}
		}
	}
	return in
}

// gatherOwned lists what each principal owns on a side, and as whom each subject owns something.
func (p *Pair) gatherOwned(k int) {
	s := p.sides[k]
	s.owned, s.owners = map[estate.Principal][]ownedPlace{}, map[int][]estate.Principal{}
	for n, pile := range p.piles {
		if !pile.looks[k].there {
			continue
		}
		for i := range pile.Len() {
			if o := pile.owner(k, i); o != nil {
				s.owned[*o] = append(s.owned[*o], ownedPlace{uint32(n), i})
			}
		}
	}
	for o := range s.owned {
		if o.Kind == estate.IsGroup && s.Estate().Groups[o.ID] == nil {
			continue // of what may come, in the other estate
		}
		if o.Kind != estate.IsGroup {
			n := s.NumberOf(o)
			if n < 0 {
				continue
			}
			s.owners[n] = append(s.owners[n], o)
			continue
		}
		for _, n := range s.Lists.Group(o.ID) {
			s.owners[int(n)] = append(s.owners[int(n)], o)
		}
	}
}

// Side is one of the estates of a pair.
type Side int

// Old is the estate as it was, New as it is.
const (
	Old Side = iota
	New
)

// Gate gives that of one of the estates.
func (p *Pair) Gate(k Side) *gate.Gate { return p.sides[k].Gate }

// Idle lists what may come to which nobody's access differs, without its having been looked at closer; named says that
// all is there, to be told apart from what differs.
func (p *Pair) Idle() (idle []*newplace.Specimen, named bool) {
	if p.rest != nil {
		more, named := p.rest()
		for i := range more {
			if !p.judged || more[i].Inherit {
				p.idle = append(p.idle, &more[i])
			}
		}
		p.rest, p.named = nil, named
	}
	return p.idle, p.named
}

// Coming lists the piles that stand for what may come and are looked at, in the order in which it was made up, which is
// the same whether there is a gate at hand or not.
func (p *Pair) Coming() (out []*Pile) {
	for _, pile := range p.piles {
		if pile.may != nil {
			out = append(out, pile)
		}
	}
	slices.SortFunc(out, func(a, b *Pile) int { return p.made[a.may] - p.made[b.may] })
	return out
}

// Narrower says whether a grant is in force at no time and under no condition, its own ones, in which it was not
// before.
func (p *Pair) Narrower(grant string) bool {
	was, is := p.Old.GrantOf(grant), p.New.GrantOf(grant)
	if was == nil || is == nil {
		return false
	}
	holds, err := p.New.Space().Contains(was.Region, is.Region)
	return err == nil && holds
}
