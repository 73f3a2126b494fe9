package gate

import (
	"cmp"
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/gate/opset"
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
	if compiled == nil { // it names nobody whom this gate is asked about
		return g.givesOf(gr, g.validUnder(gr.On))
	}
	if g.validIn == nil {
		g.validIn = map[int]opset.Set{}
	}
	valid, ok := g.validIn[compiled.List]
	if !ok {
		valid = g.validAt(compiled.List, g.beyond())
		for class := range g.classesIn(compiled.List) {
			unite(valid, g.Classes.Valid[class])
		}
		g.validIn[compiled.List] = valid
	}
	return g.givesOf(gr, valid)
}

// validUnder gives the operations that are valid on anything that a list covers by which places need not be told apart.
func (g *Gate) validUnder(list estate.Resources) opset.Set {
	set, seen := g.Classes.Ops.NewSet(), map[uint32]bool{}
	note := func(class uint32) {
		if !seen[class] {
			seen[class] = true
			unite(set, g.Classes.Valid[class])
		}
	}
	for row := range g.Selected(list) {
		note(g.Places.Spots[row].Class)
	}
	for _, address := range newplace.ForLists(g.estate, []estate.Resources{list}) {
		if placemap.Covers(g.estate, list, g.estate.Unlisted(address)) {
			s, _ := g.Places.Unlisted(address.String())
			note(s.Class)
		}
	}
	return set
}

// givesAmong lists the operations that a grant gives at some spots, which are sorted by their marks.
func (g *Gate) givesAmong(gr *estate.Grant, spots []placemap.Spot) []*estate.Operation {
	compiled := g.GrantOf(gr.ID)
	if compiled == nil {
		return nil // it names nobody whom this gate is asked about
	}
	return g.givesOf(gr, g.validAt(compiled.List, spots))
}

// validAt gives the operations that are valid on those of some spots, sorted by their marks, that a list covers.
func (g *Gate) validAt(list int, spots []placemap.Spot) opset.Set {
	set, seen := g.Classes.Ops.NewSet(), map[uint32]bool{}
	g.covered(list, spots, func(s placemap.Spot) bool {
		if !seen[s.Class] {
			seen[s.Class] = true
			unite(set, g.Classes.Valid[s.Class])
		}
		return true
	})
	return set
}

// givesOf lists those of a set of operations that a grant gives.
func (g *Gate) givesOf(gr *estate.Grant, set opset.Set) (out []*estate.Operation) {
	for i, o := range g.Classes.Ops.List {
		if set.Has(uint32(i)) && g.gives(gr, o.Name) {
			out = append(out, o)
		}
	}
	return out
}

// beyond gives the spots, by their marks, of what a system judges though it is not listed, each once, as far as the
// lists of grants tell it apart.
func (g *Gate) beyond() []placemap.Spot {
	if g.anywhere == nil {
		known := map[placemap.Spot]bool{}
		var lists []estate.Resources
		for _, gr := range g.Grants {
			lists = append(lists, gr.On)
		}
		for _, address := range newplace.ForLists(g.estate, lists) {
			s, _ := g.Places.Unlisted(address.String())
			known[s] = true
		}
		g.anywhere = slices.AppendSeq([]placemap.Spot{}, maps.Keys(known))
		slices.SortFunc(g.anywhere, byMark)
	}
	return g.anywhere
}

// covered visits those of some spots that the list of a grant, by its number, covers, until each returns false. The
// spots are sorted by their marks.
func (g *Gate) covered(n int, spots []placemap.Spot, each func(placemap.Spot) bool) {
	l := &g.Places.Lists[n]
	if l.Trait >= 0 {
		for _, s := range spots {
			if g.Places.Covers(n, s) && !each(s) {
				return
			}
		}
		return
	}
	for _, span := range l.Spans {
		from, _ := slices.BinarySearchFunc(spots, placemap.Spot{Mark: span.From}, byMark)
		for _, s := range spots[from:] {
			if s.Mark >= span.To {
				break
			}
			if !each(s) {
				return
			}
		}
	}
}

// byMark compares spots by their marks.
func byMark(a, b placemap.Spot) int { return cmp.Compare(a.Mark, b.Mark) }

// Systems lists the ids of the systems in which a list of resources covers something listed.
func (g *Gate) Systems(list estate.Resources) []string {
	tree := g.estate.Tree
	seen := map[uint32]bool{}
	n, known := g.Places.NumberOf(list)
	if known && !g.Places.Partial() {
		for i := range g.Places.Covered(n) {
			for _, row := range g.Places.Groups().Rows(i) {
				seen[tree.Rows[row].System] = true
			}
		}
	} else {
		for row := range g.Selected(list) {
			seen[tree.Rows[row].System] = true
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
