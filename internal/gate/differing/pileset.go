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

// pileUnits is units on piles, in one round. Another round begins with none.
type pileUnits struct {
	round uint32
	since []uint32 // of each pile, the round in which it last had any
	units [][]uint32
}

func (u *pileUnits) add(pile, unit uint32, piles int) {
	if u.since == nil {
		u.since, u.units = make([]uint32, piles), make([][]uint32, piles)
	}
	if u.since[pile] != u.round {
		u.since[pile], u.units[pile] = u.round, u.units[pile][:0]
	}
	u.units[pile] = append(u.units[pile], unit)
}

func (u *pileUnits) on(pile uint32) []uint32 {
	if u.since == nil || u.since[pile] != u.round {
		return nil
	}
	return u.units[pile]
}
