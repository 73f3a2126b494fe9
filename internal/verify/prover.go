package verify

import (
	"context"
	"math"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/escalation"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/region"
)

// Prover judges guarantees of one estate: over every subject, every place and every context from an instant on.
type Prover struct {
	gate    *gate.Gate
	base    *gate.Gate // by which places are told apart
	since   clock.Instant
	inForce bool
	more    *escalation.Ways
	only    map[estate.Principal]bool
	but     map[estate.Principal]bool
	roster  *membership.Roster
	cells   map[countedIn]*differing.Cells
}

// countedIn says what counts in cells.
type countedIn struct {
	which gate.Counting
	steps bool
}

// Of says what a prover looks at.
type Of struct {
	Since   clock.Instant
	InForce bool                      // on-request grants count where they are lent, not as if they were
	Only    map[estate.Principal]bool // nobody else is looked at; nil: everybody is
	But     map[estate.Principal]bool // they are not looked at; not for guarantees that count subjects
	// Base is a gate of the estate, or of one like it, that tells places apart for everybody; nil: the prover's own
	Base *gate.Gate
	// what can be got by steps counts as well, from the same instant on; nil: it does not
	Ways *escalation.Ways
}

// NewProver makes a prover for a gate's estate. The gate decides the witnesses.
func NewProver(g *gate.Gate, of Of) *Prover {
	if of.Base == nil {
		of.Base = g
	}
	return &Prover{gate: g, base: of.Base, since: of.Since, inForce: of.InForce, more: of.Ways, only: of.Only, but: of.But,
		roster: g.Roster, cells: map[countedIn]*differing.Cells{}}
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

// Witness shows that a guarantee does not hold. Either requests do, each of which was decided and is allowed, or a
// moment at which too few people are left for an operation on a resource.
type Witness struct {
	Requests []Shown
	Grants   []string // that make it so: all others may go, and none of these
	Also     []string // of one request: other grants that give it too
	Resource string   // where too few are left
	At       clock.Instant
	Left     []estate.Principal // who is
	Reached  []Reached          // of what can be got by steps, in place of requests
}

// IsShort says that too few people are left at some moment; else requests show that it does not hold.
func (w *Witness) IsShort() bool { return w.Resource != "" }

// Reached is something that somebody can do in the end, and how it comes to that.
type Reached struct {
	Subject             estate.Principal
	Operation, Resource string
	escalation.Chain
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
	pile      *differing.Pile
	when      region.Region
}

// violation is why a guarantee fails: claims, or a place that is short of people at some time.
type violation struct {
	claims []claim
	short  *differing.Pile
	at     clock.Instant
}

// Judge judges a guarantee. Its error says that conditions are too complex, or that the context ended.
func (p *Prover) Judge(ctx context.Context, g *estate.Guarantee) (Verdict, error) {
	cells, err := p.look(g)
	if err != nil {
		return Verdict{}, err
	}
	v, err := p.find(ctx, cells, g)
	out := Verdict{Guarantee: g, Empty: len(cells.Piles()) == 0}
	if err == nil && v != nil {
		out.Witness, err = p.witness(ctx, cells, g, v)
	}
	return out, err
}

// Fails says whether a guarantee fails, without looking for a witness.
func (p *Prover) Fails(ctx context.Context, g *estate.Guarantee) (bool, error) {
	cells, err := p.look(g)
	if err != nil {
		return false, err
	}
	v, err := p.find(ctx, cells, g)
	return v != nil, err
}

// People counts the people who may anything of which a guarantee speaks.
func (p *Prover) People(ctx context.Context, g *estate.Guarantee) (int, error) {
	cells, err := p.look(g)
	if err != nil {
		return 0, err
	}
	s := p.searchFor(ctx, cells, g)
	claims, err := s.people(math.MaxInt)
	return len(claims), err
}

// which says which grants count for a guarantee.
func (p *Prover) which(g *estate.Guarantee) gate.Counting {
	if p.inForce || p.countsSteps(g) || KindOf(g).Standing {
		return gate.Standing
	}
	return gate.Both
}

// countsSteps says whether what can be got by steps counts for a guarantee. Nobody is counted on who would have to take
// some first.
func (p *Prover) countsSteps(g *estate.Guarantee) bool {
	return p.more != nil && !KindOf(g).Standing
}

// look gives the cells in which to look for what a guarantee speaks of.
func (p *Prover) look(g *estate.Guarantee) (*differing.Cells, error) {
	e := p.gate.Estate()
	scene := differing.Scene{Which: p.which(g), Only: p.only, Roster: p.roster, Base: p.base}
	if p.countsSteps(g) {
		e, scene.Roster, scene.Places = p.more.Estate(), nil, p.more.Places()
	}
	if edits := KindOf(g).edits; edits != nil && !p.apart(g) {
		return differing.CompileCells(e.With(edits(g)...), scene)
	}
	key := countedIn{scene.Which, p.countsSteps(g)}
	if c := p.cells[key]; c != nil {
		return c, nil
	}
	for _, g := range estate.Sorted(e.Guarantees) {
		scene.Places = append(scene.Places, g.On)
	}
	c, err := differing.CompileCells(e, scene)
	p.cells[key] = c
	return c, err
}

// find looks for a violation; nil if there is none.
func (p *Prover) find(ctx context.Context, c *differing.Cells, g *estate.Guarantee) (*violation, error) {
	s := p.searchFor(ctx, c, g)
	if p.apart(g) {
		met, err := c.EntryRegion(g.Requires, nil, nil)
		if err != nil {
			return nil, err
		}
		unmet, err := c.Space().Not(met)
		if err != nil {
			return nil, err
		}
		c.Within(unmet)
	}
	return KindOf(g).find(s)
}

// apart says that what a guarantee requires can be taken away from what is allowed: it is the same for every subject
// and resource.
func (p *Prover) apart(g *estate.Guarantee) bool {
	if g.Requires == nil || p.countsSteps(g) {
		return false
	}
	same := true
	g.Requires.Each(func(c *estate.Condition) {
		same = same && c.Owner == nil && c.Same == nil && c.Subject == nil && c.Resource == nil
	})
	return same
}

// searchFor gives where to look for what a guarantee speaks of.
func (p *Prover) searchFor(ctx context.Context, c *differing.Cells, g *estate.Guarantee) search {
	c.Among(nil, differing.Whole)
	c.Within(region.Full)
	p.choose(c, g)
	return search{ctx, p, c, g, p.countsSteps(g)}
}

// each goes through what may be done in cells, and by steps where they count. who and far say whom alone to go
// through, and how far.
func (s *search) each(who func(estate.Principal) bool, far differing.Depth, each func(differing.Access) bool) error {
	if s.more != nil {
		return s.more.Each(s.ctx, s.cells, each)
	}
	among := who
	if s.but != nil {
		among = func(p estate.Principal) bool { return !s.but[p] && (who == nil || who(p)) }
	}
	s.cells.Among(among, far)
	return s.cells.Each(s.ctx, s.since, each)
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
func (s *search) any(fits func(estate.Principal) bool) (out *violation, err error) {
	err = s.each(fits, differing.First, func(a differing.Access) bool {
		for _, who := range a.Subjects {
			if fits(who) {
				out = &violation{claims: []claim{{who, a.Operation, a.Piles.First(), a.Possible}}}
				return false
			}
		}
		return true
	})
	return out, err
}
