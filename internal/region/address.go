package region

import (
	"encoding/binary"
	"math"
	"math/bits"
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
		p := widest(a, after)
		out = append(out, p)
		a = prefixAfter(p)
	}
	return out
}

// widest is the widest prefix that begins with an address and ends before another, which may be the line's end.
func widest(a, after netip.Addr) netip.Prefix {
	lastHigh, lastLow := uint64(math.MaxUint64), uint64(math.MaxUint64)
	switch {
	case a.Is4() && (!after.IsValid() || after.Is6()):
		lastHigh, lastLow = 0, math.MaxUint32
	case after.IsValid():
		lastHigh, lastLow = halves(after.Prev())
	}
	high, low := halves(a)
	more, borrow := bits.Sub64(lastLow, low, 0)
	moreHigh, _ := bits.Sub64(lastHigh, high, borrow)
	more, carry := bits.Add64(more, 1, 0) // how many addresses there are
	moreHigh, carry = bits.Add64(moreHigh, 0, carry)
	free := bits.Len64(more) - 1 // how many bits of an address may be anything
	switch {
	case carry > 0:
		free = 128
	case moreHigh > 0:
		free = 63 + bits.Len64(moreHigh)
	}
	zeros := bits.TrailingZeros64(low)
	if low == 0 {
		zeros += bits.TrailingZeros64(high)
	}
	return netip.PrefixFrom(a, a.BitLen()-min(free, zeros, a.BitLen()))
}

// halves are the bits of an address as two numbers.
func halves(a netip.Addr) (high, low uint64) {
	if a.Is4() {
		four := a.As4()
		return 0, uint64(binary.BigEndian.Uint32(four[:]))
	}
	six := a.As16()
	return binary.BigEndian.Uint64(six[:8]), binary.BigEndian.Uint64(six[8:])
}
