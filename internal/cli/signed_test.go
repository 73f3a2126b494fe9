package cli

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/spf13/pflag"
	"github.com/stretchr/testify/require"
)

// Whatever a sheet says of itself, it sets the flags of a grid's coverage and no others.
func FuzzSheet(f *testing.F) {
	f.Add([]byte("grid,1\nasked,now\nwho,ana,bo\nwhere,db\ndepth,3\nplace,ana,bo\ndb,view,\n"))
	f.Add([]byte("grid,1\nworkspace,/etc\n"))
	f.Add([]byte("grid,1\nexpect,x\nat,any\nformat,json\nplace,x\ndb,view\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		name := filepath.Join(t.TempDir(), "sheet.csv")
		require.NoError(t, os.WriteFile(name, text, 0o600))
		a := &app{}
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
