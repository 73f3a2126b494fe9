package gate

import (
	"encoding/binary"
	"iter"
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// Pair is two estates compiled alike, an old and a new one: their regions are of one space and their marks are the
// same, so that what each gives can be held against the other without deciding cell by cell.
type Pair struct {
	Old, New  *Gate
	sides     [2]*side
	piles     []*Pile
	first     []uint32 // of each mark, its first pile
	uneven    []uint32 // piles that are not alike on both sides
	covers    *lookup.Sequences
	units     map[jointUnit]uint32
	list      []jointUnit // by number
	coverages map[string]uint32
	within    [][]uint32 // of each coverage, the piles
	names     []string   // operations of both, by number
	since     region.Region
	whole     map[region.Region]region.Region // of what is left of them from then on
	cells     map[string]*operationTimes
	turned    map[[2]*operationTimes]changeList
	turns     [][]operationChange // by number
	owners    bool                // some condition asks who owns
	only      map[estate.Principal]bool
	wanted    []bool                      // of each operation, whether it is looked at; nil: all are
	chosen    []bool                      // likewise of each pile
	among     func(estate.Principal) bool // whoever is looked at; nil: everybody
	onlyOne   bool                        // one difference of each subject is enough
	concerned map[uint32]bool             // of covers, whether they have any that is
	sort      []uint32                    // of each pile, its sort; noSort: none
	sorts     int
	bare      map[bareSpot][]changeList // by sort
	tested    map[estate.Principal]bool // the owners by which what may come is told apart
	// Whole says that all that may come is looked at; else there would be too much.
	Whole bool
	// Named says that all else that may come is there in Idle, to be told apart from what differs.
	Named bool
	idle  []*newplace.StandIn
}

// side is what a pair knows of one of its gates.
type side struct {
	*Gate
	other     bool                // it is the new one
	operation []uint32            // of each of the gate's operations, its number in the pair
	joint     []uint32            // of each unit, its number in the pair
	cover     map[uint32]uint32   // of covers, their number in the pair
	coverage  []uint32            // of each list that traits tell, its coverage's number in the pair
	valid     map[uint32][]uint32 // of each class of resources, the operations, by number in the pair
	owned     map[estate.Principal][]ownedPlace
	owners    map[int][]estate.Principal // of each subject, as whom it owns something
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

// place is one resource: its row on either side, -1 where it is not listed.
type place struct{ rows [2]int32 }

// look is all that tells resources apart on one side.
type look struct {
	at    placemap.Spot
	there bool // the estate knows such an address, or judges it
	facts uint32
	owner uint32 // where some condition asks who owns
}

// Pile is resources that nothing tells apart, neither in the old estate nor in the new one.
type Pile struct {
	looks  [2]look
	places []place
	text   string            // the address, where it is in no inventory of either
	may    *newplace.StandIn // what it stands for that may come; nil: it is there
	pair   *Pair
	number uint32
}

// Addresses gives the resources' addresses, in tree order.
func (p *Pile) Addresses() iter.Seq[string] {
	return func(yield func(string) bool) {
		for i := range p.places {
			if !yield(p.address(i)) {
				return
			}
		}
	}
}

// Rows gives the resources by their rows in the tree of one of the pair's estates, -1 where it does not list them, and
// what tells the address.
func (p *Pile) Rows(of *estate.Estate) iter.Seq2[int, func() string] {
	k := 0
	if p.pair.New.estate.Tree == of.Tree {
		k = 1
	}
	return func(yield func(int, func() string) bool) {
		for i, at := range p.places {
			if !yield(int(at.rows[k]), func() string { return p.address(i) }) {
				return
			}
		}
	}
}

func (p *Pile) address(i int) string {
	if p.text != "" {
		return p.text
	}
	if row := p.places[i].rows[1]; row >= 0 {
		return p.pair.New.estate.Tree.Address(int(row))
	}
	return p.pair.Old.estate.Tree.Address(int(p.places[i].rows[0]))
}

// row gives the row of a resource on a side, or of the nearest listed one above.
func (p *Pile) row(k, i int) int {
	if p.may != nil && !p.may.Inherit {
		return -1
	}
	if row := p.places[i].rows[k]; row >= 0 {
		return int(row)
	}
	_, row := p.pair.sides[k].Places.Unlisted(p.address(i))
	return row
}

// resource gives a resource as a side sees it, which must have it.
func (p *Pile) resource(k, i int) *estate.Resource {
	e := p.pair.sides[k].estate
	if p.may != nil {
		return p.may.In(e)
	}
	if row := p.places[i].rows[k]; row >= 0 {
		return e.Tree.At(int(row))
	}
	a, _ := estate.ParseAddress(p.address(i)) // it was canonical
	return e.Unlisted(a)
}

// CompilePair compiles two estates alike. which says which grants count. If only is not nil, nobody else is looked at;
// the gates answer for those alone. Rosters that are known already are given, else nil. Local times are those of the
// new estate's zone in both.
func CompilePair(before, after *estate.Estate, which Counting, only map[estate.Principal]bool,
	rosters [2]*membership.Roster) (*Pair, error) {
	return compilePair(before, after, rosters, Options{Facts: factspace.Gather(before, after), Which: which, Only: only})
}

// Coming says what a pair looks at that may come. The first lists are of the old estate.
type Coming struct {
	// Apart are lists by which it is told apart, beside those of grants and blocks.
	Apart [2][]estate.Resources
	// Within are lists of which one must cover it on either side, unless it inherits and the listed resources are others;
	// nil: all is looked at.
	Within *[2][]estate.Resources
	// Judged leaves out all but what a system judges though no inventory lists it.
	Judged bool
}

// CompileComing is CompilePair that looks at what may come too: resources that an inventory lists one day, and those
// that a system judges in none.
func CompileComing(before, after *estate.Estate, which Counting, only map[estate.Principal]bool,
	rosters [2]*membership.Roster,
	c Coming) (*Pair, error) {
	return compilePair(before, after, rosters,
		Options{Facts: factspace.Gather(before, after), Which: which, Only: only, coming: &c})
}

// compilePair does it with options that hold for both sides; their marks and lists are told apart too.
func compilePair(before, after *estate.Estate, rosters [2]*membership.Roster, o Options) (*Pair, error) {
	o.Space = o.Facts.Space(after)
	only := o.Only
	// With the same resources and scopes the places of one side, told apart by the lists of both, do for the other.
	alike := before.Tree == after.Tree && estate.SameMap(before.Kinds, after.Kinds) &&
		estate.SameMap(before.Systems, after.Systems) && estate.SameMap(before.Scopes, after.Scopes)
	marks := map[estate.Address]bool{}
	for _, a := range o.Marks {
		marks[a] = true
	}
	var chosen [2]*Entries
	for k, e := range []*estate.Estate{before, after} {
		if only != nil && rosters[k] == nil {
			rosters[k] = membership.New(e)
		}
		chosen[k] = EntriesFor(e, rosters[k], only)
		if !alike {
			apart, _ := placemap.TakeApart(e, append(ListsOf(chosen[k].Grants, chosen[k].Blocks), o.Lists...), nil)
			for a := range apart.Marks {
				marks[a] = true
			}
		}
		if only != nil { // addresses in no inventory are told, whoever names them
			all := &placemap.Map{Traits: placemap.Traits{Estate: e}, Marks: map[estate.Address]uint32{}}
			for _, l := range ListsOf(slices.Collect(maps.Values(e.Grants)), slices.Collect(maps.Values(e.Blocks))) {
				all.GatherMarks(l)
			}
			for a := range all.Marks {
				if e.Tree.Find(a.String()) < 0 {
					marks[a] = true
				}
			}
		}
	}
	o.Marks = slices.SortedFunc(maps.Keys(marks), estate.Address.Compare)
	if alike {
		o.Lists = slices.Concat(o.Lists, ListsOf(chosen[1].Grants, chosen[1].Blocks))
	}
	p := &Pair{covers: lookup.NewSequences(), units: map[jointUnit]uint32{}, coverages: map[string]uint32{},
		cells: map[string]*operationTimes{}, turned: map[[2]*operationTimes]changeList{}}
	gates, err := compileBoth([2]*estate.Estate{before, after}, rosters, chosen, alike, o)
	if err != nil {
		return nil, err
	}
	for k, g := range gates {
		p.sides[k] = &side{Gate: g, other: k == 1, cover: map[uint32]uint32{}, valid: map[uint32][]uint32{}}
	}
	p.Old, p.New = p.sides[0].Gate, p.sides[1].Gate
	p.owners, p.only = o.Facts.Owner, only
	p.join()
	var coming []newplace.StandIn
	if o.coming != nil {
		var lists [2][]estate.Resources
		for k := range lists {
			lists[k] = append(ListsOf(chosen[k].Grants, chosen[k].Blocks), o.coming.Apart[k]...)
		}
		coming, p.Whole, p.Named = newplace.StandIns([2]*estate.Estate{before, after}, lists, o.coming.Within,
			&o.Facts, p.unsettled())
		if o.coming.Judged {
			coming = slices.DeleteFunc(coming, func(s newplace.StandIn) bool { return !s.Inherit })
		}
	}
	p.buildPiles(coming)
	return p, nil
}

// compileBoth compiles the sides of a pair. alike says that the places of one do for the other.
func compileBoth(estates [2]*estate.Estate, rosters [2]*membership.Roster, chosen [2]*Entries, alike bool,
	o Options) (gates [2]*Gate, err error) {
	if o.bare {
		o.Roster, o.Entries = rosters[1], chosen[1]
		if gates[1], err = CompileWith(estates[1], nil, o); err == nil {
			gates[0] = gates[1].Bare(estates[0])
		}
		return gates, err
	}
	for k, e := range estates {
		o.Roster, o.Entries = rosters[k], chosen[k]
		if gates[k], err = CompileWith(e, nil, o); err != nil {
			return gates, err
		}
		if alike {
			o.Alike = gates[k]
		}
	}
	return gates, nil
}

// Ever gives a region of which what is over by now was left out as it was before that.
func (p *Pair) Ever(r region.Region) region.Region {
	if whole, ok := p.whole[r]; ok {
		return whole
	}
	return r
}

// Space gives the space of the regions of both.
func (p *Pair) Space() *region.Space { return p.New.space }

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
			one := jointUnit{placemap.TraitName(set), u.Region, u.Block}
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
	n, ok := s.cover[cover]
	if !ok {
		var one [1]uint32
		var seq []uint32
		for _, u := range s.Rows.Cover(cover, &one) {
			seq = append(seq, s.joint[u])
		}
		slices.Sort(seq)
		n = p.covers.Number(slices.Compact(seq))
		s.cover[cover] = n
	}
	return n
}

// buildPiles makes the piles, and one of each stand-in for what may come.
func (p *Pair) buildPiles(coming []newplace.StandIn) {
	values := map[string]uint32{}
	byTags := [2][]uint32{}
	for k, s := range p.sides {
		byTags[k] = s.Facts.Numbers(s.estate.Tree.Tags, values)
	}
	listed := func(k int, row int) look {
		s := p.sides[k]
		l := look{at: s.Places.Spots[row], there: true, facts: byTags[k][s.estate.Tree.Rows[row].Tags]}
		if p.owners {
			l.owner = s.estate.Tree.Rows[row].Owner
		}
		return l
	}
	known := map[[2]look]*Pile{}
	var last [2]look
	var pile *Pile
	add := func(looks [2]look, at place) {
		if pile == nil || looks != last {
			last = looks
			if pile = known[looks]; pile == nil {
				pile = &Pile{looks: looks, pair: p}
				known[looks] = pile
				p.piles = append(p.piles, pile)
			}
		}
		pile.places = append(pile.places, at)
	}
	olds, news := p.Old.estate.Tree, p.New.estate.Tree
	same := olds == news
	for i := range news.Len() {
		was := i
		if !same {
			was = olds.Find(news.Address(i))
		}
		looks, rows := [2]look{{}, listed(1, i)}, [2]int32{int32(was), int32(i)}
		if p.Old.Places == p.New.Places {
			looks[0] = looks[1]
		} else if was >= 0 {
			looks[0] = listed(0, was)
		} else {
			looks[0] = p.unlisted(0, news.Address(i), byTags[0])
		}
		add(looks, place{rows})
	}
	for i := 0; !same && i < olds.Len(); i++ {
		if news.Find(olds.Address(i)) < 0 {
			add([2]look{listed(0, i), p.unlisted(1, olds.Address(i), byTags[1])}, place{[2]int32{int32(i), -1}})
		}
	}
	for _, a := range slices.SortedFunc(maps.Keys(p.New.Places.Marks), estate.Address.Compare) {
		p.addUnlisted(a.String(), byTags)
	}
	p.addComing(coming, byTags)
	slices.SortStableFunc(p.piles, func(a, b *Pile) int { return int(a.mark()) - int(b.mark()) })
	p.first = make([]uint32, len(p.New.Places.Marks)+3)
	row := make([]Pile, len(p.piles)) // beside one another, as they are gone through
	for n, pile := range p.piles {
		row[n] = *pile
		pile = &row[n]
		p.piles[n], pile.number = pile, uint32(n)
		p.first[pile.mark()+1]++
		if !p.alike(pile) {
			p.uneven = append(p.uneven, uint32(n))
		}
	}
	for m := 1; m < len(p.first); m++ {
		p.first[m] += p.first[m-1]
	}
	for _, s := range p.sides {
		p.cover(s)
	}
	if p.owners {
		for k := range p.sides {
			p.gatherOwned(k)
		}
	}
}

func (p *Pile) mark() uint32 {
	if p.looks[1].there {
		return p.looks[1].at.Mark
	}
	return p.looks[0].at.Mark
}

// unlisted looks at an address that is in no inventory of one side.
func (p *Pair) unlisted(k int, address string, byTags []uint32) look {
	s := p.sides[k]
	if a, err := estate.ParseAddress(address); err != nil || s.estate.Canonical(a) != a {
		return look{} // here it is another's name
	}
	at, row := s.Places.Unlisted(address)
	if row < 0 || !s.estate.Tree.Systems[s.estate.Tree.Rows[row].System].Judge {
		return look{}
	}
	return look{at: at, there: true, facts: byTags[s.estate.Tree.Rows[row].Tags]}
}

// owner gives who owns a resource on a side.
func (p *Pile) owner(k, i int) *estate.Principal {
	if p.may != nil && !p.may.Inherit {
		return p.may.Owner
	}
	tree := p.pair.sides[k].estate.Tree
	return tree.Owners[tree.Rows[p.row(k, i)].Owner]
}

// addUnlisted adds a pile for an address that lists name and no inventory has.
func (p *Pair) addUnlisted(address string, byTags [2][]uint32) {
	pile := &Pile{pair: p, text: address, places: []place{{[2]int32{-1, -1}}}}
	for k, s := range p.sides {
		if s.estate.Tree.Find(address) >= 0 {
			return
		}
		pile.looks[k] = p.unlisted(k, address, byTags[k])
	}
	if pile.looks[0].there || pile.looks[1].there {
		p.piles = append(p.piles, pile)
	}
}

// alike says whether a pile's resources are the same on both sides, the lists that cover them apart.
func (p *Pair) alike(pile *Pile) bool {
	a, b := pile.looks[0], pile.looks[1]
	return a.there == b.there && a.facts == b.facts &&
		slices.Equal(p.validOn(p.sides[0], a.at.Class), p.validOn(p.sides[1], b.at.Class))
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

// cover finds which piles each list covers that traits tell.
func (p *Pair) cover(s *side) {
	k := 0
	if s.other {
		k = 1
	}
	byTrait := map[uint32][]uint32{}
	for n, pile := range p.piles {
		if pile.looks[k].there {
			byTrait[pile.looks[k].at.Trait] = append(byTrait[pile.looks[k].at.Trait], uint32(n))
		}
	}
	for n := range s.Places.Complex {
		var in []uint32
		for trait, piles := range byTrait {
			if trait > 0 && s.Places.Traits.Has(trait, n) {
				in = append(in, piles...)
			}
		}
		slices.Sort(in)
		var key []byte
		for _, i := range in {
			key = binary.LittleEndian.AppendUint32(key, i)
		}
		c, ok := p.coverages[string(key)]
		if !ok {
			c = uint32(len(p.within))
			p.coverages[string(key)] = c
			p.within = append(p.within, in)
		}
		s.coverage = append(s.coverage, c)
	}
}

// gatherOwned lists what each principal owns on a side, and as whom each subject owns something.
func (p *Pair) gatherOwned(k int) {
	s := p.sides[k]
	s.owned, s.owners = map[estate.Principal][]ownedPlace{}, map[int][]estate.Principal{}
	for n, pile := range p.piles {
		if !pile.looks[k].there {
			continue
		}
		for i := range pile.places {
			if o := pile.owner(k, i); o != nil {
				s.owned[*o] = append(s.owned[*o], ownedPlace{uint32(n), i})
			}
		}
	}
	for o := range s.owned {
		if o.Kind == estate.IsGroup && s.estate.Groups[o.ID] == nil {
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

// May gives what the pile stands for that may come; nil if its resources are there.
func (p *Pile) May() *newplace.StandIn { return p.may }

// Resource gives the pile's first resource as it is in the old estate or in the new one; nil where it is in neither.
func (p *Pile) Resource(isNew bool) *estate.Resource {
	k := 0
	if isNew {
		k = 1
	}
	if !p.looks[k].there {
		return nil
	}
	return p.resource(k, 0)
}

// Idle lists what may come to which nobody's access differs, without its having been looked at closer.
func (p *Pair) Idle() []*newplace.StandIn { return p.idle }

// Coming lists the piles that stand for what may come and are looked at.
func (p *Pair) Coming() (out []*Pile) {
	for _, pile := range p.piles {
		if pile.may != nil {
			out = append(out, pile)
		}
	}
	return out
}

// Key is the same for piles of the same resources.
func (p *Pile) Key() string {
	key := binary.LittleEndian.AppendUint32(nil, p.number)
	if len(p.places) != len(p.pair.piles[p.number].places) {
		for _, at := range p.places {
			key = binary.LittleEndian.AppendUint32(key, uint32(at.rows[0]))
			key = binary.LittleEndian.AppendUint32(key, uint32(at.rows[1]))
		}
	}
	return string(key)
}

// First gives the first resource's address.
func (p *Pile) First() string { return p.address(0) }

// Operations names those that apply to the resources on either side.
func (p *Pile) Operations() []string { return OperationsOn([]*Pile{p}) }

// OperationsOn names the operations that apply to resources of any of the piles, which are of one pair, on either side.
func OperationsOn(piles []*Pile) []string {
	known := map[[2]uint32]bool{} // sides and classes
	var out []string
	for _, pile := range piles {
		for k, s := range pile.pair.sides {
			class := pile.looks[k].at.Class
			if at := [2]uint32{uint32(k), class}; pile.looks[k].there && !known[at] {
				known[at] = true
				for _, o := range pile.pair.validOn(s, class) {
					out = append(out, pile.pair.names[o])
				}
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Narrower says whether a grant is in force at no time and under no condition, its own ones, in which it was not
// before.
func (p *Pair) Narrower(grant string) bool {
	was, is := p.Old.GrantOf(grant), p.New.GrantOf(grant)
	if was == nil || is == nil {
		return false
	}
	holds, err := p.New.space.Contains(was.Region, is.Region)
	return err == nil && holds
}
