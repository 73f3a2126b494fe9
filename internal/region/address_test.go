package region

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestPrefixesFillAnIntervalAndAreTheWidest(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		addresses := rapid.Custom(func(t *rapid.T) netip.Addr {
			n := rapid.Uint32().Draw(t, "n") << rapid.IntRange(0, 31).Draw(t, "shift")
			four := netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
			six := four.As16()
			six[rapid.IntRange(0, 9).Draw(t, "at")] = byte(n >> 3)
			return rapid.SampledFrom([]netip.Addr{four, outOfHole(netip.AddrFrom16(six)), firstSix, holeAfter, {}}).Draw(t, "a")
		})
		first, after := addresses.Draw(t, "first"), addresses.Draw(t, "after")
		if !first.IsValid() || after.IsValid() && !first.Less(after) {
			return
		}
		at := first
		for _, p := range prefixesOf(first, after) {
			require.Equal(t, at, p.Addr())
			require.Equal(t, p, p.Masked())
			within := func(next netip.Addr) bool { return !after.IsValid() || next.IsValid() && !after.Less(next) }
			at = prefixAfter(p)
			require.True(t, within(at), p)
			if p.Bits() > 0 {
				wider := netip.PrefixFrom(p.Addr(), p.Bits()-1)
				require.False(t, wider.Masked() == wider && within(prefixAfter(wider)), "%s is not the widest", p)
			}
		}
		require.Equal(t, after, at)
	})
}
