package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/spf13/pflag"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/survey"
)

// Whatever a sheet says of itself, it sets the flags of a grid's coverage and no others.
func FuzzSheet(f *testing.F) {
	f.Add([]byte("grid,2\nasked,now\nwho,ana,bo\nwhere,db\ndepth,3\nplace,ana,bo\ndb,view,\n"))
	f.Add([]byte("grid,2\nworkspace,/etc\n"))
	f.Add([]byte("grid,2\nexpect,x\nat,any\nformat,json\nplace,x\ndb,view\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		name := filepath.Join(t.TempDir(), "sheet.csv")
		require.NoError(t, os.WriteFile(name, text, 0o600))
		a := &app{ctx: context.Background()}
		c := a.gridCommand()
		sheet, err := a.signedSheet(c, name)
		c.Flags().VisitAll(func(flag *pflag.Flag) {
			require.True(t, !flag.Changed || slices.Contains(sheetFlags, flag.Name), flag.Name)
		})
		require.Empty(t, a.dir)
		if err == nil {
			require.NotEmpty(t, sheet.rows)
			for _, r := range sheet.rows {
				require.Len(t, r.cells, len(sheet.columns))
			}
		}
	})
}

// Whatever a log says, each logged action that is taken from it is one, and an error names its line.
func FuzzLog(f *testing.F) {
	f.Add([]byte(`{"time": "2027-11-01T10:00Z", "subject": "ana", "operation": "table.read", "resource": "db:sky"}`+"\n"),
		false)
	f.Add([]byte("time,subject,operation,resource\n2027-11-01T10:00Z,ana,table.read,db:sky\n"), true)
	f.Fuzz(func(t *testing.T, text []byte, isCSV bool) {
		r := actionReader{zone: clock.UTC, estate: estate.New(),
			name: map[bool]string{false: "log.ndjson", true: "log.csv"}[isCSV]}
		err := r.each(bytes.NewReader(text), func(d survey.Action) {
			require.NotEmpty(t, d.Operation)
			require.Positive(t, d.Line)
			_, err := estate.ParseAddress(d.Resource)
			require.NoError(t, err)
		})
		if err != nil {
			require.Contains(t, err.Error(), "log.")
		}
	})
}
