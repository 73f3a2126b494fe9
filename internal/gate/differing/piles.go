package differing

import (
	"cmp"
	"encoding/binary"
	"hash/maphash"
	"iter"
	"slices"
)

// Piles is some of a pair's piles, in order. Those of which one walk tells are the same by their address where they are
// the same piles, as is what Once gives while it lasts.
type Piles struct {
	pair  *Pair
	spans []span  // in order, with others between them
	parts []*Pile // of which some resources alone are meant, in order
}

// span is piles from one number on and below another.
type span struct{ from, to uint32 }

// Alone gives the pile as one of no others.
func (p *Pile) Alone() *Piles {
	out := &Piles{pair: p.pair}
	out.add(p)
	return out
}

// whole says that all resources are meant of which nothing tells apart.
func (p *Pile) whole() bool { return p.Len() == p.pair.piles[p.number].Len() }

func (s *Piles) add(p *Pile) {
	if p.whole() {
		s.addSpan(p.number, p.number+1)
	} else {
		s.parts = append(s.parts, p)
	}
}

func (s *Piles) addSpan(from, to uint32) {
	if n := len(s.spans); n > 0 && s.spans[n-1].to == from {
		s.spans[n-1].to = to
	} else if from < to {
		s.spans = append(s.spans, span{from, to})
	}
}

// addAll adds those of another set, in any order.
func (s *Piles) addAll(other *Piles) {
	for _, one := range other.spans {
		s.addSpan(one.from, one.to)
	}
	s.parts = append(s.parts, other.parts...)
}

// order brings them in order, each once.
func (s *Piles) order() {
	s.spans = inOrder(s.spans)
	slices.SortFunc(s.parts, func(a, b *Pile) int {
		return cmp.Or(cmp.Compare(a.number, b.number), slices.Compare(a.rows, b.rows),
			slices.CompareFunc(a.places, b.places, func(a, b place) int { return slices.Compare(a.rows[:], b.rows[:]) }))
	})
	s.parts = slices.CompactFunc(s.parts, func(a, b *Pile) bool { return a.Key() == b.Key() })
}

// With gives them with those of another set of the pair.
func (s *Piles) With(other *Piles) *Piles {
	out := &Piles{pair: s.pair, spans: slices.Clone(s.spans), parts: slices.Clone(s.parts)}
	out.addAll(other)
	out.order()
	return out
}

// Where gives those of which something is so.
func (s *Piles) Where(is func(*Pile) bool) *Piles {
	out := &Piles{pair: s.pair}
	for p := range s.All() {
		if is(p) {
			out.add(p)
		}
	}
	return out
}

// All gives them in order.
func (s *Piles) All() iter.Seq[*Pile] {
	return func(yield func(*Pile) bool) {
		parts := s.parts
		for _, one := range s.spans {
			for n := one.from; n < one.to; n++ {
				for ; len(parts) > 0 && parts[0].number < n; parts = parts[1:] {
					if !yield(parts[0]) {
						return
					}
				}
				if !yield(s.pair.piles[n]) {
					return
				}
			}
		}
		for _, p := range parts {
			if !yield(p) {
				return
			}
		}
	}
}

// First gives the first one.
func (s *Piles) First() *Pile {
	for p := range s.All() {
		return p
	}
	return nil
}

// Len counts them.
func (s *Piles) Len() int {
	n := len(s.parts)
	for _, one := range s.spans {
		n += int(one.to - one.from)
	}
	return n
}

// Having tells of sets of piles whether something is so of any in them.
type Having struct {
	is    func(*Pile) bool
	below []uint32 // of each number, of how many piles below it it is so
}

// Having gives it for sets of the pair's piles.
func (p *Pair) Having(is func(*Pile) bool) *Having {
	h := &Having{is: is, below: make([]uint32, len(p.piles)+1)}
	for n, pile := range p.piles {
		h.below[n+1] = h.below[n]
		if is(pile) {
			h.below[n+1]++
		}
	}
	return h
}

// Any says whether it is so of any of some piles.
func (h *Having) Any(s *Piles) bool {
	return slices.ContainsFunc(s.spans, func(one span) bool { return h.below[one.from] < h.below[one.to] }) ||
		slices.ContainsFunc(s.parts, h.is)
}

// inOrder brings spans into order that are a few rows in order, one behind the other, by merging two and two of them.
// Those that meet become one.
func inOrder(spans []span) []span {
	for rows := rowsOf(spans); len(rows) > 1; rows = rowsOf(spans) {
		merged := make([]span, 0, len(spans))
		for i := 0; i < len(rows); i += 2 {
			a, b := rows[i], []span(nil)
			if i+1 < len(rows) {
				b = rows[i+1]
			}
			for len(a)+len(b) > 0 {
				next := &a
				if len(a) == 0 || len(b) > 0 && b[0].from < a[0].from {
					next = &b
				}
				merged, *next = append(merged, (*next)[0]), (*next)[1:]
			}
		}
		spans = merged
	}
	apart := spans[:0]
	for _, one := range spans {
		if n := len(apart); n > 0 && one.from <= apart[n-1].to {
			apart[n-1].to = max(apart[n-1].to, one.to)
		} else {
			apart = append(apart, one)
		}
	}
	return apart
}

// rowsOf takes spans apart into rows that are in order.
func rowsOf(spans []span) (rows [][]span) {
	start := 0
	for i := 1; i <= len(spans); i++ {
		if i == len(spans) || spans[i].from < spans[i-1].from {
			rows = append(rows, spans[start:i])
			start = i
		}
	}
	return rows
}

// Once gives the set that is kept for the same piles.
func (p *Pair) Once(s *Piles) *Piles { return p.sets.once(s) }

// gathering is sets of piles of one pair, each kept once.
type gathering struct {
	seed  maphash.Seed
	known map[uint64][]*Piles
	key   []byte
}

func newGathering() *gathering {
	return &gathering{seed: maphash.MakeSeed(), known: map[uint64][]*Piles{}}
}

// once gives the same set for the same piles. What it is given may be used again.
func (g *gathering) once(s *Piles) *Piles {
	s.order()
	g.key = g.key[:0]
	for _, one := range s.spans {
		g.key = binary.LittleEndian.AppendUint64(g.key, uint64(one.from)<<32|uint64(one.to))
	}
	for _, p := range s.parts {
		g.key = append(g.key, p.Key()...)
	}
	hash := maphash.Bytes(g.seed, g.key)
	for _, known := range g.known[hash] {
		if slices.Equal(known.spans, s.spans) &&
			slices.EqualFunc(known.parts, s.parts, func(a, b *Pile) bool { return a.Key() == b.Key() }) {
			return known
		}
	}
	out := &Piles{pair: s.pair, spans: slices.Clone(s.spans), parts: slices.Clone(s.parts)}
	g.known[hash] = append(g.known[hash], out)
	return out
}
