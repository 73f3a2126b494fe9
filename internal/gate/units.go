package gate

import (
	"encoding/binary"
	"hiddengate/internal/gate/opset"
	"maps"
	"slices"

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

func (u *units) set(n uint32) opset.Set {
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
	return &unitMaker{units: units{words: max(1, (operations+63)/64)}, numbered: map[string]uint32{},
		known: map[unit]uint32{}}
}

// fork gives a maker that knows what this one does, and numbers more on its own.
func (m *unitMaker) fork() *unitMaker {
	f := &unitMaker{units: m.units, numbered: maps.Clone(m.numbered), known: maps.Clone(m.known)}
	f.list, f.sets = slices.Clip(f.list), slices.Clip(f.sets)
	return f
}

// add gives a unit its number.
func (m *unitMaker) add(ops opset.Set, r region.Region, block bool) uint32 {
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
