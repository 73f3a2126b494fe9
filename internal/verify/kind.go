package verify

import (
	"context"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
)

// A Kind is a kind of guarantee. Each stands in a file of its own, and in Kinds; what reads, writes and judges
// guarantees goes by it.
type Kind struct {
	Name  estate.GuaranteeKind // the key under which the files say it
	Doc   string
	Takes Operand
	Least int // of a Number: the smallest there may be
	// Two names what it takes two of, with an example; "" where it takes any number.
	Two, Example string
	Options      []string // other keys of a guarantee that go with this kind alone
	// WithoutMay says that it speaks of the operations that it takes, and no key `may` is needed.
	WithoutMay bool
	// Standing says that it counts on standing grants: what is on request, and what can be got by steps, do not help.
	Standing bool
	// Together says that it counts subjects, or holds them against one another; else it says what it says of each by
	// itself.
	Together bool
	// Headcount says that it counts people who may, whenever and wherever: where as many of those may whose access
	// differs, it comes out as before.
	Headcount bool
	// Missing says that it fails where too few may; else it fails by what somebody may.
	Missing bool
	// Excepts says that those whom it names may: whoever names more says less.
	Excepts bool
	// Denies says that it denies the operations it names, as a block does.
	Denies bool

	// edits are made to the estate in whose cells it is looked for; nil for none.
	edits func(*estate.Guarantee) []estate.Edit
	// find looks for a violation; nil if there is none.
	find func(search) (*violation, error)
	// forbids finds among subjects who all may, whatever else is so, one who must not by the guarantee; named are those
	// whom it names. nil for a kind that says nothing of that.
	forbids func(says *estate.Guarantee, named map[estate.Principal]bool, who []estate.Principal) (estate.Principal, bool)
}

// search is where a violation of a guarantee is looked for.
type search struct {
	ctx context.Context // of the question
	*Prover
	cells *differing.Cells // of the operations and resources of which it speaks
	says  *estate.Guarantee
	steps bool // what can be got by steps counts
}

// Operand is what stands under the key of a kind, and where a guarantee keeps it.
type Operand int

// The operands: Guarantee.Subjects, Count, Both and Requires.
const (
	TakesSubjects Operand = iota
	TakesNumber
	TakesOperations
	TakesCondition
)

// Kinds are all of them, in the order of the reference pages.
var Kinds = []*Kind{only, never, atLeast, atMost, neverBoth, apart, requires}

// KindOf gives the kind of a guarantee that has been read.
func KindOf(g *estate.Guarantee) *Kind {
	for _, k := range Kinds {
		if k.Name == g.Kind {
			return k
		}
	}
	panic("verify: there is no guarantee that says " + string(g.Kind))
}

// KindNames lists the keys of which a guarantee has one.
func KindNames() (out []string) {
	for _, k := range Kinds {
		out = append(out, string(k.Name))
	}
	return out
}

// choose narrows cells to the operations and the resources of which a guarantee speaks.
func (p *Prover) choose(c *differing.Cells, g *estate.Guarantee) {
	edition := p.gate.Estate().Edition
	c.Choose(func(o *estate.Operation) bool { return g.May.Fit(o, edition) }, g.On)
}
