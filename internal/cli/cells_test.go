package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
)

// A row that is written with a gap, which is then filled, reads as the row written at once, whatever its texts are.
func TestAFilledRowIsTheRow(t *testing.T) {
	texts := rapid.OneOf(rapid.String(), rapid.StringOf(rapid.RuneFrom([]rune("\"\\: resource<\u202e星"))),
		rapid.Just(noResource))
	rapid.Check(t, func(t *rapid.T) {
		row := differenceRow{Subject: texts.Draw(t, "subject"), Operation: texts.Draw(t, "operation"),
			When: texts.Draw(t, "when"), Through: rapid.SliceOfN(texts, 0, 3).Draw(t, "through")}
		f, err := formOf(row, cellIndent)
		require.NoError(t, err)
		for range 3 {
			row.Resource = texts.Draw(t, "resource")
			want, err := indented(row, cellIndent)
			require.NoError(t, err)
			require.NoError(t, f.fill(row.Resource))
			require.Equal(t, string(want), string(f.row))
		}
	})
}

// The cells of an effect are the same whether they are written one by one or by what is alike of them.
func TestCellsAreWrittenAsOneByOne(t *testing.T) {
	_, before := demo(t)
	dir, _ := demo(t)
	for _, edit := range [][]string{{"remove", "grant", "auditors-read"},
		{"remove", "role", "looker-on", "--with-references"}} {
		_, problems, code := hgate(dir, "", append(edit, "--yes")...)
		require.Equal(t, exitYes, code, problems)
	}
	after, err := (&app{ctx: t.Context(), dir: dir}).compiled()
	require.NoError(t, err)
	e, err := change.Of(t.Context(), before.Estate(), after.Estate(), change.How{Since: clock.Of(at())})
	require.NoError(t, err)
	all := func(apart bool) string {
		var out bytes.Buffer
		rows := cells(e, cellIndent, func(*change.Line) bool { return true },
			func(*change.Line) bool { return apart }, func(r change.Row) any {
				return differenceRow{r.Subject.String(), r.Operation, r.Resource, r.Line.Is(), "", false, nil}
			})
		require.NoError(t, (&app{Streams: Streams{Out: &out}}).jsonRows(rows))
		return out.String()
	}
	require.Equal(t, all(true), all(false))
	n := 0
	e.Rows(func(change.Row) { n++ })
	require.Greater(t, n, 100)
	require.Equal(t, n, strings.Count(all(false), `"resource"`))
}
