// Package opset numbers operations and the kinds of resource on which they are valid, and has sets of
// operations that a word of the machine tells apart by 64.
package opset

import (
	"encoding/binary"
	"maps"
	"slices"

	"hiddengate/internal/estate"
)

// Classes numbers the ways in which operations can be valid on a resource: one for each kind and type that occurs.
type Classes struct {
	estate  *estate.Estate
	numbers map[[2]string]uint32
	rows    [][]uint32 // of the tree's systems and types, one more than the class; 0 where it is not known yet
	Valid   []Set      // of each class
	Types   []string   // of each class
	Kinds   []string
	Ops     *Operations
}

// Operations numbers the operations by name.
type Operations struct {
	List   []*estate.Operation
	Number map[string]uint32
}

// Set is a set of operations, by number.
type Set []uint64

// NewSet makes a set without operations, with room for all.
func (o *Operations) NewSet() Set { return make(Set, (len(o.List)+63)/64) }

// Add puts an operation into the set.
func (s Set) Add(i uint32) { s[i/64] |= 1 << (i % 64) }

// Has says whether an operation is in the set.
func (s Set) Has(i uint32) bool { return s[i/64]&(1<<(i%64)) != 0 }

// Key is the same for sets of the same operations: eight of them to a byte, the first in its lowest bit.
func (s Set) Key() string { return string(s.AppendKey(nil)) }

// AppendKey adds its key to some bytes.
func (s Set) AppendKey(to []byte) []byte {
	for _, word := range s {
		to = binary.LittleEndian.AppendUint64(to, word)
	}
	return to
}

// Meets says whether two sets have any in common.
func (s Set) Meets(o Set) bool {
	for w := range s {
		if s[w]&o[w] != 0 {
			return true
		}
	}
	return false
}

// New numbers the operations of an estate by name. No class has a number yet.
func New(e *estate.Estate) *Classes {
	c := &Classes{estate: e, numbers: map[[2]string]uint32{}, rows: make([][]uint32, len(e.Tree.Systems)),
		Ops: &Operations{Number: map[string]uint32{}}}
	for i, o := range estate.Sorted(e.Operations) {
		c.Ops.List = append(c.Ops.List, o)
		c.Ops.Number[o.Name] = uint32(i)
	}
	return c
}

// For gives the same classes for an estate with the same kinds, and systems of the same ids and kinds, which may have
// more.
func (c *Classes) For(e *estate.Estate) *Classes {
	f := *c
	f.estate, f.numbers, f.rows = e, maps.Clone(c.numbers), make([][]uint32, len(e.Tree.Systems))
	f.Valid, f.Types, f.Kinds = slices.Clip(c.Valid), slices.Clip(c.Types), slices.Clip(c.Kinds)
	return &f
}

// Number gives the class of a type of resource in systems of a kind.
func (c *Classes) Number(kind, typ string) uint32 {
	key := [2]string{kind, typ}
	n, ok := c.numbers[key]
	if !ok {
		n = uint32(len(c.Valid))
		c.numbers[key] = n
		set := c.Ops.NewSet()
		for _, o := range c.estate.Offer(kind).On(typ) {
			set.Add(c.Ops.Number[o.Name])
		}
		c.Valid, c.Types, c.Kinds = append(c.Valid, set), append(c.Types, typ), append(c.Kinds, kind)
	}
	return n
}

// Of gives the class of a type of resource in a system, both by their number in the tree.
func (c *Classes) Of(system uint32, typ uint16) uint32 {
	known := c.rows[system]
	if int(typ) < len(known) && known[typ] > 0 {
		return known[typ] - 1
	}
	for int(typ) >= len(known) {
		known = append(known, 0)
	}
	c.rows[system] = known
	n := c.Number(c.estate.Tree.Systems[system].Kind.ID, c.estate.Tree.Types[typ])
	known[typ] = n + 1
	return n
}
