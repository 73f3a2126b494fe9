package trial

import (
	"fmt"
	"slices"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/further"
	"hiddengate/internal/gate"
	"hiddengate/internal/region"
)

// Week is how far ahead a guarantee of so many people looks that does not say.
const Week = 7 * 24 * time.Hour

// Prover judges guarantees of one estate: over every subject, every place and every context from an instant on.
type Prover struct {
	gate    *gate.Gate
	since   clock.Instant
	inForce bool
	more    *further.Ways
	only    map[estate.Principal]bool
	roster  *gate.Roster
	cells   map[counting]*gate.Cells
}

// counting says what counts in cells.
type counting struct {
	which   gate.Counting
	further bool
}

// Of says what a prover looks at.
type Of struct {
	Since   clock.Instant
	InForce bool                      // on-request grants count where they are lent, not as if they were
	Only    map[estate.Principal]bool // nobody else is looked at; nil: everybody is
	Ways    *further.Ways             // what can be got by steps counts as well, from the same instant on; nil: it does not
}

// NewProver makes a prover for a gate's estate. The gate decides the witnesses.
func NewProver(g *gate.Gate, of Of) *Prover {
	return &Prover{gate: g, since: of.Since, inForce: of.InForce, more: of.Ways, only: of.Only, roster: g.Roster, cells: map[counting]*gate.Cells{}}
}

// Verdict is what became of a guarantee: it holds, or a witness shows that it does not.
type Verdict struct {
	Guarantee *estate.Guarantee
	Witness   *Witness
	// Empty says that it speaks of nothing: no operation that it names applies to any resource that it names.
	Empty bool
}

// Holds says whether it does.
func (v Verdict) Holds() bool { return v.Witness == nil }

// Witness shows that a guarantee does not hold. Either requests do, each of which was decided and is allowed, or a moment at which
// too few people are left for an operation on a resource.
type Witness struct {
	Requests []Shown
	Grants   []string // that make it so: all others may go, and none of these
	Also     []string // of one request: other grants that give it too
	Resource string   // where too few are left
	At       clock.Instant
	Left     []estate.Principal // who is
	Reached  []Reached          // of what can be got by steps, in place of requests
}

// Reached is something that somebody can do in the end, and how it comes to that.
type Reached struct {
	Subject             estate.Principal
	Operation, Resource string
	further.Chain
}

// Shown is one allowed request.
type Shown struct {
	gate.Request
	Lent    string // the on-request grant that has to be lent for it, "" if none has
	Longest time.Duration
}

// claim is one thing that somebody may do: what a violation is made of.
type claim struct {
	who       estate.Principal
	operation string
	pile      *gate.Pile
	when      region.Region
}

// violation is why a guarantee fails: claims, or a place that is short of people at some time.
type violation struct {
	claims []claim
	short  *gate.Pile
	at     clock.Instant
}

// Judge judges a guarantee. Its error says that conditions are too complex.
func (p *Prover) Judge(g *estate.Guarantee) (Verdict, error) {
	cells, err := p.look(g)
	if err != nil {
		return Verdict{}, err
	}
	v, err := p.find(cells, g)
	out := Verdict{Guarantee: g, Empty: len(cells.Piles()) == 0}
	if err == nil && v != nil {
		out.Witness, err = p.witness(cells, g, v)
	}
	return out, err
}

// Fails says whether a guarantee fails, without looking for a witness.
func (p *Prover) Fails(g *estate.Guarantee) (bool, error) {
	cells, err := p.look(g)
	if err != nil {
		return false, err
	}
	v, err := p.find(cells, g)
	return v != nil, err
}

// which says which grants count for a guarantee.
func (p *Prover) which(g *estate.Guarantee) gate.Counting {
	if p.inForce || p.further(g) || g.Kind == estate.AtLeast {
		return gate.Standing
	}
	return gate.Both
}

// further says whether what can be got by steps counts for a guarantee. Nobody is counted on who would have to take some first.
func (p *Prover) further(g *estate.Guarantee) bool { return p.more != nil && g.Kind != estate.AtLeast }

// look gives the cells in which to look for what a guarantee speaks of.
func (p *Prover) look(g *estate.Guarantee) (*gate.Cells, error) {
	e := p.gate.Estate()
	scene := gate.Scene{Which: p.which(g), Only: p.only, Roster: p.roster}
	if p.further(g) {
		e, scene.Roster, scene.Places = p.more.Estate(), nil, p.more.Places()
	}
	if g.Kind == estate.Requires {
		// What is allowed without the condition is what is left once the condition is a block.
		everybody := estate.Subjects{{Principal: estate.Principal{Kind: estate.IsEveryone}}, {Principal: estate.Principal{Kind: estate.IsAnonymous}}}
		block := &estate.Block{Object: estate.Object{ID: "guarantee " + g.ID, Source: g.Source}, To: everybody, Deny: g.May, On: g.On, When: g.Requires}
		return gate.CompileCells(e.With(estate.Put("blocks", block)), scene)
	}
	key := counting{scene.Which, p.further(g)}
	if c := p.cells[key]; c != nil {
		return c, nil
	}
	for _, g := range estate.Sorted(e.Guarantees) {
		scene.Places = append(scene.Places, g.On)
	}
	c, err := gate.CompileCells(e, scene)
	p.cells[key] = c
	return c, err
}

// find looks for a violation; nil if there is none.
func (p *Prover) find(c *gate.Cells, g *estate.Guarantee) (*violation, error) {
	edition := p.gate.Estate().Edition
	c.Among(nil, false)
	may := func(o *estate.Operation) bool { return g.May.Fit(o, edition) }
	switch g.Kind {
	case estate.NeverBoth:
		first, second := estate.Operations{g.Both[0]}, estate.Operations{g.Both[1]}
		c.Choose(func(o *estate.Operation) bool { return first.Fit(o, edition) || second.Fit(o, edition) }, g.On)
		return p.both(c, g, func(name string) (one, other bool) {
			o := p.gate.Estate().Operations[name]
			return first.Fit(o, edition), second.Fit(o, edition)
		})
	case estate.Apart:
		c.Choose(may, g.On)
		return p.together(c, g)
	case estate.AtMost:
		c.Choose(may, g.On)
		return p.many(c, g.Count)
	case estate.AtLeast:
		c.Choose(may, g.On)
		return p.few(c, g)
	case estate.Requires:
		c.Choose(may, g.On)
		return p.any(c, func(estate.Principal) bool { return true })
	}
	c.Choose(may, g.On)
	named := p.members(g.Subjects)
	return p.any(c, func(who estate.Principal) bool { return named[who] == (g.Kind == estate.NeverMay) })
}

// each goes through what may be done in cells, and by steps where they count. who and first say whom alone to go through, and whether one cell of each will do.
func (p *Prover) each(c *gate.Cells, who func(estate.Principal) bool, first bool, each func(gate.Access) bool) error {
	if p.more != nil {
		return p.more.Each(c, each)
	}
	c.Among(who, first)
	return c.Each(p.since, each)
}

// members tells whom a list selects.
func (p *Prover) members(list estate.Subjects) map[estate.Principal]bool {
	out := map[estate.Principal]bool{}
	for _, who := range p.roster.Of(list) {
		out[who] = true
	}
	return out
}

// any looks for somebody who fits and may anything.
func (p *Prover) any(c *gate.Cells, fits func(estate.Principal) bool) (out *violation, err error) {
	err = p.each(c, fits, true, func(a gate.Access) bool {
		for _, who := range a.Subjects {
			if fits(who) {
				out = &violation{claims: []claim{{who, a.Operation, a.Piles[0], a.Possible}}}
				return false
			}
		}
		return true
	})
	return out, err
}

// many looks for more than so many people who may anything.
func (p *Prover) many(c *gate.Cells, most int) (out *violation, err error) {
	found := map[estate.Principal]bool{}
	var claims []claim
	isPerson := func(who estate.Principal) bool { return who.Kind == estate.IsPerson }
	err = p.each(c, isPerson, true, func(a gate.Access) bool {
		for _, who := range a.Subjects {
			if who.Kind == estate.IsPerson && !found[who] {
				found[who] = true
				claims = append(claims, claim{who, a.Operation, a.Piles[0], a.Possible})
				if len(claims) > most {
					out = &violation{claims: claims}
					return false
				}
			}
		}
		return true
	})
	return out, err
}

// both looks for somebody who may both operations, on one resource or anywhere.
func (p *Prover) both(c *gate.Cells, g *estate.Guarantee, is func(operation string) (one, other bool)) (out *violation, err error) {
	type seen [2]*claim
	var class estate.Principal
	found := map[int]*seen{}
	known := map[estate.Principal]map[int]*seen{} // where somebody comes more than once
	err = p.each(c, nil, false, func(a gate.Access) bool {
		if a.Subjects[0] != class {
			class = a.Subjects[0]
			if p.further(g) {
				if found = known[class]; found == nil {
					found = map[int]*seen{}
					known[class] = found
				}
			} else {
				clear(found)
			}
		}
		one, other := is(a.Operation)
		piles := a.Piles
		if !g.SameResource {
			piles = piles[:1]
		}
		for _, pile := range piles {
			at := 0
			if g.SameResource {
				at = pile.Number()
			}
			s := found[at]
			if s == nil {
				s = &seen{}
				found[at] = s
			}
			for k, fits := range []bool{one, other} {
				if fits && s[k] == nil {
					s[k] = &claim{class, a.Operation, pile, a.Possible}
				}
			}
			if s[0] != nil && s[1] != nil {
				out = &violation{claims: []claim{*s[0], *s[1]}}
				return false
			}
		}
		return true
	})
	return out, err
}

// together looks for a resource on which members of both groups may anything.
func (p *Prover) together(c *gate.Cells, g *estate.Guarantee) (out *violation, err error) {
	groups := [2]map[estate.Principal]bool{p.members(g.Subjects[:1]), p.members(g.Subjects[1:])}
	found := make([][2]*claim, c.Numbers())
	either := func(who estate.Principal) bool { return groups[0][who] || groups[1][who] }
	err = p.each(c, either, false, func(a gate.Access) bool {
		for k, members := range groups {
			i := slices.IndexFunc(a.Subjects, func(who estate.Principal) bool { return members[who] })
			if i < 0 {
				continue
			}
			for _, pile := range a.Piles {
				s := &found[pile.Number()]
				if s[k] == nil {
					s[k] = &claim{a.Subjects[i], a.Operation, pile, a.Possible}
				}
				if s[0] != nil && s[1] != nil {
					out = &violation{claims: []claim{*s[0], *s[1]}}
					return false
				}
			}
		}
		return true
	})
	return out, err
}

// few looks for a resource for which, at some moment, fewer people are left than there must be.
func (p *Prover) few(c *gate.Cells, g *estate.Guarantee) (*violation, error) {
	ahead := g.For
	if ahead == 0 {
		ahead = Week
	}
	space := c.Space()
	window := space.Between(p.since, p.since+clock.Instant(ahead/time.Microsecond))
	counts := make([]*gate.Headcount, c.Numbers())
	short := make([]*gate.Pile, c.Numbers()) // those that are, by number
	left := 0
	for _, pile := range c.Piles() {
		counts[pile.Number()] = c.NewHeadcount(g.Count, window)
		short[pile.Number()] = pile
		left++
	}
	moments := map[region.Region]region.Region{}
	var bad error
	try := func(r region.Region, err error) region.Region {
		if err != nil && bad == nil {
			bad = err
		}
		return r
	}
	// One class may have a pile by several operations.
	var class []estate.Principal
	now := make([]region.Region, c.Numbers())
	var touched []int
	settle := func() {
		people := 0
		for _, who := range class {
			if who.Kind == estate.IsPerson {
				people++
			}
		}
		for _, n := range touched {
			if err := counts[n].Add(people, now[n]); err != nil {
				bad = err
			}
			if counts[n].Enough() {
				short[n] = nil
				left--
			}
			now[n] = region.Empty
		}
		touched = touched[:0]
	}
	err := c.Each(p.since, func(a gate.Access) bool {
		if class == nil || a.Subjects[0] != class[0] {
			settle()
			class = a.Subjects
		}
		when, known := moments[a.Possible]
		if !known {
			when = try(space.And(try(space.Times(a.Possible)), window))
			moments[a.Possible] = when
		}
		for _, pile := range a.Piles {
			n := pile.Number()
			if short[n] == nil || now[n] == when || when == region.Empty {
				continue
			}
			if now[n] == region.Empty {
				touched = append(touched, n)
			}
			now[n] = try(space.Or(now[n], when))
		}
		return bad == nil && left > 0
	})
	settle()
	if err == nil {
		err = bad
	}
	if err != nil || left == 0 {
		return nil, err
	}
	n := slices.IndexFunc(short, func(p *gate.Pile) bool { return p != nil })
	w, ok := space.Witness(try(counts[n].Short()), p.since)
	if !ok || bad != nil {
		return nil, fmt.Errorf("no moment was found at which people are short: %w", bad)
	}
	at, timed := w.Time()
	if !timed {
		at = p.since
	}
	return &violation{short: short[n], at: at}, nil
}
