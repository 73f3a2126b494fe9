package gate

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/placemap"
)

// Count counts the listed resources that a list selects. For the lists of grants and blocks it costs little.
func (g *Gate) Count(list estate.Resources) (count int) {
	places, n := g.placesOf(list)
	if places == nil {
		for range g.Selected(list) {
			count++
		}
		return count
	}
	for i := range places.Covered(n) {
		count += len(places.Groups().Rows(i))
	}
	return count
}

// placesOf gives the map that tells places apart by a list, and the list's number in it; nil if there is none.
func (g *Gate) placesOf(list estate.Resources) (*placemap.Map, int) {
	if n, known := g.Places.NumberOf(list); known && !g.Places.Partial() {
		return g.Places, n
	}
	if g.learned != nil {
		if n, known := g.learned.NumberOf(list); known {
			return g.learned, n
		}
	}
	return nil, 0
}

// Learn tells places apart by many lists beside those of grants and blocks, in one way through all resources, so that
// what each of them selects costs what that is.
func (g *Gate) Learn(lists []estate.Resources) {
	lists = slices.DeleteFunc(slices.Clone(lists), func(l estate.Resources) bool {
		places, _ := g.placesOf(l)
		return places != nil
	})
	if len(lists) > 0 {
		g.learned, _ = placemap.New(g.estate, lists, nil, g.Classes)
	}
}

// mostTried is among how many rows a list is held against one after another before it is looked for with others.
const mostTried = 256

// LookForAny finds out of many lists at once which select any listed resource, as CoversAny tells afterwards. Those
// that nothing among the first few rows shows it of are learned.
func (g *Gate) LookForAny(lists []estate.Resources) {
	g.Learn(slices.DeleteFunc(slices.Clone(lists), func(l estate.Resources) bool {
		key := placemap.ResourcesKey(l)
		_, known := g.coverAny[key]
		if places, _ := g.placesOf(l); known || places != nil {
			return true
		}
		some, whole := g.coversSoon(l)
		if some || whole {
			g.coverAny[key] = some
		}
		return some || whole
	}))
}

// coversSoon says whether a list selects any of the first few rows on which it can select some, and whether these are
// all.
func (g *Gate) coversSoon(l estate.Resources) (some, whole bool) {
	left := mostTried
	for _, s := range g.stretchesOf(l) {
		to := min(s.to, s.from+left)
		for range placemap.Selected(g.estate, l, s.from, to) {
			return true, true
		}
		if left -= to - s.from; to < s.to {
			return false, false
		}
	}
	return false, true
}

// Used lists the operations of a role, by name, that apply to something listed where the role, or one that includes it,
// is granted.
func (g *Gate) Used(role string) (names []string) {
	if g.used == nil {
		g.used = map[string]opset.Set{}
		valid := map[int]opset.Set{} // of lists of resources, by number
		for _, gr := range g.Grants {
			if valid[gr.List] == nil {
				valid[gr.List] = g.Classes.Ops.NewSet()
				for class := range g.classesIn(gr.List) {
					unite(valid[gr.List], g.Classes.Valid[class])
				}
			}
			for _, ref := range gr.Roles {
				for id := range g.Roles[ref.ID].Includes {
					if g.used[id] == nil {
						g.used[id] = g.Classes.Ops.NewSet()
					}
					unite(g.used[id], valid[gr.List])
				}
			}
		}
	}
	for _, o := range g.RoleOperations(role) {
		if used := g.used[role]; used != nil && used.Has(g.Classes.Ops.Number[o.Name]) {
			names = append(names, o.Name)
		}
	}
	return names
}

// classesIn gives the classes of the listed resources that a list, by number, covers.
func (g *Gate) classesIn(n int) map[uint32]bool {
	classes := map[uint32]bool{}
	for i := range g.Places.Covered(n) {
		classes[g.Places.Groups().Spots[i].Class] = true
	}
	return classes
}

func unite(to, more opset.Set) {
	for w, set := range more {
		to[w] |= set
	}
}
