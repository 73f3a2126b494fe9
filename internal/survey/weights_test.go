package survey

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/gate/differing"
)

// The sum digit by digit is the sum one by one.
func TestWeightsAreSummedUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		numbers := rapid.SliceOfN(rapid.IntRange(0, 1000), 1, 300).Draw(t, "numbers")
		words := (len(numbers) + 63) / 64
		w := newWeights(numbers, words)
		set, want := make(differing.ClassSet, words), 0
		for class, n := range numbers {
			require.Equal(t, n > 0, w.some[class/64]>>(class%64)&1 == 1)
			if rapid.Bool().Draw(t, "in") {
				set.Add(uint32(class))
				want += n
			}
		}
		require.Equal(t, want, w.sum(set))
	})
}
