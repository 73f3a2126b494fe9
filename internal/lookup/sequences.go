package lookup

import "slices"

// Sequences gives each sequence of numbers one number. The empty one is 0.
type Sequences struct {
	Items []uint32 // one after another
	Ends  []uint32 // of each
	hash  []uint64
	table Table
}

// NewSequences makes a list of nothing but the empty sequence.
func NewSequences() *Sequences {
	s := &Sequences{table: New(0, 1<<10)}
	s.Number(nil)
	return s
}

// Len counts the sequences.
func (s *Sequences) Len() int { return len(s.Ends) }

// Get gives a sequence, which must not be changed.
func (s *Sequences) Get(i uint32) []uint32 { return Part(s.Ends, s.Items, i) }

// Part gives the sequence of a number out of what Sequences holds.
func Part(ends, items []uint32, i uint32) []uint32 {
	start := uint32(0)
	if i > 0 {
		start = ends[i-1]
	}
	return items[start:ends[i]]
}

// Number gives a sequence's number. The sequence is copied.
func (s *Sequences) Number(seq []uint32) uint32 {
	h := uint64(len(seq)) ^ k2
	for _, v := range seq {
		h = mix(h^k0, uint64(v)^k1)
	}
	for i := h; ; {
		var n int
		if n, i = s.table.Probe(h, i); n < 0 {
			break
		} else if slices.Equal(s.Get(uint32(n)), seq) {
			return uint32(n)
		}
	}
	n := len(s.Ends)
	if 2*(n+1) > len(s.table.Slots) {
		s.table = New(0, 2*n+2)
		for i, h := range s.hash {
			s.table.Add(h, i)
		}
	}
	s.Items = append(s.Items, seq...)
	s.Ends = append(s.Ends, uint32(len(s.Items)))
	s.hash = append(s.hash, h)
	s.table.Add(h, n)
	return uint32(n)
}
