package gate_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Where an index says that nothing concerns somebody they may do nothing; where marks alone tell what does, traits make
// no difference; and those who are said to be alike get the same answers.
func TestWhereNothingConcernsSomebodyTheyMayDoNothing(t *testing.T) {
	var seen [3]int
	lent, alike := 0, 0
	for seed := range uint64(scaled(100)) {
		d := newDraw(seed + 12e6)
		e := withTwins(d, load(t, d.estate()))
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
		first := map[string]*gate.Asker{}
		for _, who := range g.Subjects() {
			concerned := make([]gate.Concern, len(rows))
			if !index.Concerned(who, func(n uint32, how gate.Concern) { concerned[n] = max(concerned[n], how) }) {
				lent++
				continue
			}
			asker, err := g.Asker(who, c)
			require.NoError(t, err)
			likeness, ok := index.Likeness(who)
			other := first[likeness]
			if ok && other == nil {
				first[likeness] = asker
			}
			for n, row := range rows {
				has, err := asker.On(row)
				require.NoError(t, err)
				if ok && other != nil {
					others, err := other.On(row)
					require.NoError(t, err)
					require.Equal(t, has.Outcomes, others.Outcomes, "seed %d: %s %s", seed, who, e.Tree.Address(row))
					alike++
				}
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
	require.NotZero(t, alike)
}

// withTwins adds somebody beside each person whom lists name with them, with other tags.
func withTwins(d draw, e *estate.Estate) *estate.Estate {
	twin := func(id string) string { return "twin-of-" + id }
	listed := func(list estate.Subjects) estate.Subjects {
		out := slices.Clone(list)
		for _, term := range list {
			if term.Kind == estate.IsPerson {
				term.ID = twin(term.ID)
				out = append(out, term)
			}
		}
		return out
	}
	var edits []estate.Edit
	for _, p := range estate.Sorted(e.People) {
		one, tags := *p, e.People[d.one(drawnPeople...)]
		if one.ID = twin(p.ID); tags != nil {
			one.Tags = tags.Tags
		}
		edits = append(edits, estate.Put("people", &one))
	}
	for _, g := range estate.Sorted(e.Groups) {
		one := *g
		one.Members = listed(g.Members)
		edits = append(edits, estate.Put("groups", &one))
	}
	for _, g := range estate.Sorted(e.Grants) {
		one := *g
		one.To = listed(g.To)
		edits = append(edits, estate.Put("grants", &one))
	}
	for _, b := range estate.Sorted(e.Blocks) {
		one := *b
		one.To = listed(b.To)
		edits = append(edits, estate.Put("blocks", &one))
	}
	return e.With(edits...)
}
