package differing

import (
	"context"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/region"
)

// Cells is all that anybody may do anywhere, as regions: what subjects whom nothing tells apart may do to resources
// that nothing tells apart is one answer. It looks at listed resources, and, where a system judges unlisted ones, at
// one for each way in which a new one can differ.
//
// It is an estate held against the same without grants, so that whatever anybody may do is a difference.
type Cells struct {
	*gate.Gate
	pair    *Pair
	classes [][]who
	classOf []uint32 // of each subject, its class and one; 0: it is in none. nil until it is asked for
	Follow  Follow   // how ByPile goes on
}

// Scene says what cells are made of.
type Scene struct {
	Which gate.Counting
	Only  map[estate.Principal]bool // nobody else is looked at; nil: everybody is
	// Everywhere looks at places, too, where none of these may anything.
	Everywhere bool
	// Roster is that of the estate, nil if it is not known.
	Roster *membership.Roster
	// Base is a gate of the estate that is there already, nil if there is none.
	Base *gate.Gate
	// Places are lists by which Choose will choose: resources are told apart by them too.
	Places []estate.Resources
}

// Access is an operation that some subjects, whom nothing tells apart, may do on the resources of some piles, and when.
type Access struct {
	Subjects  []estate.Principal
	Operation string
	Cell
	Piles *Piles
}

// CompileCells compiles an estate so that all its cells can be gone through. Its error names entries whose conditions
// are too complex.
func CompileCells(e *estate.Estate, s Scene) (*Cells, error) {
	bare := e.With(estate.Clear("grants"), estate.Clear("blocks"))
	switch {
	case s.Roster == nil && s.Base != nil && s.Base.Estate() == e:
		s.Roster = s.Base.Roster
	case s.Roster == nil:
		s.Roster = membership.New(e)
	}
	lists := append(gate.ListsOf(estate.Sorted(e.Grants), estate.Sorted(e.Blocks)), s.Places...)
	of := Estates{Before: bare, After: e, Which: s.Which, Only: s.Only,
		Rosters: [2]*membership.Roster{s.Roster, s.Roster}, Base: s.Base}
	pair, err := compilePair(sides{Estates: of, bare: true, everywhere: s.Everywhere, beside: newplace.ForLists(e, lists)},
		gate.Options{Facts: factspace.Gather(e), Which: s.Which, Only: s.Only, Lists: s.Places})
	if err != nil {
		return nil, err
	}
	c := &Cells{Gate: pair.New, pair: pair}
	c.classes = pair.alikes()
	c.Choose(nil, nil)
	return c, nil
}

// Choose chooses the operations and, by a list that the cells were made with, the resources that are gone through from
// now on; nil chooses all.
func (c *Cells) Choose(operation func(*estate.Operation) bool, on estate.Resources) {
	p := c.pair
	p.wanted, p.chosen, p.concerned, p.speaking = nil, nil, nil, nil
	for _, s := range p.sides {
		clear(s.valid)
	}
	if operation != nil {
		p.wanted = make([]bool, len(p.names))
		for i, name := range p.names {
			p.wanted[i] = operation(c.Estate().Operations[name])
		}
	}
	p.chosen = make([]bool, len(p.piles))
	covered := c.coveredIn(on)
	for i, pile := range p.piles {
		p.chosen[i] = pile.looks[1].there && len(p.validOn(p.sides[1], pile.looks[1].at.Class)) > 0 && covered(pile)
	}
}

// coveredIn tells which piles a list covers; nil covers all. It goes by what tells piles apart, if the list does.
func (c *Cells) coveredIn(on estate.Resources) func(*Pile) bool {
	if on == nil {
		return func(*Pile) bool { return true }
	}
	places, parts := c.Places, c.pair.parts
	if n, ok := places.NumberOf(on); ok {
		return func(pile *Pile) bool { return places.Covers(n, pile.looks[1].at) }
	}
	if parts != nil {
		if n, ok := parts.NumberOf(on); ok {
			return func(pile *Pile) bool {
				if pile.rows != nil {
					return parts.Covers(n, parts.Spots[pile.rows[0]])
				}
				at, _ := parts.Unlisted(pile.text)
				return parts.Covers(n, at)
			}
		}
	}
	return func(pile *Pile) bool { return c.Covers(on, pile.resource(1, 0)) }
}

// Depth says how far to go through what somebody may do.
type Depth int

// All of it is gone through, or a first cell alone.
const (
	Whole Depth = iota
	First
)

// Among says who is gone through, nil for everybody, and how far for each. It holds until it is said again.
func (c *Cells) Among(who func(estate.Principal) bool, far Depth) {
	c.pair.among, c.pair.onlyOne = who, far == First
}

// Within tells cells from now on as far alone as they lie in a region; Full is all of them.
func (c *Cells) Within(r region.Region) { c.pair.inside = r }

// Piles lists the chosen piles on which some chosen operation is valid.
func (c *Cells) Piles() (out []*Pile) {
	for i, pile := range c.pair.piles {
		if c.pair.chosen[i] {
			out = append(out, pile)
		}
	}
	return out
}

// In tells which of some lists, by their place, cover a pile. The cells were made with them.
func (c *Cells) In(pile *Pile, lists []estate.Resources) (out []int) {
	r := pile.resource(1, 0)
	for i, l := range lists {
		if c.Covers(l, r) {
			out = append(out, i)
		}
	}
	return out
}

// Each goes through what may be done from an instant on. It comes by class of subjects; the same pile may come in
// parts. It stops when each returns false. Its error says that the conditions are too complex.
func (c *Cells) Each(ctx context.Context, since clock.Instant, each func(Access) bool) error {
	c.pair.begin(since)
	return c.pair.tell(ctx, c.classes, func(d Difference) bool {
		return each(Access{d.Subjects, d.Operation, d.New, d.Piles})
	})
}

// Names lists the names of the operations.
func (c *Cells) Names() []string { return c.pair.names }

// All lists the piles by number, chosen or not.
func (c *Cells) All() []*Pile { return c.pair.piles }

// Covered lists the numbers of the piles that a list covers, in order.
func (c *Cells) Covered(list int) []uint32 {
	at, pair, in := &c.Places.Lists[list], c.pair, []uint32{}
	for _, s := range at.Spans {
		for n := pair.first[s.From]; n < pair.first[s.To]; n++ {
			in = append(in, n)
		}
	}
	if at.Trait >= 0 {
		if s := pair.sides[1]; s.held[at.Trait] {
			in = append(in, pair.within.Get(s.coverage[at.Trait])...)
		} else {
			in = append(in, pair.coveredBy(s, func(list int) bool { return list == at.Trait })[at.Trait]...)
		}
		slices.Sort(in)
		in = slices.Compact(in)
	}
	return in
}

// Numbers counts the piles.
func (c *Cells) Numbers() int { return len(c.pair.piles) }

// Witness gives a request's context that lies in a region wholly and says no more than it must, but when: the earliest
// time from an instant on. It is false if the region is empty.
func (c *Cells) Witness(r region.Region, since clock.Instant) (*gate.Context, bool) {
	w, ok := c.Space().Witness(r, since)
	if !ok {
		return nil, false
	}
	if _, timed := w.Time(); !timed {
		w.SetTime(since)
	}
	for _, name := range c.Dimensions() {
		if name == "time" {
			continue
		}
		wider := w.Clone()
		wider.Open(name)
		if c.Space().Judge(r, wider) == region.All {
			w = wider
			continue
		}
		// A request can't say that it has no value, and any that no condition names is as good.
		if _, absent, ok := w.Text(name); ok && absent {
			for text := "other"; ; text += "-" {
				wider.SetText(name, text)
				if c.Space().Judge(r, wider) == region.All {
					w = wider
					break
				}
			}
		}
	}
	return gate.ContextOf(w), true
}
