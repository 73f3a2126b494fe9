package splice

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Changes that read again only the entry that they change write what changes do that read the whole file each time, or
// are refused; and most are not refused.
func TestPiecesAreTheWhole(t *testing.T) {
	done, alone := 0, 0
	for seed := range uint64(3000) {
		s := spelled{rand.New(rand.NewPCG(seed, 7))}
		var text strings.Builder
		for i := range 1 + s.IntN(3) {
			fmt.Fprintf(&text, "%ss%d:%s\n%s", s.comment(""), i, s.one("", " # of it"), s.mapping(3, 1+s.IntN(3)))
		}
		one, err := Parse([]byte(text.String()))
		if err != nil {
			continue
		}
		all, _ := Parse([]byte(text.String()))
		change := func(f *File, s spelled) error {
			for range 1 + s.IntN(6) {
				var paths [][]string
				for _, root := range f.roots {
					places(root, nil, &paths)
				}
				if len(paths) == 0 {
					return nil
				}
				path := paths[s.IntN(len(paths))]
				var err error
				switch n := len(f.Items(path...)); {
				case n > 1 && s.IntN(2) == 0:
					err = f.Drop(s.IntN(n), 0, path...)
				case s.IntN(2) == 0:
					err = f.Delete(s.IntN(len(path)), path...)
				default:
					err = f.Set(Scalar(s.one(words...)), path...)
				}
				if err != nil {
					return err
				}
			}
			return nil
		}
		wrong := change(one, spelled{rand.New(rand.NewPCG(seed, 8))})
		err = all.Piecewise(func() error { return change(all, spelled{rand.New(rand.NewPCG(seed, 8))}) })
		if err != nil {
			if wrong == nil {
				alone++ // refused in pieces alone
			}
			require.Equal(t, text.String(), string(all.Bytes), "seed %d", seed)
		} else {
			done++
			require.NoError(t, wrong, "seed %d", seed)
			require.Equal(t, string(one.Bytes), string(all.Bytes), "seed %d:\n%s", seed, text.String())
		}
		again, err := Parse(all.Bytes)
		require.NoError(t, err, "seed %d", seed)
		require.Equal(t, plainly(said(again.all)), plainly(said(all.all)), "seed %d", seed)
	}
	t.Log(done, alone)
	require.Greater(t, done, 1000)
	require.Less(t, alone, done/100)
}
