package differing

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Sets of piles have what was put in, in order and each once, in whatever order it was put in; sets of the same piles
// are one.
func TestPilesAreSets(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		pair := &Pair{}
		for n := range uint32(40) {
			pair.piles = append(pair.piles, &Pile{pair: pair, number: n, rows: []int32{int32(2 * n), int32(2*n + 1)}})
		}
		sets := newGathering()
		draw := func(name string) (*Piles, []string) {
			s, want := &Piles{pair: pair}, map[string]*Pile{}
			for range rapid.IntRange(0, 6).Draw(t, name) {
				from := rapid.Uint32Range(0, 39).Draw(t, "from")
				if rapid.Bool().Draw(t, "part") {
					part := pair.piles[from].only(rapid.IntRange(0, 1).Draw(t, "index"))
					s.add(part)
					want[part.Key()] = part
					continue
				}
				to := rapid.Uint32Range(from, 40).Draw(t, "to")
				s.addSpan(from, to)
				for n := from; n < to; n++ {
					want[pair.piles[n].Key()] = pair.piles[n]
				}
			}
			return s, keys(want)
		}
		one, has := draw("one")
		one = sets.once(one)
		require.Equal(t, has, read(one))
		require.Equal(t, len(has), one.Len())

		other, more := draw("other")
		both := one.With(other)
		slices.Sort(more)
		want := slices.Compact(slices.Sorted(slices.Values(slices.Concat(has, more))))
		require.Equal(t, want, slices.Sorted(slices.Values(read(both))))
		require.Equal(t, has, read(one), "it stays what it was")
		require.True(t, sets.once(one.With(one)) == one)
		require.Equal(t, slices.Equal(want, slices.Sorted(slices.Values(has))), sets.once(both) == one)

		odd := func(p *Pile) bool { return p.number%7 == 3 }
		require.Equal(t, one.Where(odd).Len() > 0, pair.Having(odd).Any(one))
		for p := range one.Where(odd).All() {
			require.True(t, odd(p))
		}
		require.Equal(t, one.Len(), one.Where(odd).Len()+one.Where(func(p *Pile) bool { return !odd(p) }).Len())
	})
}

func keys(piles map[string]*Pile) []string {
	out := []string{}
	for key := range piles {
		out = append(out, key)
	}
	slices.SortFunc(out, func(a, b string) int {
		return slices.Compare(
			append([]int32{int32(piles[a].number), int32(-piles[a].Len())}, piles[a].rows...),
			append([]int32{int32(piles[b].number), int32(-piles[b].Len())}, piles[b].rows...))
	})
	return out
}

func read(s *Piles) []string {
	out := []string{}
	for p := range s.All() {
		out = append(out, p.Key())
	}
	return out
}
