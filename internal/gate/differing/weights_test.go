package differing

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The sum digit by digit is the sum one by one.
func TestWeightsAreSummedUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		numbers := rapid.SliceOfN(rapid.IntRange(0, 1000), 1, 300).Draw(t, "numbers")
		words := (len(numbers) + 63) / 64
		w := newWeights(numbers, words)
		set, want := make(ClassSet, words), 0
		for class, n := range numbers {
			require.Equal(t, n > 0, w.Some.Has(uint32(class)))
			if rapid.Bool().Draw(t, "in") {
				set.Add(uint32(class))
				want += n
			}
		}
		require.Equal(t, want, w.Sum(set))
	})
}
