package region

import "slices"

type operation uint8

const (
	both      operation = iota // intersection
	either                     // union
	without                    // difference
	exclusive                  // symmetric difference, of minutes alone
)

func (op operation) holds(a, b bool) bool {
	switch op {
	case both:
		return a && b
	case either:
		return a || b
	case without:
		return a && !b
	}
	return a != b
}

// And is the contexts in all of the regions.
func (s *Space) And(regions ...Region) (Region, error) { return s.fold(both, Full, regions) }

// Or is the contexts in any of the regions.
func (s *Space) Or(regions ...Region) (Region, error) { return s.fold(either, Empty, regions) }

// Minus is the contexts in a and not in b.
func (s *Space) Minus(a, b Region) (Region, error) { return s.fold(without, a, []Region{b}) }

// Left is the contexts in any of the given regions and in none of those taken away, within another.
func (s *Space) Left(given, taken []Region, within Region) (Region, error) {
	out, err := s.Or(given...)
	if err != nil || out == Empty {
		return Empty, err
	}
	less, err := s.Or(taken...)
	if err == nil {
		out, err = s.Minus(out, less)
	}
	if err != nil {
		return Empty, err
	}
	return s.And(out, within)
}

// Not is the contexts not in a.
func (s *Space) Not(a Region) (Region, error) { return s.Minus(Full, a) }

// Contains says whether every context of b is one of a.
func (s *Space) Contains(a, b Region) (bool, error) {
	rest, err := s.Minus(b, a)
	return err == nil && rest == Empty, err
}

func (s *Space) fold(op operation, start Region, regions []Region) (Region, error) {
	s.steps = 0
	out := start
	for _, r := range regions {
		out = s.apply(op, out, r)
	}
	if s.steps > s.budget {
		clear(s.memo) // it holds results that were cut off
		return Empty, ErrBudget
	}
	if len(s.memo) > 1<<20 {
		clear(s.memo)
	}
	return out, nil
}

// apply combines two regions node by node. Past the budget it gives up: its result means nothing then.
func (s *Space) apply(op operation, a, b Region) Region {
	switch op {
	case both:
		switch {
		case a == Empty || b == Empty:
			return Empty
		case a == Full || a == b:
			return b
		case b == Full:
			return a
		}
	case either:
		switch {
		case a == Full || b == Full:
			return Full
		case a == Empty || a == b:
			return b
		case b == Empty:
			return a
		}
	case without:
		switch {
		case a == Empty || b == Full || a == b:
			return Empty
		case b == Empty:
			return a
		}
	}
	if op != without && a > b {
		a, b = b, a
	}
	key := operands{op, a, b}
	if r, ok := s.memo[key]; ok {
		return r
	}
	if s.steps++; s.steps > s.budget {
		return Empty
	}
	r := s.expand(op, a, b)
	s.memo[key] = r
	return r
}

func (s *Space) expand(op operation, a, b Region) Region {
	dim := min(s.nodes[a].dim, s.nodes[b].dim)
	// The slices of the nodes never change, but s.nodes may move while kids are made: copy the heads.
	x, y := s.at(a, dim), s.at(b, dim)
	n := node{dim: dim}
	switch s.dims[dim].Kind {
	case Time:
		x, y := s.timesOf(a), s.timesOf(b)
		s.steps += len(x) + len(y)
		return s.makeTimes(x.combine(op, y))
	case Text:
		n.labels = slices.Concat(x.labels, y.labels)
		slices.Sort(n.labels)
		n.labels = slices.Compact(n.labels)
		for _, l := range n.labels {
			n.kids = append(n.kids, s.apply(op, x.text(l), y.text(l)))
		}
		n.kids = append(n.kids, s.apply(op, x.otherText(), y.otherText()), s.apply(op, x.absent(), y.absent()))
	case Network:
		n.bounds = slices.Concat(x.bounds, y.bounds)
		slices.SortFunc(n.bounds, compareAddr)
		n.bounds = slices.Compact(n.bounds)
		for _, bound := range n.bounds {
			n.kids = append(n.kids, s.apply(op, x.kids[interval(x.bounds, bound)], y.kids[interval(y.bounds, bound)]))
		}
	default:
		for i := range x.kids {
			n.kids = append(n.kids, s.apply(op, x.kids[i], y.kids[i]))
		}
	}
	s.steps += len(n.kids)
	if s.steps > s.budget {
		return Empty
	}
	return s.make(n)
}

// at gives a's node as one that tests dim: itself, or one that leads to a whatever the value.
func (s *Space) at(a Region, dim int) node {
	if s.nodes[a].dim == dim {
		return s.nodes[a]
	}
	n := node{dim: dim}
	switch d := s.dims[dim]; d.Kind {
	case Flag:
		n.kids = []Region{a, a}
	case Choice:
		n.kids = slices.Repeat([]Region{a}, len(d.Values))
	case Text:
		n.kids = []Region{a, a}
	case Network:
		n.kids, n.bounds = []Region{a}, lowestBound
	}
	return n
}

func (s *Space) timesOf(a Region) times {
	switch a {
	case Empty:
		return nil
	case Full:
		return allTimes
	}
	return s.nodes[a].times
}

func (n node) text(value string) Region {
	if i, ok := slices.BinarySearch(n.labels, value); ok {
		return n.kids[i]
	}
	return n.otherText()
}

func (n node) otherText() Region { return n.kids[len(n.labels)] }

func (n node) absent() Region { return n.kids[len(n.labels)+1] }
