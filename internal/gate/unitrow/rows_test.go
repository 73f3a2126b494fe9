package unitrow

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// A row says at each mark what the units that cover it come to when they are joined alone, whatever classes were woven
// before, and however little is remembered of what units come to.
func TestARowIsWhatItsUnitsComeTo(t *testing.T) {
	was := mostCombinations
	defer func() { mostCombinations = was }()
	const marks = 12
	several, rows := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		mostCombinations = rapid.SampledFrom([]int{1, 3, was}).Draw(t, "remembered")
		units := NewMaker(70)
		for range rapid.IntRange(1, 8).Draw(t, "units") {
			ops := make(opset.Set, 2)
			for _, o := range rapid.SliceOfN(rapid.Uint32Range(0, 69), 0, 4).Draw(t, "operations") {
				ops.Add(o)
			}
			r := rapid.SampledFrom([]region.Region{region.Full, region.Full, 2, 3}).Draw(t, "region")
			if rapid.Bool().Draw(t, "denies") {
				units.Deny(ops, r)
			} else {
				units.Give(ops, r)
			}
		}
		shares := make([]Share, rapid.IntRange(1, 30).Draw(t, "shares"))
		for i := range shares {
			for range rapid.IntRange(0, 5).Draw(t, "pieces") {
				from := rapid.Uint32Range(0, marks-1).Draw(t, "from")
				shares[i].Pieces = append(shares[i].Pieces, Piece{
					placemap.Span{From: from, To: rapid.Uint32Range(from+1, marks).Draw(t, "to")},
					rapid.Uint32Range(0, uint32(len(units.List)-1)).Draw(t, "unit")})
			}
		}
		classes := lookup.NewSequences()
		for range rapid.IntRange(1, 12).Draw(t, "classes") {
			var of []uint32
			for i := range shares {
				if rapid.IntRange(0, 2).Draw(t, "has") > 0 {
					of = append(of, uint32(i))
				}
			}
			classes.Number(of)
		}
		var r Rows
		made := r.BuildAll(classes, shares, units)
		for class, h := range made {
			for mark := range uint32(marks) {
				alone := newJoiner(units.fork())
				for _, s := range classes.Get(uint32(class)) {
					for _, p := range shares[s].Pieces {
						if p.From <= mark && mark < p.To {
							alone.toggle(p.Unit, true)
						}
					}
				}
				want := alone.covers.Get(alone.number())
				got := r.Cover(r.At(&h, mark), new([1]uint32))
				require.Equal(t, inWords(&alone.Units, want), inWords(&units.Units, got), "class %d, mark %d", class, mark)
				if rows++; len(got) > 1 {
					several++
				}
			}
		}
	})
	require.Greater(t, rows, 300)
	require.Greater(t, several, rows/20)
}

// inWords says what units give and deny, whatever their numbers are.
func inWords(u *Units, cover []uint32) []string {
	var out []string
	for _, n := range cover {
		out = append(out, fmt.Sprint(u.Set(n), u.List[n].Region, u.List[n].Block))
	}
	slices.Sort(out)
	return out
}
