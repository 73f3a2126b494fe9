package gate_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/gate"
	"hiddengate/internal/shape"
)

// The networks from which something is sure at a moment are those from which the oracle allows it whatever is open.
func TestWhatIsSureFromWhereIsWhatTheOracleSays(t *testing.T) {
	counts := map[bool]int{}
	for seed := range uint64(shape.Drawn(300, 1, testing.Short())) {
		d := newDraw(seed + 50_000)
		e := load(t, d.estate())
		zone, err := time.LoadLocation(e.Zone.Name())
		require.NoError(t, err)
		o := &oracle{e: e, zone: zone}
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		times := moments(o)
		for range 6 {
			a, ok := d.asked(e, times)
			if !ok || e.Listed(a.address) == nil || g.NumberOf(a.who) < 0 {
				continue
			}
			at, how := times[d.IntN(len(times))], "certificate"
			from := clock.Instant(at)
			networks, err := g.SureFrom(a.who, a.operation, e.Listed(a.address), how, from, from+1)
			require.NoError(t, err, "seed %d", seed)
			for _, address := range addresses() {
				if !address.IsValid() {
					continue
				}
				want := o.outcome(a.who, a.operation, a.spot, partial{at: &at, from: &address, signIn: &how}, times) == "allow"
				is := slices.ContainsFunc(networks, func(n netip.Prefix) bool { return n.Contains(address.Unmap()) })
				counts[want]++
				require.Equal(t, want, is, "seed %d: %s %s %s at %d from %s: %s", seed, a.who, a.operation, a.address, at, address,
					networks)
			}
		}
	}
	if shape.DrawsAll(testing.Short()) {
		require.Greater(t, counts[true], 1000, counts)
	}
}
