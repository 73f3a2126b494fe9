package gate_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/starter"
)

// BenchmarkDecide times a decision from raw strings, with a time and a network, on the demo, against three bare map
// look-ups with the same keys: by turns, the median of the ratios.
func BenchmarkDecide(b *testing.B) {
	e, err := policyfile.Load(starter.Demo())
	require.NoError(b, err)
	g, err := gate.Compile(e, nil)
	require.NoError(b, err)
	people, ops, places := map[string]int{}, map[string]int{}, map[string]int{}
	for i, p := range g.Subjects() {
		people[p.ID] = i
	}
	for i, o := range estate.Sorted(e.Operations) {
		ops[o.Name] = i
	}
	for r := range e.Tree.All() {
		i := r.Index
		places[r.Address.String()] = i
	}
	type raw struct{ who, what, where string }
	var asks []raw
	for _, p := range g.Subjects() {
		for r := range e.Tree.All() {
			for _, o := range e.Offer(r.System.Kind.ID).On(r.Type) {
				if p.Kind == estate.IsPerson && len(asks) < 4096 && (len(asks)+len(o.Name))%7 == 0 {
					asks = append(asks, raw{p.ID, o.Name, r.Address.String()})
				}
			}
		}
	}
	at, err := e.Zone.ParseTime("2027-12-01T22:00")
	require.NoError(b, err)
	from := netip.MustParseAddr("10.40.3.7")
	c := g.NewContext()
	decide := func() (allowed int) {
		for _, a := range asks {
			c.Reset()
			c.Time(at)
			c.Network(from)
			outcome, err := g.Decide(gate.Request{Subject: estate.Principal{ID: a.who}, Operation: a.what, Resource: a.where, Context: c})
			if err != nil {
				b.Fatal(err)
			}
			if outcome == gate.Allow {
				allowed++
			}
		}
		return allowed
	}
	bare := func() (sum int) {
		for _, a := range asks {
			sum += people[a.who] + ops[a.what] + places[a.where]
		}
		return sum
	}
	decide() // the first time, answers are worked out
	var ratios []float64
	var took time.Duration
	b.ReportAllocs()
	for b.Loop() {
		start := time.Now()
		bare()
		yardstick := time.Since(start)
		start = time.Now()
		decide()
		took = time.Since(start)
		ratios = append(ratios, float64(took)/float64(yardstick))
	}
	slices.Sort(ratios)
	b.ReportMetric(ratios[len(ratios)/2], "times-bare")
	b.ReportMetric(float64(took.Nanoseconds())/float64(len(asks)), "ns/decision")
}
