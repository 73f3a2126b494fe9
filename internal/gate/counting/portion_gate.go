package counting

import (
	"encoding/binary"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// portionGate is a gate that keeps what units come to, whoever has them.
type portionGate struct {
	*gate.Gate
	context *gate.Context
	facts   []uint32          // of each of the tree's tags, the number of what conditions ask of them
	about   map[string]uint32 // likewise of subjects' tags
	extras  *lookup.Sequences // units that traits bring
	units   []uint32
	marks   []uint32                       // of each pile, its mark
	sorts   []uint32                       // and its sort: those of one sort are told apart by their marks alone
	traits  []uint32                       // likewise which of the traits of all piles it has
	having  map[uint32][]int               // of each list that traits tell, those of the traits that have it
	brought [][]uint32                     // of each of these traits, the units that it brings to the subject at hand
	known   map[inForce]told               // by sort, where traits bring nothing
	more    map[brought]*Told              // where they do
	kinds   int                            // how many sorts there are
	offered map[uint32][]*estate.Operation // of each class of resources, the operations that are asked about
	same    map[string]*Told               // by class and outcomes
	key     []byte
	both    []uint32
	out     []*Told
}

// Told is what comes of each of some operations, by name.
type Told struct {
	Operations []*estate.Operation
	Outcomes   []gate.Outcome
}

type told []*Told

// inForce is all of a subject that answers hang on at a mark, in one context, where traits bring nothing.
type inForce struct {
	cover, facts uint32
	active       int32
}

// brought is the same with the units that traits bring to a sort of piles.
type brought struct {
	inForce
	units, sort uint32
}

// subjectAsked is whom is asked about.
type subjectAsked struct {
	n      int
	holder *unitrow.Holder
	facts  uint32
}

func newPortionGate(g *gate.Gate, c *gate.Context) *portionGate {
	p := &portionGate{Gate: g, context: c, about: map[string]uint32{}, extras: lookup.NewSequences(),
		known: map[inForce]told{}, more: map[brought]*Told{}, having: map[uint32][]int{},
		offered: map[uint32][]*estate.Operation{}, same: map[string]*Told{}}
	if g.Facts.Fixed > 1 {
		p.facts = g.Facts.Numbers(g.Estate().Tree.Tags, map[string]uint32{})
	}
	return p
}

// several says that a subject can have several sessions, or has something lent: its row does not tell all.
func (g *portionGate) several(subject int) bool {
	return g.Rows.RowOf[subject].Flags&unitrow.Separated != 0 || len(g.context.Roles) > 0 || g.Lent(subject)
}

// factsOf gives a resource's facts but its owner, by number.
func (g *portionGate) factsOf(row int) uint32 {
	if g.facts == nil {
		return 0
	}
	return g.facts[g.Estate().Tree.Rows[row].Tags]
}

// factsAbout gives a subject's facts, by number.
func (g *portionGate) factsAbout(subject int) uint32 {
	if g.Facts.Fixed <= 1 {
		return 0
	}
	name := g.Facts.Name(g.All[subject].Tags)
	n, ok := g.about[name]
	if !ok {
		n = uint32(len(g.about))
		g.about[name] = n
	}
	return n
}

// look looks at the piles that are asked about.
func (g *portionGate) look(piles []Portion) {
	type sort struct{ trait, class, facts uint32 }
	known, traits := map[sort]uint32{}, map[uint32]uint32{}
	for _, pile := range piles {
		at := g.Places.Spots[pile.Rows[0]]
		key := sort{at.Trait, at.Class, g.factsOf(pile.Rows[0])}
		n, ok := known[key]
		if !ok {
			n = uint32(len(known))
			known[key] = n
		}
		trait, ok := traits[at.Trait]
		if !ok {
			trait = uint32(len(traits))
			traits[at.Trait] = trait
			if at.Trait > 0 {
				for list := range g.Places.Complex {
					if g.Places.Traits.Has(at.Trait, list) {
						g.having[uint32(list)] = append(g.having[uint32(list)], int(trait))
					}
				}
			}
		}
		g.marks, g.sorts, g.traits = append(g.marks, at.Mark), append(g.sorts, n), append(g.traits, trait)
	}
	g.brought = make([][]uint32, len(traits))
	g.kinds, g.out = len(known), make([]*Told, len(piles))
}

// answers tells what somebody who owns nothing may do on each pile.
func (g *portionGate) answers(s *subjectAsked, p *Portions) ([]*Told, error) {
	for i := range g.brought {
		g.brought[i] = g.brought[i][:0]
	}
	for _, e := range g.Rows.Extras[s.holder.Extra : s.holder.Extra+s.holder.Extras] {
		for _, trait := range g.having[e.Trait] {
			g.brought[trait] = append(g.brought[trait], e.Unit)
		}
	}
	force := inForce{facts: s.facts, active: s.holder.Active}
	var known told
	mark := ^uint32(0)
	for i, pile := range p.whole {
		if g.marks[i] != mark {
			mark = g.marks[i]
			if cover := g.Rows.At(s.holder, mark); known == nil || cover != force.cover {
				force.cover = cover
				if known = g.known[force]; known == nil {
					known = make(told, g.kinds)
					g.known[force] = known
				}
			}
		}
		one := known[g.sorts[i]]
		units := g.brought[g.traits[i]]
		var key brought
		if len(units) > 0 {
			key = brought{force, g.extras.Number(units), g.sorts[i]}
			one = g.more[key]
		}
		if one == nil {
			var err error
			if one, err = g.answer(s, pile.Rows[0], units, p.operations); err != nil {
				return nil, err
			}
			if len(units) > 0 {
				g.more[key] = one
			} else {
				known[g.sorts[i]] = one
			}
		}
		g.out[i] = one
	}
	return g.out, nil
}

// bring gives the units that a listed resource's traits bring to a subject.
func (g *portionGate) bring(s *subjectAsked, row int) (units []uint32) {
	if trait := g.Places.Spots[row].Trait; trait > 0 {
		for _, e := range g.Rows.Extras[s.holder.Extra : s.holder.Extra+s.holder.Extras] {
			if g.Places.Traits.Has(trait, int(e.Trait)) {
				units = append(units, e.Unit)
			}
		}
	}
	return units
}

// answer tells what a subject may do on a listed resource, whose traits bring it some units. Answers that are the same
// are the same list.
func (g *portionGate) answer(s *subjectAsked, row int, units []uint32, operations func(*estate.Operation) bool,
) (*Told, error) {
	at := g.Places.Spots[row]
	var one [1]uint32
	g.both = append(append(g.both[:0], g.Rows.Cover(g.Rows.At(s.holder, at.Mark), &one)...), units...)
	offered := g.offer(at.Class, operations)
	g.key = binary.LittleEndian.AppendUint32(g.key[:0], at.Class)
	q := gate.Query{Subject: s.n, At: at, Row: row, Context: g.context.Region()}
	for _, o := range offered {
		q.Operation = g.Classes.Ops.Number[o.Name]
		g.units = g.units[:0]
		for _, u := range g.both {
			if g.Units.Has(u, q.Operation) {
				g.units = append(g.units, u)
			}
		}
		outcome := gate.Deny
		if s.holder.Active != int32(region.Empty) && len(g.units) > 0 {
			var err error
			if outcome, err = g.Weigh(&q, g.units, region.Region(s.holder.Active)); err != nil {
				return nil, err
			}
		}
		g.key = append(g.key, byte(outcome))
	}
	out := g.same[string(g.key)]
	if out == nil {
		out = &Told{Operations: offered}
		for _, outcome := range g.key[4:] {
			out.Outcomes = append(out.Outcomes, gate.Outcome(outcome))
		}
		g.same[string(g.key)] = out
	}
	return out, nil
}

// offer lists the operations that are asked about, and valid on a class of resources.
func (g *portionGate) offer(class uint32, operations func(*estate.Operation) bool) []*estate.Operation {
	out, ok := g.offered[class]
	if !ok {
		for _, o := range g.Estate().Offer(g.Classes.Kinds[class]).On(g.Classes.Types[class]) {
			if operations == nil || operations(o) {
				out = append(out, o)
			}
		}
		g.offered[class] = out
	}
	return out
}
