// Package unitrow is the normal form of who gets what where: units of operations with the region in which they
// are given, and for each class of subjects a row of steps over the marks, each with the units that are in
// force there.
package unitrow

import (
	"maps"
	"slices"

	"hiddengate/internal/gate/opset"
	"hiddengate/internal/region"
)

// Unit is operations with the region in which a grant gives them, or a block denies them. Grants that give the same are
// one unit.
type Unit struct {
	ops    uint32 // number of the set of operations
	Region region.Region
	Block  bool
}

// Units numbers what grants and blocks give and deny.
type Units struct {
	List  []Unit
	Words int      // of a set of operations
	Sets  []uint64 // of operations, one after another
}

// Has says whether a unit holds an operation.
func (u *Units) Has(n uint32, operation uint32) bool {
	return u.Sets[int(u.List[n].ops)*u.Words+int(operation/64)]&(1<<(operation%64)) != 0
}

// Set gives the operations of a unit.
func (u *Units) Set(n uint32) opset.Set {
	at := int(u.List[n].ops) * u.Words
	return u.Sets[at : at+u.Words]
}

// Maker numbers units and sets of operations as they come.
type Maker struct {
	Units
	numbered map[string]uint32
	known    map[Unit]uint32
	key      []byte
}

// NewMaker begins to gather units over so many operations.
func NewMaker(operations int) *Maker {
	return &Maker{Units: Units{Words: max(1, (operations+63)/64)}, numbered: map[string]uint32{},
		known: map[Unit]uint32{}}
}

// Further begins to gather units beside those that there are, which stay as they are.
func Further(u Units) *Maker {
	m := &Maker{Units: u, numbered: map[string]uint32{}, known: map[Unit]uint32{}}
	m.List, m.Sets = slices.Clip(m.List), slices.Clip(m.Sets)
	return m
}

// fork gives a maker that knows what this one does, and numbers more on its own.
func (m *Maker) fork() *Maker {
	f := &Maker{Units: m.Units, numbered: maps.Clone(m.numbered), known: maps.Clone(m.known)}
	f.List, f.Sets = slices.Clip(f.List), slices.Clip(f.Sets)
	return f
}

// Give gives the unit that gives operations in a region its number.
func (m *Maker) Give(ops opset.Set, r region.Region) uint32 {
	return m.add(Unit{ops: m.numberOf(ops), Region: r})
}

// Deny gives the unit that denies them there its number.
func (m *Maker) Deny(ops opset.Set, r region.Region) uint32 {
	return m.add(Unit{ops: m.numberOf(ops), Region: r, Block: true})
}

// numberOf gives a set of operations its number.
func (m *Maker) numberOf(ops opset.Set) uint32 {
	m.key = ops.AppendKey(m.key[:0])
	set, ok := m.numbered[string(m.key)]
	if !ok {
		set = uint32(len(m.Sets) / m.Words)
		m.numbered[string(m.key)] = set
		m.Sets = append(m.Sets, ops...)
		for range m.Words - len(ops) { // there is no operation at all
			m.Sets = append(m.Sets, 0)
		}
	}
	return set
}

func (m *Maker) add(u Unit) uint32 {
	n, ok := m.known[u]
	if !ok {
		n = uint32(len(m.List))
		m.known[u] = n
		m.List = append(m.List, u)
	}
	return n
}
