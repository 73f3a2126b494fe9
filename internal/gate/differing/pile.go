package differing

import (
	"cmp"
	"encoding/binary"
	"iter"
	"math"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/gate/placemap"
)

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
	rows   []int32            // of the resources, where both estates have one tree
	places []place            // else
	text   string             // the address, where it is in no inventory of either
	may    *newplace.Specimen // what it stands for that may come; nil: it is there
	pair   *Pair
	number uint32
}

// Addresses gives the resources' addresses, in tree order.
func (p *Pile) Addresses() iter.Seq[string] {
	return func(yield func(string) bool) {
		for i := range p.Len() {
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
	if p.pair.New.Estate().Tree == of.Tree {
		k = 1
	}
	return func(yield func(int, func() string) bool) {
		for i := range p.Len() {
			if !yield(int(p.place(i).rows[k]), func() string { return p.address(i) }) {
				return
			}
		}
	}
}

// Any says whether something is so of any of the resources, by its row in the new estate; -1 where it is not listed.
func (p *Pile) Any(is func(row int) bool) bool {
	for i := range p.Len() {
		if is(int(p.place(i).rows[New])) {
			return true
		}
	}
	return false
}

func (p *Pile) place(i int) place {
	if p.rows != nil {
		return place{[2]int32{p.rows[i], p.rows[i]}}
	}
	return p.places[i]
}

// only gives the pile with one of its resources alone.
func (p *Pile) only(i int) *Pile {
	one := *p
	if p.rows != nil {
		one.rows = p.rows[i : i+1]
	} else {
		one.places = p.places[i : i+1]
	}
	return &one
}

func (p *Pile) address(i int) string {
	if p.text != "" {
		return p.text
	}
	at := p.place(i)
	if row := at.rows[1]; row >= 0 {
		return p.pair.New.Estate().Tree.Address(int(row))
	}
	return p.pair.Old.Estate().Tree.Address(int(at.rows[0]))
}

// row gives the row of a resource on a side, or of the nearest listed one above.
func (p *Pile) row(k, i int) int {
	if p.may != nil && !p.may.Inherit {
		return -1
	}
	if row := p.place(i).rows[k]; row >= 0 {
		return int(row)
	}
	_, row := p.pair.sides[k].Places.Unlisted(p.address(i))
	return row
}

// resource gives a resource as a side sees it, which must have it.
func (p *Pile) resource(k, i int) *estate.Resource {
	e := p.pair.sides[k].Estate()
	if p.may != nil {
		return p.may.In(e)
	}
	if row := p.place(i).rows[k]; row >= 0 {
		return e.Tree.At(int(row))
	}
	a, _ := estate.ParseAddress(p.address(i)) // it was canonical
	return e.Unlisted(a)
}

// buildPiles makes the piles, and one of each specimen for what may come. Others are addresses in no inventory.
func (p *Pair) buildPiles(coming []newplace.Specimen, beside []estate.Address) {
	values := map[string]uint32{}
	byTags := [2][]uint32{}
	for k, s := range p.sides {
		byTags[k] = s.Facts.Numbers(s.Estate().Tree.Tags, values)
	}
	if p.Old.Places == p.New.Places && p.Old.Estate().Tree == p.New.Estate().Tree {
		p.groupSpots(byTags[1])
	} else {
		p.groupPlaces(byTags)
	}
	unlisted := slices.Concat(beside, p.New.Places.Phantoms)
	slices.SortFunc(unlisted, estate.Address.Compare)
	for _, a := range slices.Compact(unlisted) {
		p.addUnlisted(a.String(), byTags)
	}
	p.addComing(coming, byTags)
	first := func(p *Pile) int32 {
		if p.rows != nil {
			return p.rows[0]
		}
		return math.MaxInt32 // those that no inventory lists, in their order
	}
	slices.SortStableFunc(p.piles, func(a, b *Pile) int {
		return cmp.Or(int(a.mark())-int(b.mark()), cmp.Compare(first(a), first(b)))
	})
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
	if a, err := estate.ParseAddress(address); err != nil || s.Estate().Canonical(a) != a {
		return look{} // here it is another's name
	}
	at, row := s.Places.Unlisted(address)
	if row < 0 || !s.Estate().Tree.Systems[s.Estate().Tree.Rows[row].System].Judge {
		return look{}
	}
	return look{at: at, there: true, facts: byTags[s.Estate().Tree.Rows[row].Tags]}
}

// owner gives who owns a resource on a side.
func (p *Pile) owner(k, i int) *estate.Principal {
	if p.may != nil && !p.may.Inherit {
		return p.may.Owner
	}
	tree := p.pair.sides[k].Estate().Tree
	return tree.Owners[tree.Rows[p.row(k, i)].Owner]
}

// addUnlisted adds a pile for an address that lists name and no inventory has.
func (p *Pair) addUnlisted(address string, byTags [2][]uint32) {
	pile := &Pile{pair: p, text: address, places: []place{{[2]int32{-1, -1}}}}
	for k, s := range p.sides {
		if s.Estate().Tree.Find(address) >= 0 {
			return
		}
		pile.looks[k] = p.unlisted(k, address, byTags[k])
	}
	if p.sides[New].where != nil && !p.looked(pile.looks) {
		return
	}
	if pile.looks[0].there || pile.looks[1].there {
		p.piles = append(p.piles, pile)
	}
}

// groupSpots makes the piles of listed resources where both estates have the same and tell them apart alike.
func (p *Pair) groupSpots(byTags []uint32) {
	tree, groups := p.New.Estate().Tree, p.New.Places.Groups()
	// of a resource, what conditions ask about, and where it stands by more lists
	type said struct {
		facts, owner uint32
		part         placemap.Spot
	}
	says := func(row int32) (s said) {
		if s.facts = byTags[tree.Rows[row].Tags]; p.owners {
			s.owner = tree.Rows[row].Owner
		}
		if p.parts != nil {
			s.part = p.parts.Spots[row]
		}
		return s
	}
	add := func(at placemap.Spot, s said, rows []int32) {
		one := look{at: at, there: true, facts: s.facts, owner: s.owner}
		p.piles = append(p.piles, &Pile{looks: [2]look{one, one}, rows: rows, pair: p})
	}
	for n, spot := range groups.Spots {
		if !p.looked([2]look{{}, {at: spot, there: true}}) {
			continue
		}
		rows := groups.Rows(n)
		first := says(rows[0])
		if !slices.ContainsFunc(rows, func(row int32) bool { return says(row) != first }) {
			add(spot, first, rows)
			continue
		}
		parts, order := map[said][]int32{}, []said(nil)
		for _, row := range rows {
			s := says(row)
			if parts[s] == nil {
				order = append(order, s)
			}
			parts[s] = append(parts[s], row)
		}
		for _, s := range order {
			add(spot, s, parts[s])
		}
	}
}

// looked tells of what is alike whether it is looked at: if the pair is about some places, whether one of these covers
// it on a side that has it; if it is about some people, whether a grant of either side does, where both have it alike.
func (p *Pair) looked(looks [2]look) bool {
	if p.sides[New].where == nil && (p.only == nil || p.every) {
		return true
	}
	for k, s := range p.sides {
		if !looks[k].there {
			continue
		}
		if s.looking == nil {
			lists := s.where
			if lists == nil {
				for _, s := range p.sides {
					for _, gr := range s.Grants {
						lists = append(lists, gr.List)
					}
				}
			}
			s.looking = s.Places.CoveredByAny(lists)
		}
		if s.looking(looks[k].at) {
			return true
		}
	}
	return false
}

// groupPlaces makes them where the estates have other resources, or tell them apart otherwise.
func (p *Pair) groupPlaces(byTags [2][]uint32) {
	listed := func(k int, row int) look {
		s := p.sides[k]
		l := look{at: s.Places.Spots[row], there: true, facts: byTags[k][s.Estate().Tree.Rows[row].Tags]}
		if p.owners {
			l.owner = s.Estate().Tree.Rows[row].Owner
		}
		return l
	}
	known := map[[2]look]*Pile{}
	var last [2]look
	var pile *Pile
	add := func(looks [2]look, at place) {
		if p.sides[New].where != nil && !p.looked(looks) {
			return
		}
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
	olds, news := p.Old.Estate().Tree, p.New.Estate().Tree
	same := olds == news
	for i := range news.Len() {
		if !p.New.Places.KnowsRow(i) {
			continue
		}
		was := i
		if !same {
			was = olds.Find(news.Address(i))
		}
		looks, rows := [2]look{{}, listed(1, i)}, [2]int32{int32(was), int32(i)}
		if was >= 0 {
			looks[0] = listed(0, was)
		} else {
			looks[0] = p.unlisted(0, news.Address(i), byTags[0])
		}
		add(looks, place{rows})
	}
	for i := 0; !same && i < olds.Len(); i++ {
		if p.Old.Places.KnowsRow(i) && news.Find(olds.Address(i)) < 0 {
			add([2]look{listed(0, i), p.unlisted(1, olds.Address(i), byTags[1])}, place{[2]int32{int32(i), -1}})
		}
	}
}

// alike says whether a pile's resources are the same on both sides, the lists that cover them apart.
func (p *Pair) alike(pile *Pile) bool {
	a, b := pile.looks[0], pile.looks[1]
	return a.there == b.there && a.facts == b.facts &&
		slices.Equal(p.validOn(p.sides[0], a.at.Class), p.validOn(p.sides[1], b.at.Class))
}

// May gives what the pile stands for that may come; nil if its resources are there.
func (p *Pile) May() *newplace.Specimen { return p.may }

// Asked numbers what conditions ask about the resources in the new estate, and says whether they ask who owns them and
// somebody does.
func (p *Pile) Asked() (facts uint32, owned bool) {
	return p.looks[New].facts, p.pair.owners && p.owner(int(New), 0) != nil
}

// Class gives the pile's class of resources in the new estate.
func (p *Pile) Class() uint32 { return p.looks[New].at.Class }

// Resource gives the pile's first resource as it is in one of the estates; nil where it is not.
func (p *Pile) Resource(k Side) *estate.Resource {
	if !p.looks[k].there {
		return nil
	}
	return p.resource(int(k), 0)
}

// Key is the same for piles of the same resources.
func (p *Pile) Key() string {
	key := binary.LittleEndian.AppendUint32(nil, p.number)
	if p.Len() != p.pair.piles[p.number].Len() {
		for i := range p.Len() {
			at := p.place(i)
			key = binary.LittleEndian.AppendUint32(key, uint32(at.rows[0]))
			key = binary.LittleEndian.AppendUint32(key, uint32(at.rows[1]))
		}
	}
	return string(key)
}

// First gives the first resource's address.
func (p *Pile) First() string { return p.address(0) }

// Operations names those that apply to the resources on either side.
func (p *Pile) Operations() []string { return p.Alone().Operations() }

// Operations names those that apply to resources of any of the piles, on either side.
func (s *Piles) Operations() []string {
	known := map[[2]uint32]bool{} // sides and classes
	var out []string
	for pile := range s.All() {
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

// Valid says whether an operation that is looked at, by its place among the names of all, applies to the resources in
// the new estate.
func (p *Pile) Valid(operation uint32) bool {
	return p.looks[New].there && slices.Contains(p.pair.validOn(p.pair.sides[New], p.looks[New].at.Class), operation)
}

// Number is the same for parts of one pile, and less than what Numbers gives.
func (p *Pile) Number() int { return int(p.number) }

// Len counts the pile's resources.
func (p *Pile) Len() int { return len(p.rows) + len(p.places) }

// Listed says whether the pile's resources are listed, in the new estate; else they are such as may come.
func (p *Pile) Listed() bool { return p.place(0).rows[1] >= 0 }
