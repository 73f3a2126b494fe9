package gate

import (
	"cmp"
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// stretch is rows of the tree from one until another, the latter excluded.
type stretch struct{ from, to int }

// stretchesOf gives, in order, the rows among which all stand that a list can select.
func (g *Gate) stretchesOf(list estate.Resources) (out []stretch) {
	for _, t := range list {
		if !t.Not {
			out = append(out, g.stretchOf(t)...)
		}
	}
	slices.SortFunc(out, func(a, b stretch) int { return cmp.Compare(a.from, b.from) })
	joined := out[:0]
	for _, s := range out {
		if n := len(joined) - 1; n >= 0 && s.from <= joined[n].to {
			joined[n].to = max(joined[n].to, s.to)
		} else {
			joined = append(joined, s)
		}
	}
	return joined
}

// stretchOf gives the rows among which all stand that a term can select: those of the place that it names, of a system
// if it is a pattern in one, else all.
func (g *Gate) stretchOf(t estate.ResourceTerm) []stretch {
	tree := g.estate.Tree
	switch {
	case t.Scope != "":
		return g.stretchesOf(g.estate.Scopes[t.Scope].Resources)
	case t.In == nil || strings.Contains(t.In.System, "*"):
		return []stretch{{0, tree.Len()}}
	}
	row := tree.Find(t.In.System)
	if row < 0 {
		return nil
	}
	if t.In.Plain() {
		if at := tree.Find(g.estate.Canonical(t.In.Address()).String()); at >= 0 {
			row = at
		}
	}
	return []stretch{{row, tree.End(row)}}
}
