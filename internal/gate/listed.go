package gate

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/placemap"
)

// Count counts the listed resources that a list selects. For the lists of grants and blocks it costs little.
func (g *Gate) Count(list estate.Resources) (count int) {
	n, known := g.Places.Numbers[placemap.ResourcesKey(list)]
	if !known {
		for range g.Selected(list) {
			count++
		}
		return count
	}
	for i := range g.Places.Covered(n) {
		count += len(g.Places.Groups().Rows(i))
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
