package survey

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Reached is how far somebody gets in a place and all inside it.
type Reached struct {
	Any   bool         // something is allowed
	Level estate.Level // the highest of which something is
	// Partly says that it is not so everywhere: on some resource nothing is allowed of the highest level, up to Level,
	// that it offers.
	Partly    bool
	Depends   *Higher // of which something depends on the request
	OnRequest *Higher // of which something is allowed once it is lent
	// Direct says that something of Level is allowed somewhere only by a grant that names the subject itself.
	Direct bool
}

// Higher is a level above that of which something is allowed.
type Higher struct {
	Level  estate.Level
	Partly bool // it is so on some of the resources that offer the level, not on all
}

// same says that two cells say the same.
func (r Reached) same(o Reached) bool {
	level := func(a, b *Higher) bool { return a == b || a != nil && b != nil && *a == *b }
	return r.Any == o.Any && r.Level == o.Level && r.Partly == o.Partly && level(r.Depends, o.Depends) &&
		level(r.OnRequest, o.OnRequest) && r.Direct == o.Direct
}

// implied is what a cell says of a place inside its own: all that it says, as far as the place offers operations.
func (r Reached) implied(there mask) Reached {
	out := Reached{}
	if r.Any {
		for l := r.Level; l >= estate.View; l-- {
			if there.offers(l) {
				out = Reached{Any: true, Level: l, Partly: r.Partly && l == r.Level, Direct: r.Direct}
				break
			}
		}
	}
	if r.Depends != nil && there.offers(r.Depends.Level) {
		out.Depends = r.Depends
	}
	if r.OnRequest != nil && there.offers(r.OnRequest.Level) {
		out.OnRequest = r.OnRequest
	}
	return out
}

// mask says of each level, in eight bits, what there is among some resources. The masks of places together are the
// union of their bits.
type mask uint32

const (
	allowed mask = 1 << iota // a resource on which something of the level is allowed
	open                     // one on which nothing is, and something depends
	denied                   // one on which all of it is denied
	short                    // one on which nothing is allowed of the highest level, up to this one, that it offers
	direct                   // one on which something of the level is allowed only by a grant that names the subject
	lent                     // one on which something of the level is allowed once all on request is lent
	unlent                   // one on which nothing of it is, even then
)

func (m mask) at(l estate.Level) mask { return m >> (8 * l) & 0xff }

// offers says that there is a resource with an operation of the level.
func (m mask) offers(l estate.Level) bool { return m.at(l)&(allowed|open|denied) != 0 }

// reached reads a mask.
func (m mask) reached() (out Reached) {
	highest := func(bit mask) *estate.Level {
		for l := estate.Govern; l >= estate.View; l-- {
			if m.at(l)&bit != 0 {
				return &l
			}
		}
		return nil
	}
	if l := highest(allowed); l != nil {
		out = Reached{Any: true, Level: *l, Partly: m.at(*l)&short != 0, Direct: m.at(*l)&direct != 0}
	}
	if l := highest(open); l != nil && (!out.Any || *l > out.Level) {
		out.Depends = &Higher{*l, m.at(*l)&denied != 0}
	}
	if l := highest(lent); l != nil && (!out.Any || *l > out.Level) {
		out.OnRequest = &Higher{*l, m.at(*l)&unlent != 0}
	}
	return out
}

// variants are a subject's answers on one resource, with the grants as they are, with all on request lent, and without
// the grants that name the subject. The last two are nil where they would be the same.
type variants [3]*gate.OperationOutcomes

// of tells of one of the operations, with the bits of a level.
func (v variants) of(i int) mask {
	m := [3]mask{gate.Deny: denied, gate.Depends: open, gate.Allow: allowed}[v[asTheyAre].Outcomes[i]]
	if r := v[withoutDirect]; r != nil && m == allowed && r.Outcomes[i] != gate.Allow {
		m |= direct
	}
	if l := v[allLent]; l != nil && l.Outcomes[i] == gate.Allow {
		m |= lent
	}
	return m
}

// answer reads the bits of one operation.
func (m mask) answer() Answer {
	out := Answer{Direct: m&direct != 0}
	switch {
	case m&allowed != 0:
		out.Outcome, out.Partly = gate.Allow, m&(open|denied) != 0
	case m&open != 0:
		out.Outcome, out.Partly, out.OnRequest = gate.Depends, m&denied != 0, m&lent != 0
	default:
		out.OnRequest = m&lent != 0
	}
	return out
}

// mask tells of the operations on one resource that a grid is asked about.
func (q Question) mask(v variants) (m mask) {
	var levels [4]mask
	for i, o := range v[asTheyAre].Operations {
		if q.What == nil || q.What(o) {
			levels[o.Level] |= v.of(i)
		}
	}
	lacks := false
	for level, bits := range levels {
		if bits != 0 && bits&lent == 0 {
			bits |= unlent
		}
		switch { // the best of what there is says it of the level on this resource
		case bits&allowed != 0:
			bits &^= open | denied
			lacks = false
		case bits != 0:
			if bits&open != 0 {
				bits &^= denied
			}
			lacks = true
		}
		if lacks {
			bits |= short
		}
		m |= bits << (8 * level)
	}
	return m
}
