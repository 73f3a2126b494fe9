package cli

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A long list that is told until the cell is full reads as the whole list cut short.
func TestABriefListIsTheWholeCutShort(t *testing.T) {
	cut := 0
	texts := func(least int) *rapid.Generator[string] {
		return rapid.StringOfN(rapid.RuneFrom([]rune("aé, 星")), least, 60, -1)
	}
	lists := rapid.OneOf(rapid.SliceOfN(texts(0), 0, 40), rapid.SliceOfN(texts(30), 5, 40))
	rapid.Check(t, func(t *rapid.T) {
		list := lists.Draw(t, "list")
		told := pair{"covers", each(slices.Values(list))}
		require.Equal(t, short(strings.Join(list, ", ")), told.brief())
		require.Equal(t, pair{"covers", list}.brief(), told.brief())
		require.Equal(t, len(list) == 0, told.empty())
		if strings.HasSuffix(told.brief(), "…") {
			cut++
		}
	})
	require.Positive(t, cut)
}

// An object whose lists are written element by element reads as one that is written whole.
func TestAnObjectIsWrittenAsAWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		type row struct {
			ID string   `json:"id"`
			Of []string `json:"of"`
		}
		whole := struct {
			Count int   `json:"count"`
			First []row `json:"first"`
			None  []row `json:"none"`
			Last  []row `json:"last"`
		}{Count: rapid.Int().Draw(t, "count")}
		rows := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) row {
			return row{rapid.String().Draw(t, "id"), rapid.SliceOfN(rapid.String(), 0, 3).Draw(t, "of")}
		}), 0, 5)
		whole.First = append([]row{}, rows.Draw(t, "first")...)
		whole.Last = append([]row{}, rows.Draw(t, "last")...)
		var want, got bytes.Buffer
		as := func(r row) row { return r }
		require.NoError(t, (&app{Streams: Streams{Out: &want}}).json(whole))
		require.NoError(t, (&app{Streams: Streams{Out: &got}}).jsonObject(jsonPart{"count", whole.Count},
			jsonPart{"first", eachAs(whole.First, as)}, jsonPart{"none", whole.None}, jsonPart{"last", eachAs(whole.Last, as)}))
		require.Equal(t, want.String(), got.String())
	})
}
