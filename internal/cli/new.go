package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"hiddengate/internal/policyfile"
	"hiddengate/internal/starter"
)

func (a *app) newCommand() *cobra.Command {
	var demo bool
	c := &cobra.Command{
		Use:   "new [FOLDER]",
		Short: "Start a workspace",
		Long: `Writes a new workspace into a folder (the current one, where left out): files with nothing but
comments, to be filled in, or with --demo the example of the Ternhollow Observatory. It writes over no file.`,
		Example: `  hgate new policy
  hgate new --demo example`,
		Args: takes(0, 1),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveFilterDirs
		},
	}
	c.Flags().BoolVar(&demo, "demo", false, "the example workspace")
	c.RunE = func(_ *cobra.Command, args []string) error {
		dir := "."
		if len(args) > 0 {
			dir = args[0]
		}
		var err error
		if demo {
			err = writeDemo(dir)
		} else {
			err = write(starter.Empty(), dir)
		}
		if err != nil {
			return err
		}
		p := a.page(a.Out)
		p.Line("Wrote a workspace to %s: fill in its files, then run `hgate check`.", dir)
		return nil
	}
	return c
}

// writeDemo writes the demo, with the keys by which its people sign.
func writeDemo(dir string) error {
	if err := write(starter.Demo(), dir); err != nil {
		return err
	}
	if err := starter.WriteKeys(dir); err != nil {
		return outside{err}
	}
	return nil
}

// write writes a workspace to a folder that is in none and has none of its files.
func write(workspace fs.FS, dir string) error {
	full, err := filepath.Abs(dir)
	if err != nil {
		return outside{err}
	}
	for up := filepath.Dir(full); ; up = filepath.Dir(up) {
		if _, err := os.Stat(filepath.Join(up, policyfile.SettingsFile)); err == nil {
			return fmt.Errorf("%s lies inside the workspace %s, and a workspace holds no other; choose a folder outside it", dir,
				up)
		}
		if up == filepath.Dir(up) {
			break
		}
	}
	err = starter.Write(workspace, dir)
	var path *fs.PathError
	if errors.Is(err, fs.ErrExist) && errors.As(err, &path) {
		return fmt.Errorf("%s is there already; nothing was written", path.Path)
	}
	if err != nil {
		return outside{err}
	}
	return nil
}
