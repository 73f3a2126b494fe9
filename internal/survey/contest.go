package survey

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Contestant is one who wants an exclusive operation.
type Contestant struct {
	Who     estate.Principal
	Outcome gate.Outcome
	Role    string // through which it is allowed: the one that stands first in the system's precedence
	Grant   *estate.Grant
	Rank    int // of the role in the precedence; one more than the last for roles that it does not name
	Why     gate.Explanation
}

// Rule is what decides a contest.
type Rule int

// The rules, in the order in which they decide.
const (
	NobodyMay Rule = iota
	Alone          // nobody else is allowed it
	Precedence
	Keeps // as good as another, and has it
	First // as good as another, and asked first
	Tied  // as good as another, and nobody is known to hold it or to have asked first
)

// Contested is an exclusive operation on a resource, for which some asked in this order.
type Contested struct {
	Operation string
	Resource  *estate.Resource
	Context   *gate.Context
	Who       []estate.Principal
	InTurn    bool              // Who asked in this order; else nothing is known of that
	Holder    *estate.Principal // who has it now; nil: nobody
}

// Contest tells who gets it: whoever is allowed it through the role that stands first in the system's precedence; on a
// tie whoever holds it, else who asked first. The winner, or those who are tied, come first, those who are not allowed
// last.
func Contest(g *gate.Gate, of Contested) ([]Contestant, Rule, error) {
	operation, r, c, who, holder := of.Operation, of.Resource, of.Context, of.Who, of.Holder
	var all []Contestant
	for _, p := range who {
		one := Contestant{Who: p, Rank: len(r.System.Precedence)}
		why, err := g.Explain(gate.Request{Subject: p, Operation: operation, Resource: r.Address.String(), Context: c})
		if err != nil {
			return nil, NobodyMay, err
		}
		one.Outcome, one.Why = why.Outcome, why
		for _, cause := range why.Grants {
			if cause.Met && one.Outcome == gate.Allow {
				one.through(g, operation, r.System, cause.Grant)
			}
		}
		all = append(all, one)
	}
	holds := func(x Contestant) bool { return holder != nil && x.Who == *holder }
	slices.SortStableFunc(all, func(a, b Contestant) int {
		switch {
		case (a.Outcome == gate.Allow) != (b.Outcome == gate.Allow):
			return int(b.Outcome) - int(a.Outcome)
		case a.Rank != b.Rank:
			return a.Rank - b.Rank
		case holds(a) && !holds(b):
			return -1
		case holds(b) && !holds(a):
			return 1
		}
		return 0
	})
	switch {
	case len(all) == 0 || all[0].Outcome != gate.Allow:
		return all, NobodyMay, nil
	case len(all) == 1 || all[1].Outcome != gate.Allow:
		return all, Alone, nil
	case all[0].Rank < all[1].Rank:
		return all, Precedence, nil
	case holds(all[0]):
		return all, Keeps, nil
	case !of.InTurn:
		return all, Tied, nil
	}
	return all, First, nil
}

// Leading lists those who are as good as the first.
func Leading(all []Contestant) (out []Contestant) {
	for _, c := range all {
		if c.Outcome == gate.Allow && c.Rank == all[0].Rank {
			out = append(out, c)
		}
	}
	return out
}

// through takes a grant's role, or one that it includes, if it stands before the one that is known.
func (one *Contestant) through(g *gate.Gate, operation string, s *estate.System, gr *estate.Grant) {
	for _, ref := range gr.Roles {
		if !g.RoleHas(ref.ID, operation) {
			continue
		}
		if one.Role == "" {
			one.Role, one.Grant = ref.ID, gr
		}
		for rank, stands := range s.Precedence {
			if rank < one.Rank && g.Includes(ref.ID, stands.ID) && g.RoleHas(stands.ID, operation) {
				one.Role, one.Grant, one.Rank = stands.ID, gr, rank
			}
		}
	}
}
