package gate

import (
	"encoding/binary"
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// unit is operations with the region in which a grant gives them, or a block denies them. Grants that give the same are
// one unit.
type unit struct {
	ops    uint32 // number of the set of operations
	region region.Region
}

// units numbers what grants and blocks give and deny. The blocks' come first, then what is given without
// conditions: whoever goes through some in order can often stop early.
type units struct {
	list   []unit
	blocks uint32   // how many of the list are of blocks
	words  int      // of a set of operations
	sets   []uint64 // of operations, one after another
}

func (u *units) has(n uint32, operation uint32) bool {
	return u.sets[int(u.list[n].ops)*u.words+int(operation/64)]&(1<<(operation%64)) != 0
}

func (u *units) set(n uint32) opset {
	at := int(u.list[n].ops) * u.words
	return u.sets[at : at+u.words]
}

// unitMaker gathers units before they are numbered.
type unitMaker struct {
	units
	sets    map[string]uint32
	numbers map[rawUnit]uint32
	raw     []rawUnit
}

type rawUnit struct {
	unit
	block bool
}

func newUnitMaker(operations int) *unitMaker {
	return &unitMaker{units: units{words: max(1, (operations+63)/64)}, sets: map[string]uint32{}, numbers: map[rawUnit]uint32{}}
}

// add gives a unit a number that number will turn into its own.
func (m *unitMaker) add(ops opset, r region.Region, block bool) uint32 {
	key := make([]byte, 0, 8*m.words)
	for _, w := range ops {
		key = binary.LittleEndian.AppendUint64(key, w)
	}
	set, ok := m.sets[string(key)]
	if !ok {
		set = uint32(len(m.sets))
		m.sets[string(key)] = set
		m.units.sets = append(m.units.sets, ops...)
		if len(ops) == 0 {
			m.units.sets = append(m.units.sets, 0)
		}
	}
	u := rawUnit{unit{set, r}, block}
	n, ok := m.numbers[u]
	if !ok {
		n = uint32(len(m.raw))
		m.numbers[u] = n
		m.raw = append(m.raw, u)
	}
	return n
}

// number puts the units in order and tells what the number that add gave has become.
func (m *unitMaker) number() []uint32 {
	order := make([]uint32, len(m.raw))
	for i := range order {
		order[i] = uint32(i)
	}
	rank := func(u rawUnit) int {
		switch {
		case u.block:
			return 0
		case u.region == region.Full:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(order, func(a, b uint32) int { return rank(m.raw[a]) - rank(m.raw[b]) })
	became := make([]uint32, len(order))
	for n, was := range order {
		became[was] = uint32(n)
		m.list = append(m.list, m.raw[was].unit)
		if m.raw[was].block {
			m.blocks++
		}
	}
	return became
}

// windows groups a role's operations by the time in which the role has them.
func (g *Gate) windows(roles []estate.Ref) (map[region.Region]opset, error) {
	out := map[region.Region]opset{}
	held := map[string]region.Region{}
	if len(roles) == 1 {
		held = g.roles[roles[0].ID].operations
	} else {
		for _, ref := range roles {
			for name, when := range g.roles[ref.ID].operations {
				r, err := g.space.Or(held[name], when)
				if err != nil {
					return nil, err
				}
				held[name] = r
			}
		}
	}
	for name, when := range held {
		if out[when] == nil {
			out[when] = g.classes.ops.set()
		}
		out[when].add(g.classes.ops.number[name])
	}
	return out, nil
}

// grantUnits makes the units of a grant's roles within a region.
func (g *Gate) grantUnits(m *unitMaker, roles []estate.Ref, within region.Region) ([]uint32, error) {
	windows, err := g.windows(roles)
	if err != nil {
		return nil, err
	}
	var out []uint32
	for _, when := range slices.Sorted(maps.Keys(windows)) {
		r, err := g.space.And(within, when)
		if err != nil {
			return nil, err
		}
		if r != region.Empty {
			out = append(out, m.add(windows[when], r, false))
		}
	}
	return out, nil
}
