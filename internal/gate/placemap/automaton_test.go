package placemap

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/estate"
	"hiddengate/internal/lookup"
)

// The automaton covers and matches what the patterns cover and match, one by one.
func TestTheAutomatonIsItsPatterns(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var patterns []estate.Pattern
		drawn := rapid.StringMatching(`(db|d\*|app|\*)(:(a|b|a\*|\*b|\*|\*\*|a\*b)(/(a|b|a\*|\*|\*\*)){0,3})?`)
		for _, text := range rapid.SliceOfN(drawn, 1, 6).Draw(t, "patterns") {
			p, err := estate.ParsePattern(text)
			require.NoError(t, err)
			patterns = append(patterns, p)
		}
		sets := lookup.NewSequences()
		a := NewAutomaton(&estate.System{Object: estate.Object{ID: "db"}}, false, patterns, sets)
		for range 30 {
			address := estate.Address{System: "db", Path: rapid.StringMatching(`([ab]{1,2}(/[ab]{1,2}){0,4})?`).Draw(t, "path")}
			set := sets.Get(a.walk(address.Path))
			for i, p := range patterns {
				assert.Equal(t, p.Covers(address, false), slices.Contains(set, uint32(i)), "%s covers %s", p, address)
				assert.Equal(t, p.Matches(address, false), slices.Contains(set, uint32(i)|here), "%s matches %s", p, address)
			}
		}
	})
}
