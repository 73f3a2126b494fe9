package gate

import (
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/placemap"
)

// spotted is a spot with how many listed resources have it.
type spotted struct {
	placemap.Spot
	count int
}

// spotsOf gives the spots of the listed resources that a list, by number, covers, each once.
func (g *Gate) spotsOf(n int) []spotted {
	if g.spots == nil {
		groups := g.Places.Groups()
		for i, at := range groups.Spots {
			g.spots = append(g.spots, spotted{at, len(groups.Rows(i))})
		}
		slices.SortFunc(g.spots, func(a, b spotted) int { return int(a.Mark) - int(b.Mark) })
	}
	l := &g.Places.Lists[n]
	var out []spotted
	if l.Trait >= 0 {
		for _, s := range g.spots {
			if g.Places.Covers(n, s.Spot) {
				out = append(out, s)
			}
		}
		return out
	}
	byMark := func(s spotted, mark uint32) int { return int(s.Mark) - int(mark) }
	for _, span := range l.Spans {
		from, _ := slices.BinarySearchFunc(g.spots, span.From, byMark)
		to, _ := slices.BinarySearchFunc(g.spots, span.To, byMark)
		out = append(out, g.spots[from:to]...)
	}
	return out
}

// Count counts the listed resources that a list selects. For the lists of grants and blocks it costs little.
func (g *Gate) Count(list estate.Resources) (count int) {
	n, known := g.Places.Numbers[placemap.ResourcesKey(list)]
	if !known {
		for range g.Selected(list) {
			count++
		}
		return count
	}
	for _, s := range g.spotsOf(n) {
		count += s.count
	}
	return count
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
				for _, s := range g.spotsOf(gr.List) {
					unite(valid[gr.List], g.Classes.Valid[s.Class])
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

func unite(to, more opset.Set) {
	for w, set := range more {
		to[w] |= set
	}
}
