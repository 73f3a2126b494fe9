package differing

import (
	"iter"
	"math/bits"
)

// pileSet is piles by number.
type pileSet []uint64

// clear empties it, with room for the numbers below one.
func (s *pileSet) clear(numbers int) {
	if words := (numbers + 63) / 64; len(*s) != words {
		*s = make(pileSet, words)
	} else {
		clear(*s)
	}
}

func (s pileSet) add(n uint32) { s[n/64] |= 1 << (n % 64) }

// between gives those from one on and below another, in order.
func (s pileSet) between(from, to uint32) iter.Seq[uint32] {
	return func(yield func(uint32) bool) {
		for at := from; at < to; {
			word := s[at/64] >> (at % 64)
			if word == 0 {
				at = at - at%64 + 64
				continue
			}
			if at += uint32(bits.TrailingZeros64(word)); at >= to || !yield(at) {
				return
			}
			at++
		}
	}
}
