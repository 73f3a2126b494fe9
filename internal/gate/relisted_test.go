package gate_test

import (
	"maps"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

// relisted gives an estate that says what another does, and lists other resources.
func relisted(t *testing.T, d draw, text string, was *estate.Estate) *estate.Estate {
	for range d.IntN(3) + 1 {
		in := "resources:\n      "
		swaps := [][2]string{{"env: prod", "env: x"}, {"owner: bo", "owner: group:g1"}, {"owner: group:g0", "owner: bo"},
			{"type: view", "type: schema"}, {in, in + `"zz/new": {tags: {team: x}}` + "\n      "},
			{in, in + `"a0": {owner: cai}` + "\n      "}, {`"a/b": {`, `"a/b9": {`}, {`"a": {`, `"q": {`}}
		swap := swaps[d.IntN(len(swaps))]
		text = strings.Replace(text, swap[0], swap[1], 1)
	}
	is, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	if err != nil {
		return was
	}
	out := *was
	out.Tree, out.Systems = is.Tree, is.Systems
	return &out
}

// A gate that is taken over for other resources answers as one that is made anew, and can be kept.
func TestAGateOfOtherResourcesAnswersAsOneMadeAnew(t *testing.T) {
	taken, longer := 0, 0
	for seed := range uint64(scaled(120)) {
		d := newDraw(seed + 49e6)
		text := d.estate()
		before := load(t, text)
		after := relisted(t, d, text, before)
		known := compiled(t, before)
		g := known.Relisted(after)
		if g == nil {
			continue
		}
		taken++
		other := *after
		if other.Grants = maps.Clone(after.Grants); len(other.Grants) > 0 {
			delete(other.Grants, estate.Sorted(after.Grants)[0].ID)
			require.Nil(t, known.Relisted(&other), "other grants are given")
		}
		if after.Tree.Len() != before.Tree.Len() {
			longer++
		}
		anew := compiled(t, after)
		for row := range after.Tree.Len() {
			require.Equal(t, anew.Places.Spots[row].Mark, g.Places.Spots[row].Mark)
			for _, gr := range anew.Grants {
				r := after.Tree.At(row)
				require.Equal(t, anew.Places.Covers(gr.List, anew.Places.Spots[row]),
					g.Places.Covers(g.GrantOf(gr.ID).List, g.Places.Spots[row]), "seed %d: %s on %s", seed, gr.ID, r.Address)
			}
		}
		answerAlike(t, seed+50e6, anew, g, keptAndTaken(t, g))
		answerAlike(t, seed+51e6, compiled(t, before), known) // what it was made of is as it was
	}
	require.Greater(t, taken, 5)
	require.Positive(t, longer)
}
