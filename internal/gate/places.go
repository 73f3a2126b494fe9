package gate

import (
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

// coverage works out which entries cover a resource, once for those that are listed.
func (g *Gate) coverage(r *estate.Resource) *coverage {
	if c := g.covered[r]; c != nil {
		return c
	}
	c := &coverage{newSet(len(g.grants)), newSet(len(g.blocks))}
	for i, gr := range g.grants {
		if g.Covers(gr.On, r) {
			c.grants.add(i)
		}
	}
	for i, b := range g.blocks {
		if g.Covers(b.On, r) {
			c.blocks.add(i)
		}
	}
	if r.Index >= 0 {
		g.covered[r] = c
	}
	return c
}
