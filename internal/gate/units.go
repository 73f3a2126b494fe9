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
	block  bool
}

// units numbers what grants and blocks give and deny.
type units struct {
	list  []unit
	words int      // of a set of operations
	sets  []uint64 // of operations, one after another
}

func (u *units) has(n uint32, operation uint32) bool {
	return u.sets[int(u.list[n].ops)*u.words+int(operation/64)]&(1<<(operation%64)) != 0
}

func (u *units) set(n uint32) opset {
	at := int(u.list[n].ops) * u.words
	return u.sets[at : at+u.words]
}

// unitMaker numbers units and sets of operations as they come.
type unitMaker struct {
	units
	numbered map[string]uint32
	known    map[unit]uint32
	key      []byte
}

func newUnitMaker(operations int) *unitMaker {
	return &unitMaker{units: units{words: max(1, (operations+63)/64)}, numbered: map[string]uint32{}, known: map[unit]uint32{}}
}

// fork gives a maker that knows what this one does, and numbers more on its own.
func (m *unitMaker) fork() *unitMaker {
	f := &unitMaker{units: m.units, numbered: maps.Clone(m.numbered), known: maps.Clone(m.known)}
	f.list, f.sets = slices.Clip(f.list), slices.Clip(f.sets)
	return f
}

// add gives a unit its number.
func (m *unitMaker) add(ops opset, r region.Region, block bool) uint32 {
	m.key = m.key[:0]
	for _, w := range ops {
		m.key = binary.LittleEndian.AppendUint64(m.key, w)
	}
	set, ok := m.numbered[string(m.key)]
	if !ok {
		set = uint32(len(m.sets) / m.words)
		m.numbered[string(m.key)] = set
		m.sets = append(m.sets, ops...)
		for range m.words - len(ops) { // there is no operation at all
			m.sets = append(m.sets, 0)
		}
	}
	u := unit{set, r, block}
	n, ok := m.known[u]
	if !ok {
		n = uint32(len(m.list))
		m.known[u] = n
		m.list = append(m.list, u)
	}
	return n
}

// join adds to out one unit for each region in which the units, blocks or grants alike, hold: first the one that always holds. What a grant gives
// that another gives always, or that is always denied, is left out, so that what many grants give alike is a short list.
func (m *unitMaker) join(of, out []uint32, j *joiner) []uint32 {
	if len(of) < 2 {
		return append(out, of...)
	}
	j.regions, j.sets = j.regions[:0], j.sets[:0]
	for _, block := range []bool{true, false} {
		first := len(j.regions)
		j.entry(region.Full, m.words)
		for _, u := range of {
			if m.list[u].block == block {
				set := j.entryAfter(first, m.list[u].region, m.words)
				for w, bits := range m.set(u) {
					set[w] |= bits
				}
			}
		}
		for k := first; k < len(j.regions); k++ {
			set, some := j.set(k, m.words), uint64(0)
			for w := range set {
				if !block {
					set[w] &^= j.sets[w] // what is always denied
				}
				if k > first {
					set[w] &^= j.set(first, m.words)[w]
				}
				some |= set[w]
			}
			if some != 0 {
				out = append(out, m.add(set, j.regions[k], block))
			}
		}
	}
	return out
}

// joiner is what join works in. The first region is that of what is always denied.
type joiner struct {
	regions []region.Region
	sets    []uint64
}

func (j *joiner) set(k, words int) opset { return j.sets[k*words : (k+1)*words] }

func (j *joiner) entry(r region.Region, words int) opset {
	j.regions = append(j.regions, r)
	for range words {
		j.sets = append(j.sets, 0)
	}
	return j.set(len(j.regions)-1, words)
}

func (j *joiner) entryAfter(first int, r region.Region, words int) opset {
	for k := first; k < len(j.regions); k++ {
		if j.regions[k] == r {
			return j.set(k, words)
		}
	}
	return j.entry(r, words)
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
