package unitrow

import (
	"math/rand/v2"

	"hiddengate/internal/lookup"
)

// combinations remembers what units that are in force together come to: thousands of classes come by the same ones. A
// combination is told by a key, the exclusive or of 128 random bits for each of its units (Zobrist, A New Hashing
// Method with Application for Game Playing, 1970). The bits are drawn anew in each run, so that nobody can write units
// whose combinations have one key; that two have it by chance happens once in 2^128 pairs.
type combinations struct {
	units [][2]uint64 // the bits of each
	key   [2]uint64   // of those in force
	known [][2]uint64 // keys
	comes []uint32    // to what, of each
	table lookup.Table
}

// mostCombinations bounds what is remembered: some three megabytes. Then it begins anew. Tests remember less.
var mostCombinations = 1 << 16

func newCombinations(units int) *combinations {
	c := &combinations{units: make([][2]uint64, units), table: lookup.New(0, 1<<8)}
	for i := range c.units {
		c.units[i] = [2]uint64{rand.Uint64(), rand.Uint64()}
	}
	return c
}

// toggle counts a unit in or out.
func (c *combinations) toggle(unit uint32) {
	bits := &c.units[unit]
	c.key[0] ^= bits[0]
	c.key[1] ^= bits[1]
}

// find gives what the units in force come to, if that is known.
func (c *combinations) find() (comes uint32, ok bool) {
	for i := c.key[0]; ; {
		var n int
		if n, i = c.table.Probe(c.key[0], i); n < 0 {
			return 0, false
		}
		if c.known[n] == c.key {
			return c.comes[n], true
		}
	}
}

// keep remembers what the units in force come to.
func (c *combinations) keep(comes uint32) {
	switch n := len(c.known); {
	case n == mostCombinations:
		c.known, c.comes = c.known[:0], c.comes[:0]
		clear(c.table.Slots)
	case 2*(n+1) > len(c.table.Slots):
		c.table = lookup.New(0, 2*n+2)
		for i, key := range c.known {
			c.table.Add(key[0], i)
		}
	}
	c.table.Add(c.key[0], len(c.known))
	c.known, c.comes = append(c.known, c.key), append(c.comes, comes)
}
