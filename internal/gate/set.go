package gate

import "math/bits"

// set is a set of small numbers.
type set []uint64

func newSet(size int) set { return make(set, (size+63)/64) }

func (s set) add(i int) { s[i/64] |= 1 << (i % 64) }

func (s set) has(i int) bool { return i/64 < len(s) && s[i/64]&(1<<(i%64)) != 0 }

func (s set) unite(t set) {
	for i := range t {
		s[i] |= t[i]
	}
}

func (s set) remove(t set) {
	for i := range t {
		s[i] &^= t[i]
	}
}

func (s set) each(do func(int)) {
	for i, w := range s {
		for ; w != 0; w &= w - 1 {
			do(i*64 + bits.TrailingZeros64(w))
		}
	}
}
