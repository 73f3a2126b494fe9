package gate

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/region"
)

// grantOf finds the compiled grant.
func (g *Gate) grantOf(id string) *grant {
	i, found := slices.BinarySearchFunc(g.grants, id, func(gr *grant, id string) int {
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
	return g.grants[i]
}

// Gives lists the operations, by name, that a grant's roles have and that apply where it is granted to something that
// is listed, or that a system judges though it is not.
func (g *Gate) Gives(gr *estate.Grant) []*estate.Operation {
	compiled := g.grantOf(gr.ID)
	if compiled == nil {
		return nil // it names nobody whom this gate is asked about
	}
	set := g.classes.Ops.NewSet()
	for class := range g.classesWhere(compiled.on) {
		for i, w := range g.classes.Valid[class] {
			set[i] |= w
		}
	}
	var out []*estate.Operation
	for i, o := range g.classes.Ops.List {
		if set.Has(uint32(i)) && g.gives(gr, o.Name) {
			out = append(out, o)
		}
	}
	return out
}

// classesWhere gives the classes of resources that the list of a grant, by number, covers: listed ones, and such as a
// system judges though no inventory lists them.
func (g *Gate) classesWhere(n int) map[uint32]bool {
	if g.places.Whole == nil {
		known := map[placemap.Spot]bool{}
		for _, s := range g.places.Spots {
			if !known[s] {
				known[s] = true
				g.places.Whole = append(g.places.Whole, s)
			}
		}
		var lists []estate.Resources
		for _, gr := range g.grants {
			lists = append(lists, gr.On)
		}
		for _, address := range newplace.ForLists(g.estate, lists) {
			if s, _ := g.places.Unlisted(address.String()); !known[s] {
				known[s] = true
				g.places.Whole = append(g.places.Whole, s)
			}
		}
		slices.SortFunc(g.places.Whole, func(a, b placemap.Spot) int { return int(a.Mark) - int(b.Mark) })
	}
	out := map[uint32]bool{}
	spots := g.places.Whole
	if l := &g.places.Lists[n]; l.Trait < 0 {
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
		if !out[s.Class] && g.places.Covers(n, s) {
			out[s.Class] = true
		}
	}
	return out
}

// Redundant gives a grant that gives all that another one does, to the same subjects and more; "" if there is none. Of
// two that give the same the one whose id comes later is redundant. In a large estate it may overlook one whose
// resources are told by traits.
func (g *Gate) Redundant(gr *estate.Grant) string {
	one := g.grantOf(gr.ID)
	who := g.Lists.Selected(gr.To)
	if one == nil || len(who) == 0 || one.region == region.Empty {
		return ""
	}
	for _, other := range g.numbered(int(who[0])).grants {
		if other == one || other.OnRequest != nil && gr.OnRequest == nil || !g.atLeast(other, one, who) {
			continue
		}
		if gr.ID < other.ID && g.atLeast(one, other, g.Lists.Selected(other.To)) &&
			(other.OnRequest == nil) == (gr.OnRequest == nil) {
			continue // they are the same, and the other one is redundant
		}
		return other.ID
	}
	return ""
}

// atLeast says whether a grant gives some subjects all that another one gives them.
func (g *Gate) atLeast(other, one *grant, who []uint32) bool {
	if holds, err := g.space.Contains(other.region, one.region); err != nil || !holds || !g.within(one, other) {
		return false
	}
	in := g.Lists.Selected(other.To)
	if slices.ContainsFunc(who, func(n uint32) bool { return !membership.Has(in, int(n)) }) {
		return false
	}
	for _, ref := range one.Roles {
		for name, when := range g.roles[ref.ID].operations {
			given := region.Empty
			for _, o := range other.Roles {
				var err error
				if given, err = g.space.Or(given, g.roles[o.ID].operations[name]); err != nil {
					return false
				}
			}
			if holds, err := g.space.Contains(given, when); err != nil || !holds {
				return false
			}
		}
	}
	return true
}

// mostExact is how many resources an estate lists for what patterns and selectors cover to be held against each other
// place by place.
const mostExact = 5000

// within says whether a grant covers nothing, now and later, that another does not; in a large estate it says no in
// doubt.
func (g *Gate) within(one, other *grant) bool {
	if g.places.Within(one.on, other.on) {
		return true
	}
	if g.estate.Tree.Len() > mostExact {
		return false
	}
	inside := true
	whole := EachPlace(g.estate, g.estate, [2][]estate.Resources{{one.On}, {other.On}}, func(_, r *estate.Resource) bool {
		inside = r == nil || !g.Covers(one.On, r) || g.Covers(other.On, r)
		return inside
	})
	return inside && whole
}

// Shadowed says whether blocks take all that a grant gives, from all to whom it gives it.
func (g *Gate) Shadowed(gr *estate.Grant) bool {
	one := g.grantOf(gr.ID)
	who := g.Lists.Selected(gr.To)
	if one == nil || len(who) == 0 || one.region == region.Empty {
		return false
	}
	var over []*block
	for _, b := range g.numbered(int(who[0])).blocks {
		in := g.Lists.Selected(b.To)
		if g.places.Within(one.on, b.on) && !slices.ContainsFunc(who,
			func(n uint32) bool { return !membership.Has(in, int(n)) }) {
			over = append(over, b)
		}
	}
	gives := g.Gives(gr)
	if len(over) == 0 || len(gives) == 0 {
		return false
	}
	for _, o := range gives {
		blocked := region.Empty
		for _, b := range over {
			if b.Deny.Fit(o, g.estate.Edition) {
				var err error
				if blocked, err = g.space.Or(blocked, b.region); err != nil {
					return false
				}
			}
		}
		if holds, err := g.space.Contains(blocked, one.region); err != nil || !holds {
			return false
		}
	}
	return true
}

// Systems lists the ids of the systems in which a list of resources covers something listed.
func (g *Gate) Systems(list estate.Resources) []string {
	tree := g.estate.Tree
	seen := map[uint32]bool{}
	n, known := g.places.Numbers[placemap.ResourcesKey(list)]
	for i, row := range tree.Rows {
		if !seen[row.System] && (known && g.places.Covers(n, g.places.Spots[i]) || !known &&
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
