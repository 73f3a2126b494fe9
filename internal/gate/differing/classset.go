package differing

import (
	"iter"
	"math/bits"
)

// ClassSet is classes of subjects by number, 64 to a word. Sets of one gate have as many words.
type ClassSet []uint64

// Has says whether a class is among them.
func (s ClassSet) Has(class uint32) bool { return s[class/64]&(1<<(class%64)) != 0 }

// Add adds a class.
func (s ClassSet) Add(class uint32) { s[class/64] |= 1 << (class % 64) }

// Drop takes a class out.
func (s ClassSet) Drop(class uint32) { s[class/64] &^= 1 << (class % 64) }

// AddAll adds the classes of another set.
func (s ClassSet) AddAll(other ClassSet) {
	other = other[:len(s)]
	for i := range s {
		s[i] |= other[i]
	}
}

// DropAll takes the classes of another set out.
func (s ClassSet) DropAll(other ClassSet) {
	other = other[:len(s)]
	for i := range s {
		s[i] &^= other[i]
	}
}

// SetTo makes it those that are in one set and in another, and says whether there are any.
func (s ClassSet) SetTo(one, and ClassSet) bool {
	one, and = one[:len(s)], and[:len(s)]
	any := uint64(0)
	for i := range s {
		s[i] = one[i] & and[i]
		any |= s[i]
	}
	return any != 0
}

// SetBut makes it those that are in one set and not in another, and says whether there are any.
func (s ClassSet) SetBut(one, not ClassSet) bool {
	one, not = one[:len(s)], not[:len(s)]
	any := uint64(0)
	for i := range s {
		s[i] = one[i] &^ not[i]
		any |= s[i]
	}
	return any != 0
}

// Len counts them.
func (s ClassSet) Len() (n int) {
	for _, w := range s {
		n += bits.OnesCount64(w)
	}
	return n
}

// Meets says whether some class is in both sets.
func (s ClassSet) Meets(other ClassSet) bool {
	other = other[:len(s)]
	for i := range s {
		if s[i]&other[i] != 0 {
			return true
		}
	}
	return false
}

// All gives them in order.
func (s ClassSet) All() iter.Seq[uint32] {
	return func(yield func(uint32) bool) {
		for i, w := range s {
			for ; w != 0; w &= w - 1 {
				if !yield(uint32(64*i + bits.TrailingZeros64(w))) {
					return
				}
			}
		}
	}
}

// ClassRoom is room for sets of classes that are used again once it is freed.
type ClassRoom struct {
	words int
	sets  []ClassSet
	used  int
}

// NewRoom gives room for sets of the classes.
func (c *Cells) NewRoom() *ClassRoom { return &ClassRoom{words: len(c.NewClassSet())} }

// Free takes back all sets that it gave.
func (r *ClassRoom) Free() { r.used = 0 }

// Empty gives an empty set.
func (r *ClassRoom) Empty() ClassSet {
	s := r.Any()
	clear(s)
	return s
}

// Any gives a set with anything in it.
func (r *ClassRoom) Any() ClassSet {
	if r.used == len(r.sets) {
		r.sets = append(r.sets, make(ClassSet, r.words))
	}
	r.used++
	return r.sets[r.used-1]
}
