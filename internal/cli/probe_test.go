package cli

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"hiddengate/internal/target"
)

// A sample is of so many questions, each once and in their order, and every question can come.
func TestASampleIsOfAllQuestions(t *testing.T) {
	var all []target.Question
	for place := range 20 {
		all = append(all, target.Question{Place: place})
	}
	seen := map[int]int{}
	for range 400 {
		var places []int
		for q := range sampled(slices.Values(all), 5) {
			places = append(places, q.Place)
			seen[q.Place]++
		}
		assert.Len(t, places, 5)
		assert.True(t, slices.IsSorted(places))
		assert.Len(t, slices.Compact(places), 5)
	}
	assert.Len(t, seen, 20)
	assert.Len(t, slices.Collect(sampled(slices.Values(all), 0)), 20)
	assert.Len(t, slices.Collect(sampled(slices.Values(all), 50)), 20)
}
