package cli

import (
	"fmt"
	"runtime"

	"github.com/spf13/cobra"

	"hiddengate/internal/catalog"
)

// Version is set when the program is built.
var Version = "unreleased"

func (a *app) versionCommand() *cobra.Command {
	c := &cobra.Command{
		Use:     "version",
		Short:   "Print the program's version",
		Example: "  hgate version",
		Args:    takes(0, 0),
		RunE: func(*cobra.Command, []string) error {
			if a.format == "json" {
				return a.json(map[string]any{"version": Version, "edition": catalog.Edition, "go": runtime.Version()})
			}
			_, err := fmt.Fprintf(a.Out, "hgate %s, catalogs of edition %d, %s %s/%s\n", Version, catalog.Edition, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return err
		},
	}
	a.formats(c, "text", "json")
	return c
}
