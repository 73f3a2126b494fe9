package gate_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
)

// What the table counts is what deciding counts, resource by resource.
func TestCountsAreCellByCell(t *testing.T) {
	for seed := range propertyEstates {
		d := newDraw(uint64(seed) + 50_000)
		e := load(t, d.estate())
		var lent []estate.Elevation
		for _, gr := range estate.Sorted(e.Grants) {
			if gr.OnRequest != nil && d.chance(50) {
				from := clock.Instant(1_761_000_000) * clock.Second
				lent = append(lent, estate.Elevation{Grant: gr.ID, Subject: estate.Principal{ID: d.one(drawnPeople...)}, From: from,
					To: from + 700*clock.Day, Within: d.lentPlace()})
			}
		}
		g, err := gate.Compile(e, lent)
		require.NoError(t, err)
		operations := estate.Sorted(e.Operations)
		for _, q := range questions(d, e, 3) {
			if d.chance(30) {
				q.request.at = nil
			}
			c := q.request.context(g)
			err := counting.NewTable(g, c).Counts(t.Context(), func(who estate.Principal, counts []counting.Count) bool {
				want := make([]counting.Count, len(operations))
				for i, o := range operations {
					for r := range e.Tree.All() {
						if e.Offer(r.System.Kind.ID).Valid(o.Name, r.Type) == nil {
							continue
						}
						outcome, err := g.Decide(gate.Request{Subject: who, Operation: o.Name, Resource: r.Address.String(), Context: c})
						require.NoError(t, err)
						switch outcome {
						case gate.Allow:
							want[i].Allowed++
						case gate.Depends:
							want[i].Depends++
						}
					}
				}
				for i, o := range operations {
					require.Equal(t, want[i], counts[i], "seed %d: %s %s with %s", seed, who, o.Name, q.request)
				}
				return true
			})
			require.NoError(t, err)
		}
	}
}
