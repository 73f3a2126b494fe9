// Package lookup finds texts by hash in flat arrays that can stand in memory as they stand in a file.
package lookup

import (
	"encoding/binary"
	"math/bits"
	"unsafe"
)

// Table finds a number by a hash: open addressing with linear probing, at most half full. Whoever asks sees
// whether the number is what was meant. A slot is the upper half of the hash and one more
// than the number, 0 where it is empty.
type Table struct {
	Seed  uint64
	Slots []uint64
}

// New makes a table for so many numbers.
func New(seed uint64, numbers int) Table {
	size := 8
	for size < 2*numbers {
		size *= 2
	}
	return Table{seed, Large[uint64](size, size)}
}

// Add enters a number under a hash that Hash gave with the table's seed.
func (t *Table) Add(hash uint64, number int) {
	mask := uint64(len(t.Slots) - 1)
	i := hash & mask
	for t.Slots[i] != 0 {
		i = (i + 1) & mask
	}
	t.Slots[i] = hash&^0xffffffff | uint64(number+1)
}

// Probe gives the next number at or after slot i whose hash may be the one asked for, and the slot behind it; -1 if
// there is none. The first slot of a hash is the hash itself.
func (t *Table) Probe(hash, i uint64) (number int, next uint64) {
	mask := uint64(len(t.Slots) - 1)
	for {
		s := t.Slots[i&mask]
		if s == 0 {
			return -1, 0
		}
		i++
		if s>>32 == hash>>32 {
			return int(uint32(s)) - 1, i
		}
	}
}

const (
	k0 = 0xa0761d6478bd642f
	k1 = 0xe7037ed1a0b428db
	k2 = 0x8ebc6af09c88c6e3
)

func mix(a, b uint64) uint64 {
	hi, lo := bits.Mul64(a, b)
	return hi ^ lo
}

// HashWords mixes words as Hash does texts.
func HashWords(seed uint64, words []uint64) uint64 {
	h := seed ^ k0
	for _, w := range words {
		h = mix(h^k2, w^k1)
	}
	return mix(h^k1, uint64(len(words))^k0)
}

// Hash mixes a text by multiplying 16 bytes at a time into 128 bits and folding them. It is fast and even, not
// cryptographic: the seed is drawn anew for every table, and an unlucky one costs time alone.
func Hash(seed uint64, text string) uint64 {
	n := len(text)
	b := unsafe.Slice(unsafe.StringData(text), n)
	h := seed ^ k0
	var x, y uint64
	switch {
	case n >= 16:
		rest := b
		for len(rest) > 16 {
			h = mix(binary.LittleEndian.Uint64(rest)^k1, binary.LittleEndian.Uint64(rest[8:])^h)
			rest = rest[16:]
		}
		x, y = binary.LittleEndian.Uint64(b[n-16:]), binary.LittleEndian.Uint64(b[n-8:])
	case n >= 4:
		x = uint64(binary.LittleEndian.Uint32(b))<<32 | uint64(binary.LittleEndian.Uint32(b[n-4:]))
		if n > 8 {
			y = uint64(binary.LittleEndian.Uint32(b[4:]))<<32 | uint64(binary.LittleEndian.Uint32(b[n-8:]))
		}
	case n > 0:
		x = uint64(b[0])<<16 | uint64(b[n/2])<<8 | uint64(b[n-1])
	}
	return mix(k1^uint64(n), mix(x^k2, y^h))
}
