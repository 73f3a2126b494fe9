package cli

import (
	"bytes"
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
	row := func(r change.Row, by []change.Cause) any {
		return differenceRow{r.Subject.String(), r.Operation, r.Resource, r.Line.Is(), "", false, texts(by)}
	}
	written := func(rows elements) string {
		var out bytes.Buffer
		require.NoError(t, (&app{Streams: Streams{Out: &out}}).jsonRows(rows))
		return out.String()
	}
	n := 0
	oneByOne := func(yield func(any) bool) error {
		e.Rows(func(r change.Row) {
			n++
			yield(row(r, e.CausesOf(r)))
		})
		return nil
	}
	alike := cells{e, cellIndent, func(*change.Line) bool { return true }, true, row}
	require.Equal(t, written(oneByOne), written(alike.each))
	require.Greater(t, n, 100)
}
