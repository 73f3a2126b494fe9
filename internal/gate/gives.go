package gate

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/gate/placemap"
)

// GrantOf finds the compiled grant of an id; nil if there is none.
func (g *Gate) GrantOf(id string) *CompiledGrant {
	i, found := slices.BinarySearchFunc(g.Grants, id, func(gr *CompiledGrant, id string) int {
		switch {
		case gr.ID < id:
			return -1
		case gr.ID > id:
			return 1
		}
		return 0
	})
	if !found {
		return nil
	}
	return g.Grants[i]
}

// Gives lists the operations, by name, that a grant's roles have and that apply where it is granted to something that
// is listed, or that a system judges though it is not.
func (g *Gate) Gives(gr *estate.Grant) []*estate.Operation {
	compiled := g.GrantOf(gr.ID)
	if compiled == nil {
		return nil // it names nobody whom this gate is asked about
	}
	set := g.Classes.Ops.NewSet()
	for class := range g.classesWhere(compiled.List) {
		for i, w := range g.Classes.Valid[class] {
			set[i] |= w
		}
	}
	var out []*estate.Operation
	for i, o := range g.Classes.Ops.List {
		if set.Has(uint32(i)) && g.gives(gr, o.Name) {
			out = append(out, o)
		}
	}
	return out
}

// classesWhere gives the classes of resources that the list of a grant, by number, covers: listed ones, and such as a
// system judges though no inventory lists them.
func (g *Gate) classesWhere(n int) map[uint32]bool {
	if g.Places.Whole == nil {
		known := map[placemap.Spot]bool{}
		for _, s := range g.Places.Spots {
			if !known[s] {
				known[s] = true
				g.Places.Whole = append(g.Places.Whole, s)
			}
		}
		var lists []estate.Resources
		for _, gr := range g.Grants {
			lists = append(lists, gr.On)
		}
		for _, address := range newplace.ForLists(g.estate, lists) {
			if s, _ := g.Places.Unlisted(address.String()); !known[s] {
				known[s] = true
				g.Places.Whole = append(g.Places.Whole, s)
			}
		}
		slices.SortFunc(g.Places.Whole, func(a, b placemap.Spot) int { return int(a.Mark) - int(b.Mark) })
	}
	out := map[uint32]bool{}
	spots := g.Places.Whole
	if l := &g.Places.Lists[n]; l.Trait < 0 {
		for _, span := range l.Spans {
			from, _ := slices.BinarySearchFunc(spots, span.From,
				func(s placemap.Spot, mark uint32) int { return int(s.Mark) - int(mark) })
			for _, s := range spots[from:] {
				if s.Mark >= span.To {
					break
				}
				out[s.Class] = true
			}
		}
		return out
	}
	for _, s := range spots {
		if !out[s.Class] && g.Places.Covers(n, s) {
			out[s.Class] = true
		}
	}
	return out
}

// Systems lists the ids of the systems in which a list of resources covers something listed.
func (g *Gate) Systems(list estate.Resources) []string {
	tree := g.estate.Tree
	seen := map[uint32]bool{}
	n, known := g.Places.Numbers[placemap.ResourcesKey(list)]
	for i, row := range tree.Rows {
		if !seen[row.System] && (known && g.Places.Covers(n, g.Places.Spots[i]) || !known &&
			placemap.Covers(g.estate, list, tree.At(i))) {
			seen[row.System] = true
		}
	}
	var out []string
	for i, s := range tree.Systems {
		if seen[uint32(i)] {
			out = append(out, s.ID)
		}
	}
	return out
}
