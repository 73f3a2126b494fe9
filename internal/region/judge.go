package region

// Holding is what a region makes of a context that may leave things open.
type Holding uint8

// None of the context lies in the region, some of it does and some does not, all of it does.
const (
	None Holding = iota
	Some
	All
)

// Judge tells how much of the context lies in r. Every way through a region's diagram is a way the world can be, so
// it is enough to see which ends can be reached: linear in the nodes of r, and nothing is allocated.
func (s *Space) Judge(r Region, c *Context) Holding {
	for r > Full {
		next, ok := s.follow(&s.nodes[r], c)
		if !ok {
			return s.judgeOpen(r, c)
		}
		r = next
	}
	if r == Full {
		return All
	}
	return None
}

func (s *Space) judgeOpen(r Region, c *Context) Holding {
	if len(s.marks) < len(s.nodes) {
		s.marks = append(s.marks, make([]uint32, len(s.nodes)-len(s.marks))...)
	}
	if s.visit++; s.visit == 0 { // it has come round
		clear(s.marks)
		s.visit = 1
	}
	var ends [2]bool
	s.ends(r, c, &ends)
	switch {
	case ends[Empty] && ends[Full]:
		return Some
	case ends[Full]:
		return All
	}
	return None
}

// ends finds which of Empty and Full can be reached from r.
func (s *Space) ends(r Region, c *Context, ends *[2]bool) {
	if r <= Full {
		ends[r] = true
		return
	}
	if s.marks[r] == s.visit || ends[Empty] && ends[Full] {
		return
	}
	s.marks[r] = s.visit
	n := &s.nodes[r]
	if next, ok := s.follow(n, c); ok {
		s.ends(next, c, ends)
		return
	}
	if s.dims[n.dim].Kind == Time { // a set of instants is neither empty nor full
		ends[Empty], ends[Full] = true, true
		return
	}
	for _, k := range n.kids {
		s.ends(k, c, ends)
	}
}

// AsksBelow says whether r asks about any of the first dimensions, of which there are n.
func (s *Space) AsksBelow(r Region, n int) bool {
	return r > Full && s.nodes[r].dim < n
}

// Times is the instants at which some context of r is.
func (s *Space) Times(r Region) (Region, error) {
	var leaves []Region
	seen := map[Region]bool{}
	var gather func(Region)
	gather = func(r Region) {
		switch {
		case r == Empty || seen[r]:
			return
		case r == Full || s.dims[s.nodes[r].dim].Kind == Time:
			leaves = append(leaves, r)
		default:
			for _, k := range s.nodes[r].kids {
				gather(k)
			}
		}
		seen[r] = true
	}
	gather(r)
	return s.Or(leaves...)
}
