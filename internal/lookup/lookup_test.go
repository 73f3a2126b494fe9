package lookup

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Names find what a map finds, with any seed, and nothing else.
func TestNamesAreAMap(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		texts := rapid.SliceOfDistinct(rapid.StringN(0, 40, -1), func(s string) string { return s }).Draw(t, "texts")
		seed := rapid.Uint64().Draw(t, "seed")
		n, places := NewNames(seed, texts)
		for i, text := range texts {
			assert.Equal(t, i, n.Find(text))
			number, found := n.Record(places[i])
			assert.Equal(t, uint32(i), number)
			assert.Equal(t, text, found)
		}
		other := rapid.String().Draw(t, "other")
		assert.Equal(t, slices.Index(texts, other), n.Find(other))
		for _, text := range texts[:min(len(texts), 3)] {
			a, b := Both(&n, &n, text, other)
			assert.Equal(t, n.Find(text), a)
			assert.Equal(t, n.Find(other), b)
		}
	})
}

// A short sum of a text must not do for the text: all of these have one slot.
func TestNamesThatCollide(t *testing.T) {
	table := New(1, 4)
	for i := range 4 {
		table.Add(7, i)
	}
	var found []int
	for i := uint64(7); ; {
		var n int
		if n, i = table.Probe(7, i); n < 0 {
			break
		}
		found = append(found, n)
	}
	assert.Equal(t, []int{0, 1, 2, 3}, found)
}

func TestSequences(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := NewSequences()
		known := map[string]uint32{"[]": 0}
		for range rapid.IntRange(0, 2000).Draw(t, "n") {
			seq := rapid.SliceOfN(rapid.Uint32Range(0, 3), 0, 4).Draw(t, "sequence")
			n := s.Number(seq)
			if had, ok := known[fmt.Sprint(seq)]; ok {
				assert.Equal(t, had, n)
			}
			known[fmt.Sprint(seq)] = n
			assert.True(t, slices.Equal(seq, s.Get(n)))
		}
		assert.Len(t, s.Ends, len(known))
	})
}
