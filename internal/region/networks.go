package region

import "net/netip"

// Networks is the addresses from which some context of r is.
func (s *Space) Networks(r Region) (Region, error) {
	var leaves []Region
	seen := map[Region]bool{}
	var gather func(Region)
	gather = func(r Region) {
		if r == Empty || seen[r] {
			return
		}
		seen[r] = true
		if r == Full || s.dims[s.nodes[r].dim].Kind == Time {
			leaves = append(leaves, Full) // whatever the address
			return
		}
		n := s.nodes[r]
		if s.dims[n.dim].Kind != Network {
			for _, k := range n.kids {
				gather(k)
			}
			return
		}
		kids := make([]Region, len(n.kids))
		for i, k := range n.kids {
			if k != Empty {
				kids[i] = Full
			}
		}
		leaves = append(leaves, s.make(node{dim: n.dim, kids: kids, bounds: n.bounds}))
	}
	gather(r)
	return s.Or(leaves...)
}

// Prefixes writes a region that Networks gives as the fewest prefixes; nil for Empty.
func (s *Space) Prefixes(r Region) (out []netip.Prefix) {
	switch r {
	case Empty:
		return nil
	case Full:
		return []netip.Prefix{netip.PrefixFrom(lowest, 0), netip.PrefixFrom(firstSix, 0)}
	}
	n := s.nodes[r]
	for i, k := range n.kids {
		if k != Full {
			continue
		}
		after := netip.Addr{}
		if i+1 < len(n.bounds) {
			after = n.bounds[i+1]
		}
		first := n.bounds[i]
		if first.Is4() && (!after.IsValid() || after.Is6()) { // both sorts of address
			out = append(out, prefixesOf(first, firstSix)...)
			if first = firstSix; first == after {
				continue
			}
		}
		out = append(out, prefixesOf(first, after)...)
	}
	return out
}
