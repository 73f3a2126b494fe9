package gate

import (
	"fmt"
	"slices"

	"hiddengate/internal/estate"
)

// Covers says whether a list of resources selects the resource.
func (g *Gate) Covers(list estate.Resources, r *estate.Resource) bool {
	in := false
	for _, t := range list {
		if (!in || t.Not) && g.CoversTerm(t, r) {
			if t.Not {
				return false
			}
			in = true
		}
	}
	return in
}

// CoversTerm says whether a term fits the resource, whatever its `not`.
func (g *Gate) CoversTerm(t estate.ResourceTerm, r *estate.Resource) bool {
	switch {
	case t.Everything:
		return true
	case t.Scope != "":
		return g.Covers(g.estate.Scopes[t.Scope].Resources, r)
	}
	if t.In != nil {
		fold := g.estate.Folds(r.System)
		if t.Exactly && !t.In.Matches(r.Address, fold) || !t.Exactly && !t.In.Covers(r.Address, fold) {
			return false
		}
	}
	if t.Kinds != nil && !slices.ContainsFunc(t.Kinds, g.estate.Offer(r.System.Kind.ID).Is) {
		return false
	}
	if t.Types != nil && !slices.Contains(t.Types, r.Type) {
		return false
	}
	if t.Owners != nil && (r.Owner == nil || !slices.Contains(t.Owners, *r.Owner)) {
		return false
	}
	return fits(t.Tags, r.Tags)
}

// places tells which of the lists of resources in grants and blocks cover a resource. Lists that say the same are
// one. A list of nothing but addresses is found by walking up from the resource; the others are each held against it.
type places struct {
	gate    *Gate
	numbers map[string]int // of each list, by what it says
	lists   []estate.Resources
	plain   map[estate.Address][]int
	complex []int
	// marks holds, for each list, the turn in which it last covered; turn belongs to the resource asked about last.
	marks []int
	turn  int
	last  *estate.Resource
	now   []int // the lists that cover it
}

func newPlaces(g *Gate) *places {
	return &places{gate: g, numbers: map[string]int{}, plain: map[estate.Address][]int{}}
}

// add gives a list its number.
func (p *places) add(list estate.Resources) int {
	key := fmt.Sprint(list)
	if n, ok := p.numbers[key]; ok {
		return n
	}
	n := len(p.lists)
	p.numbers[key] = n
	p.lists = append(p.lists, list)
	p.marks = append(p.marks, 0)
	if addresses, ok := p.addresses(list); ok {
		for _, a := range addresses {
			p.plain[a] = append(p.plain[a], n)
		}
	} else {
		p.complex = append(p.complex, n)
	}
	return n
}

// addresses gives the places of a list of nothing but addresses, scopes of such among them.
func (p *places) addresses(list estate.Resources) ([]estate.Address, bool) {
	var out []estate.Address
	for _, t := range list {
		switch {
		case t.Scope != "" && !t.Not:
			inner, ok := p.addresses(p.gate.estate.Scopes[t.Scope].Resources)
			if !ok {
				return nil, false
			}
			out = append(out, inner...)
		case t.In != nil && t.In.Plain() && t.String() == t.In.String():
			out = append(out, p.gate.estate.Canonical(t.In.Address()))
		default:
			return nil, false
		}
	}
	return out, true
}

// at turns to a resource.
func (p *places) at(r *estate.Resource) {
	if p.last == r {
		return
	}
	p.last = r
	p.turn++
	p.now = p.now[:0]
	mark := func(n int) {
		if p.marks[n] != p.turn {
			p.marks[n] = p.turn
			p.now = append(p.now, n)
		}
	}
	for a, ok := r.Address, true; ok; a, ok = a.Parent() {
		for _, n := range p.plain[a] {
			mark(n)
		}
	}
	for _, n := range p.complex {
		if p.gate.Covers(p.lists[n], r) {
			mark(n)
		}
	}
}

// covers says whether the list of a number covers the resource.
func (p *places) covers(n int, r *estate.Resource) bool {
	p.at(r)
	return p.marks[n] == p.turn
}

// covering lists the numbers of the lists that cover the resource.
func (p *places) covering(r *estate.Resource) []int {
	p.at(r)
	out := slices.Clone(p.now)
	slices.Sort(out)
	return out
}
