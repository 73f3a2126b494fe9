package region

import (
	"net/netip"
	"slices"
)

// Addresses stand on one line: every IPv4 address, then every IPv6 address. The mapped block ::ffff:0:0/96 is a
// hole in it, since mapped addresses are IPv4; what lies in the hole belongs to the interval before it.
var (
	lowest    = netip.AddrFrom4([4]byte{})
	firstSix  = netip.IPv6Unspecified()
	holeFirst = netip.MustParseAddr("::ffff:0:0")
	holeAfter = netip.MustParseAddr("::1:0:0:0")
)

// addressIntervals cuts the line where a prefix begins or ends; inside[i] tells whether the interval that begins
// at bounds[i] lies in a prefix.
func addressIntervals(prefixes []netip.Prefix) (bounds []netip.Addr, inside []bool) {
	type edge struct{ first, after netip.Addr } // an invalid after is the line's end
	var edges []edge
	bounds = []netip.Addr{lowest, firstSix}
	for _, p := range prefixes {
		e := edge{prefixStart(p), prefixAfter(p)}
		edges = append(edges, e)
		bounds = append(bounds, e.first)
		if e.after.IsValid() {
			bounds = append(bounds, e.after)
		}
	}
	slices.SortFunc(bounds, netip.Addr.Compare)
	bounds = slices.Compact(bounds)
	inside = make([]bool, len(bounds))
	for _, e := range edges {
		i, _ := slices.BinarySearchFunc(bounds, e.first, netip.Addr.Compare)
		for ; i < len(bounds) && (!e.after.IsValid() || bounds[i].Less(e.after)); i++ {
			inside[i] = true
		}
	}
	return bounds, inside
}

func prefixStart(p netip.Prefix) netip.Addr {
	a := p.Masked().Addr()
	if a.Is4In6() && p.Bits() >= 96 {
		return a.Unmap()
	}
	return outOfHole(a)
}

// prefixAfter is the first address behind the prefix, invalid at the line's end.
func prefixAfter(p netip.Prefix) netip.Addr {
	a, bits := p.Masked().Addr(), p.Bits()
	if a.Is4In6() && bits >= 96 {
		a, bits = a.Unmap(), bits-96
	}
	b := a.AsSlice()
	for i := bits; i < a.BitLen(); i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	last, _ := netip.AddrFromSlice(b)
	next := last.Next()
	if !next.IsValid() && a.Is4() {
		return firstSix
	}
	return outOfHole(next)
}

func outOfHole(a netip.Addr) netip.Addr {
	if a.Is6() && a.Compare(holeFirst) >= 0 && a.Less(holeAfter) {
		return holeAfter
	}
	return a
}

// interval finds the interval in which a lies.
func interval(bounds []netip.Addr, a netip.Addr) int {
	i, found := slices.BinarySearchFunc(bounds, a, netip.Addr.Compare)
	if !found {
		i--
	}
	return i
}

// prefixesOf covers the interval [first, after) with the fewest prefixes; an invalid after is the line's end.
func prefixesOf(first, after netip.Addr) []netip.Prefix {
	var out []netip.Prefix
	for a := first; a.IsValid() && (!after.IsValid() || a.Less(after)); {
		bits := a.BitLen()
		for bits > 0 {
			p := netip.PrefixFrom(a, bits-1)
			next := prefixAfter(p)
			if p.Masked().Addr() != a || (after.IsValid() && (!next.IsValid() || after.Less(next))) {
				break
			}
			bits--
		}
		p := netip.PrefixFrom(a, bits)
		out = append(out, p)
		a = prefixAfter(p)
	}
	return out
}
