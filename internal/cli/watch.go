package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/view"
)

// How often a watched workspace is looked at, and how long it must be quiet before it is read again.
const (
	lookEvery = 300 * time.Millisecond
	quietFor  = 150 * time.Millisecond
)

// watching gives a command --watch: it runs again whenever a file of the workspace is saved, until it is interrupted.
func (a *app) watching(c *cobra.Command) {
	var watch bool
	c.Flags().BoolVar(&watch, "watch", false, "run again whenever a file is saved, until interrupted")
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if !watch {
			return run(cmd, args)
		}
		dir, err := a.folder()
		if err != nil {
			return err
		}
		longRun()
		stop := make(chan os.Signal, 1)
		signal.Notify(stop, os.Interrupt)
		defer signal.Stop(stop)
		for {
			seen := marks(dir)
			a.again(cmd, args, run)
			for now := marks(dir); now == seen; now = marks(dir) {
				select {
				case <-stop:
					return nil
				case <-time.After(lookEvery):
				}
			}
			for last := ""; last != marks(dir); { // a save may touch several files
				last = marks(dir)
				time.Sleep(quietFor)
			}
		}
	}
}

// again runs a command once more, and says what is wrong instead of ending.
func (a *app) again(cmd *cobra.Command, args []string, run func(*cobra.Command, []string) error) {
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Faint, "── "+a.now().Format("15:04:05")+" ──"))
	err := run(cmd, args)
	var answer answered
	var list diagnostic.List
	switch {
	case err == nil, errors.As(err, &answer):
	case errors.As(err, &list):
		page := a.page(a.Err)
		diagnostic.Print(page, list, page.Severity)
	default:
		a.page(a.Err).Line("hgate: %s", err)
	}
}

// marks is other text whenever a file of the workspace, or what is said of it, is another.
func marks(dir string) string {
	var b strings.Builder
	_ = filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if entry.IsDir() && path != dir && strings.HasPrefix(entry.Name(), ".") {
			return fs.SkipDir
		}
		if info, err := entry.Info(); err == nil && !entry.IsDir() {
			fmt.Fprintln(&b, path, info.Size(), info.ModTime().UnixNano())
		}
		return nil
	})
	return b.String()
}
