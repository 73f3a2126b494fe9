package placemap

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
)

// Near tells which lists can cover anything that some lists can, now or later: it knows in which places their terms
// lie, and looks no closer.
type Near struct {
	estate   *estate.Estate
	anywhere bool
	at       map[estate.Address]bool // the places of those lists
	above    map[estate.Address]bool // what these stand in
	scopes   map[string]bool         // by id, whether one can; once it has been asked about
	in       []bool                  // the listed resources there, once somebody asks; nil where they are many
	looked   bool
}

// Few says that few listed resources lie there.
func (n *Near) Few() bool { return n.rows() != nil }

// NewNear takes down where some lists lie.
func NewNear(e *estate.Estate, lists []estate.Resources) *Near {
	n := &Near{estate: e, at: map[estate.Address]bool{}, above: map[estate.Address]bool{}, scopes: map[string]bool{}}
	for _, l := range lists {
		n.gather(l)
	}
	return n
}

func (n *Near) gather(l estate.Resources) {
	for _, t := range l {
		if t.Not {
			continue
		}
		if t.Scope != "" {
			n.gather(n.estate.Scopes[t.Scope].Resources)
			continue
		}
		top, ok := n.topOf(&t)
		if !ok {
			n.anywhere = true
			return
		}
		n.at[top] = true
		for above, ok := top.Parent(); ok; above, ok = above.Parent() {
			n.above[above] = true
		}
	}
}

// topOf gives the place in which all lies that a term can cover; false where that is anywhere.
func (n *Near) topOf(t *estate.ResourceTerm) (estate.Address, bool) {
	if t.In == nil {
		return estate.Address{}, false
	}
	top, ok := t.In.Top()
	return n.estate.Canonical(top), ok
}

// Meets says whether a list can cover anything that they can; where it is in doubt it says so.
func (n *Near) Meets(l estate.Resources) bool {
	for i := range l {
		if !l[i].Not && n.meets(&l[i]) {
			return true
		}
	}
	return false
}

func (n *Near) meets(t *estate.ResourceTerm) bool {
	if t.Scope != "" {
		is, known := n.scopes[t.Scope]
		if !known {
			is = n.Meets(n.estate.Scopes[t.Scope].Resources)
			n.scopes[t.Scope] = is
		}
		return is
	}
	top, ok := n.topOf(t)
	if n.anywhere || !ok || n.above[top] {
		return true
	}
	for ok := true; ok; top, ok = top.Parent() {
		if n.at[top] {
			return true
		}
	}
	return false
}

// mostExact is up to how many kinds of places it pays to hold each list against.
const mostExact = 64

// Exactly gives what tells of a list whether it covers anything that lies there and is there already: what is listed,
// and what some list of the map names that no inventory lists. It is nil where that takes long to tell.
func (n *Near) Exactly(p *Map) func(estate.Resources) bool {
	in := n.rows()
	if in == nil {
		return nil
	}
	spots := map[Spot]bool{}
	for row, is := range in {
		if is {
			spots[p.Spots[row]] = true
		}
	}
	beyond := slices.AppendSeq(slices.Clone(p.Phantoms), maps.Keys(n.at))
	for _, a := range beyond {
		for top, ok := a, true; ok; top, ok = top.Parent() {
			if n.at[top] && n.estate.Tree.Find(a.String()) < 0 {
				at, _ := p.Unlisted(a.String())
				spots[at] = true
				break
			}
		}
	}
	if len(spots) > mostExact {
		return nil
	}
	return func(l estate.Resources) bool {
		number, known := p.NumberOf(l)
		if !known {
			return true
		}
		for at := range spots {
			if p.Covers(number, at) {
				return true
			}
		}
		return false
	}
}

// rows marks the listed resources that lie in those places, and what these stand in; nil where they are many.
func (n *Near) rows() []bool {
	if !n.looked {
		n.in, n.looked = n.look(), true
	}
	return n.in
}

func (n *Near) look() []bool {
	if n.anywhere {
		return nil
	}
	tree, count := n.estate.Tree, 0
	in := make([]bool, tree.Len())
	take := func(row int) {
		if !in[row] {
			in[row] = true
			count++
		}
	}
	for a := range n.at {
		if row := tree.Find(a.String()); row >= 0 {
			for i := row; i < tree.End(row); i++ {
				take(i)
			}
		}
	}
	for a := range n.above {
		if row := tree.Find(a.String()); row >= 0 {
			take(row)
		}
	}
	if count > max(fewInPart, len(in)/partOfAll) {
		return nil
	}
	return in
}
