package differing

import (
	"maps"
	"slices"

	"hiddengate/internal/region"
)

// part is classes that stand alike to an operation.
type part struct {
	standing uint32
	classes  ClassSet
	own      bool // its set may be changed
}

// parts puts together what rows say of an operation and what lists do that traits tell: first what they give, since a
// block says nothing of those to whom nothing is given.
func (t *OnPile) parts(operation uint32) []part {
	o := &t.ops[operation]
	room := &t.scratch
	var parts []part
	for _, n := range slices.Sorted(maps.Keys(o.by)) {
		parts = append(parts, part{n, o.by[n].classes, false})
	}
	said := room.Empty()
	if o.all != nil {
		copy(said, o.all)
	}
	type unit struct {
		block  bool
		region region.Region
	}
	sets, order := map[unit]ClassSet{}, []unit(nil)
	for _, held := range t.beside[operation] {
		one := unit{t.list[held.unit].block, t.list[held.unit].region}
		to := sets[one]
		if to == nil {
			to = room.Empty()
			sets[one] = to
			order = append(order, one)
		}
		held.addTo(to)
	}
	slices.SortFunc(order, func(a, b unit) int {
		switch {
		case a.block != b.block && b.block:
			return -1
		case a.block != b.block:
			return 1
		}
		return int(a.region) - int(b.region)
	})
	for _, one := range order {
		set := sets[one]
		into := func(n uint32, classes ClassSet) {
			i := slices.IndexFunc(parts, func(p part) bool { return p.standing == n })
			switch {
			case i < 0:
				parts = append(parts, part{n, classes, true})
				return
			case !parts[i].own:
				own := room.Any()
				copy(own, parts[i].classes)
				parts[i].classes, parts[i].own = own, true
			}
			parts[i].classes.AddAll(classes)
		}
		for i := range len(parts) {
			n := t.standings.with(parts[i].standing, one.region, one.block)
			if n == parts[i].standing || !parts[i].classes.Meets(set) {
				continue
			}
			both := room.Any()
			both.SetTo(parts[i].classes, set)
			if rest := parts[i].classes; parts[i].own {
				rest.DropAll(set)
			} else {
				parts[i].classes, parts[i].own = room.Any(), true
				parts[i].classes.SetBut(rest, set)
			}
			into(n, both)
		}
		if fresh := room.Any(); !one.block && fresh.SetBut(set, said) {
			said.AddAll(fresh)
			into(t.standings.with(unsaid, one.region, false), fresh)
		}
	}
	o.followed.bySets = room.words * len(parts) * (len(order) + 1)
	return parts
}
