package gate

import (
	"fmt"
	"slices"
	"strconv"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// RowIndex finds on which of some listed resources grants or blocks concern somebody, without asking about each of
// them. It is made once for many who are asked about.
type RowIndex struct {
	gate    *Gate
	byMark  []uint32                // the resources, by their numbers, in the order of their marks
	marks   []uint32                // of each of those
	ofTrait [][]uint32              // of each trait, the resources that have it
	having  [][]uint32              // of each list that traits tell, the traits that it covers
	asking  map[unitrow.Holder]bool // whether what they hold hangs on who they are, of those whose likeness was asked for
}

// NewRowIndex indexes the resources of some rows. They are told by their numbers in that list.
func (g *Gate) NewRowIndex(rows []int) *RowIndex {
	x := &RowIndex{gate: g, byMark: make([]uint32, len(rows)), marks: make([]uint32, len(rows)),
		asking: map[unitrow.Holder]bool{}}
	spot := func(n uint32) placemap.Spot { return g.Places.Spots[rows[n]] }
	for n := range rows {
		x.byMark[n] = uint32(n)
		for trait := int(spot(uint32(n)).Trait); len(x.ofTrait) <= trait; {
			x.ofTrait = append(x.ofTrait, nil)
		}
	}
	slices.SortStableFunc(x.byMark, func(a, b uint32) int { return byMark(spot(a), spot(b)) })
	for i, n := range x.byMark {
		at := spot(n)
		x.marks[i] = at.Mark
		x.ofTrait[at.Trait] = append(x.ofTrait[at.Trait], n)
	}
	x.having = make([][]uint32, len(g.Places.Complex))
	for trait, some := range x.ofTrait {
		if len(some) == 0 {
			continue
		}
		for list := range g.Places.Traits.Lists(uint32(trait)) {
			x.having[list] = append(x.having[list], uint32(trait))
		}
	}
	return x
}

// Concern says whether any grant or block concerns a subject on a resource.
type Concern uint8

// Unconcerned: none does. ByMark: those alone of which the resource's mark tells that they cover it. ByTraits: others,
// too.
const (
	Unconcerned Concern = iota
	ByMark
	ByTraits
)

// Concerned visits the resources on which a grant or a block concerns a subject, some of them again and again. It
// visits none and gives false where any of them may be: what is lent stands elsewhere.
func (x *RowIndex) Concerned(p estate.Principal, visit func(n uint32, how Concern)) bool {
	g, subject := x.gate, x.gate.NumberOf(p)
	if subject < 0 || g.Lent(subject) {
		return false
	}
	h := &g.Rows.RowOf[subject]
	for s := range g.Rows.Stretches(h, ^uint32(0)) {
		if s.Cover == 0 {
			continue
		}
		from, _ := slices.BinarySearch(x.marks, s.From)
		for i := from; i < len(x.marks) && x.marks[i] < s.To; i++ {
			visit(x.byMark[i], ByMark)
		}
	}
	for _, e := range g.Rows.Extras[h.Extra : h.Extra+h.Extras] {
		for _, trait := range x.having[e.Trait] {
			for _, n := range x.ofTrait[trait] {
				visit(n, ByTraits)
			}
		}
	}
	return true
}

// Likeness gives what is the same for subjects alone who get the same answers on all listed resources, whatever the
// request says; ok is false where more counts than what they are given and denied, and when.
func (x *RowIndex) Likeness(p estate.Principal) (likeness string, ok bool) {
	g, subject := x.gate, x.gate.NumberOf(p)
	if subject < 0 || g.Lent(subject) || g.Rows.RowOf[subject].Flags&unitrow.Separated != 0 {
		return "", false
	}
	h := g.Rows.RowOf[subject]
	text := fmt.Append(nil, h)
	asks, known := x.asking[h]
	if !known {
		asks = x.asksOfSubject(&h)
		x.asking[h] = asks
	}
	if asks {
		if g.Facts.Owner {
			return "", false
		}
		own := g.All[subject].Tags
		for _, k := range g.Facts.Sames {
			text = strconv.AppendQuote(text, own.Get(k.Key))
		}
		for _, k := range g.Facts.Subjects {
			text = strconv.AppendQuote(text, own.Get(k.Key))
		}
	}
	return string(text), true
}

// asksOfSubject says whether anything that a subject is given or denied, or when, hangs on tags or on who owns.
func (x *RowIndex) asksOfSubject(h *unitrow.Holder) bool {
	g := x.gate
	asks := func(r region.Region) bool { return g.space.AsksBelow(r, g.Facts.Fixed) }
	if asks(region.Region(h.Active)) {
		return true
	}
	var one [1]uint32
	for s := range g.Rows.Stretches(h, ^uint32(0)) {
		for _, u := range g.Rows.Cover(s.Cover, &one) {
			if asks(g.Units.List[u].Region) {
				return true
			}
		}
	}
	return slices.ContainsFunc(g.Rows.Extras[h.Extra:h.Extra+h.Extras],
		func(e unitrow.Extra) bool { return asks(g.Units.List[e.Unit].Region) })
}

// Nothing is what somebody may do on the listed resource of a row whom no grant and no block concerns there.
func (g *Gate) Nothing(row int) *OperationOutcomes {
	class := g.Places.Spots[row].Class
	out := &OperationOutcomes{Operations: g.estate.Offer(g.Classes.Kinds[class]).On(g.Classes.Types[class])}
	out.Outcomes = make([]Outcome, len(out.Operations)) // each is Deny
	return out
}
