package gate_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/policyfile"
)

// What is behind a cell is told for cells that are alike at once, and is what it is for each alone, whatever differs
// between two estates.
func TestWhatIsBehindCellsIsToldAtOnce(t *testing.T) {
	told, several := 0, 0
	for seed := range uint64(scaled(120)) {
		d := newDraw(seed + 51e6)
		text := d.estate()
		before := load(t, text)
		after, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(crossed(d, text,
			newDraw(seed+52e6).estate()))}})
		if err != nil {
			continue // the one names what the other does not have
		}
		effect, err := change.Of(t.Context(), before, after, change.How{})
		require.NoError(t, err)
		for i := range effect.Lines {
			l := &effect.Lines[i]
			behind, one := effect.Behind(l), len(effect.Causes(l)) < 2
			left := 300
			for p := range l.Piles.All() {
				for at := range p.Addresses() {
					for _, who := range l.Subjects {
						for _, op := range l.Operations {
							if left--; left < 0 {
								continue
							}
							r := change.Row{Line: l, Subject: who, Operation: op, Resource: at}
							got := behind.Causes(behind.Of(p, who, op))
							if told++; one {
								require.Equal(t, effect.Causes(l), got)
								continue
							}
							require.Equal(t, effect.CausesOf(r), got, "seed %d: %s %s %s", seed, who, op, at)
							if len(got) > 1 {
								several++
							}
						}
					}
				}
			}
		}
	}
	t.Log(told, several)
	require.Greater(t, told, 500)
	require.Greater(t, several, told/10)
}
