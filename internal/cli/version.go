package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/catalog"
)

// Version is that of the commit the program was built from, as Go's build information has it: a tag, or a time and the
// beginning of the commit's hash, with +dirty where files differ from it; "unreleased" where it was built without a
// repository.
func Version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok || info.Main.Version == "" || info.Main.Version == "(devel)" {
		return "unreleased"
	}
	return strings.TrimPrefix(info.Main.Version, "v")
}

func versionText() string {
	return fmt.Sprintf("hgate %s, catalogs of edition %d, %s %s/%s\n", Version(), catalog.Edition, runtime.Version(),
		runtime.GOOS, runtime.GOARCH)
}

func (a *app) versionCommand() *cobra.Command {
	c := &cobra.Command{
		Use:     "version",
		Short:   "Print the program's version",
		Example: "  hgate version",
		Args:    takes(0, 0),
		RunE: func(*cobra.Command, []string) error {
			if a.format == "json" {
				return a.json(map[string]any{"version": Version(), "edition": catalog.Edition, "go": runtime.Version()})
			}
			_, err := fmt.Fprint(a.Out, versionText())
			return err
		},
	}
	a.formats(c, "text", "json")
	return c
}
