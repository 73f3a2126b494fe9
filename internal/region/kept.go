package region

import (
	"errors"
	"net/netip"

	"hiddengate/internal/clock"
)

// Kept is a node as it can be kept.
type Kept struct {
	Dim    int
	Kids   []Region
	Labels []string
	Bounds []netip.Addr
	Times  []KeptSpan
}

// KeptSpan is the instants from one until another whose local minute of the week is in the runs [first, after).
type KeptSpan struct {
	From, To clock.Instant
	Minutes  []uint16
}

// Keep gives the nodes of the space, in the order in which they came.
func (s *Space) Keep() []Kept {
	out := make([]Kept, 0, len(s.nodes))
	for _, n := range s.nodes[2:] {
		k := Kept{Dim: n.dim, Kids: n.kids, Labels: n.labels, Bounds: n.bounds}
		for _, t := range n.times {
			span := KeptSpan{From: t.from, To: t.to}
			for _, r := range t.minutes {
				span.Minutes = append(span.Minutes, r.first, r.after)
			}
			k.Times = append(k.Times, span)
		}
		out = append(out, k)
	}
	return out
}

// Take gives the space the nodes that were kept of one with the same dimensions; it must be new.
func (s *Space) Take(kept []Kept) error {
	for i, k := range kept {
		n := node{dim: k.Dim, kids: k.Kids, labels: k.Labels, bounds: k.Bounds}
		for _, t := range k.Times {
			span := span{from: t.From, to: t.To}
			for j := 0; j+1 < len(t.Minutes); j += 2 {
				span.minutes = append(span.minutes, run{t.Minutes[j], t.Minutes[j+1]})
			}
			n.times = append(n.times, span)
		}
		if n.dim < 0 || n.dim >= len(s.dims) || s.intern(n) != Region(i+2) {
			return errors.New("the nodes are not those of such a space")
		}
		for _, kid := range n.kids {
			if kid < 0 || int(kid) >= i+2 {
				return errors.New("a node leads to none before it")
			}
		}
	}
	return nil
}
