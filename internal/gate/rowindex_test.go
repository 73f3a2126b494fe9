package gate_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Where an index says that nothing concerns somebody they may do nothing, and where marks alone tell what does, traits
// make no difference.
func TestWhereNothingConcernsSomebodyTheyMayDoNothing(t *testing.T) {
	var seen [3]int
	lent := 0
	for seed := range uint64(scaled(100)) {
		d := newDraw(seed + 12e6)
		e := load(t, d.estate())
		var elevations []estate.Elevation
		for _, gr := range estate.Sorted(e.Grants) {
			if gr.OnRequest != nil && d.chance(50) {
				from := clock.Instant(1_761_000_000) * clock.Second
				elevations = append(elevations, estate.Elevation{Grant: gr.ID,
					Subject: estate.Principal{ID: d.one(drawnPeople...)}, From: from, To: from + 700*clock.Day, Within: d.lentPlace()})
			}
		}
		g, err := gate.Compile(e, elevations)
		require.NoError(t, err)
		rows := make([]int, e.Tree.Len())
		for row := range rows {
			rows[row] = len(rows) - 1 - row
		}
		index := g.NewRowIndex(rows)
		c := g.NewContext()
		c.Time(clock.Instant(1_770_000_000) * clock.Second)
		for _, who := range g.Subjects() {
			concerned := make([]gate.Concern, len(rows))
			if !index.Concerned(who, func(n uint32, how gate.Concern) { concerned[n] = max(concerned[n], how) }) {
				lent++
				continue
			}
			asker, err := g.Asker(who, c)
			require.NoError(t, err)
			for n, row := range rows {
				has, err := asker.On(row)
				require.NoError(t, err)
				said := g.Nothing(row)
				if concerned[n] != gate.Unconcerned {
					said, err = asker.OnAs(row, concerned[n])
					require.NoError(t, err)
				}
				require.Equal(t, has.Operations, said.Operations, "seed %d: %s %s", seed, who, e.Tree.Address(row))
				require.Equal(t, has.Outcomes, said.Outcomes, "seed %d: %s %s", seed, who, e.Tree.Address(row))
				seen[concerned[n]]++
			}
		}
	}
	require.NotContains(t, seen[:], 0)
	require.NotZero(t, lent)
}
