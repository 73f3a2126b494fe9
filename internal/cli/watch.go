package cli

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/spf13/cobra"

	"hiddengate/internal/view"
)

// quietFor is how long a watched workspace must be quiet before it is read again: a save may touch several files.
const quietFor = 150 * time.Millisecond

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
		w, err := fsnotify.NewWatcher()
		if err != nil {
			return outside{err}
		}
		defer w.Close()
		if err := watchBelow(w, dir); err != nil {
			return outside{err}
		}
		longRun()
		for {
			a.again(cmd, args, run)
			if err := changed(a.ctx, w, dir); err != nil {
				if errors.Is(err, context.Canceled) {
					return nil // that is how it ends
				}
				return outside{err}
			}
		}
	}
}

// watchBelow watches a folder and those in it. What begins with a dot is no file of a workspace.
func watchBelow(w *fsnotify.Watcher, dir string) error {
	return filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil && path == dir:
			return err
		case err != nil || !entry.IsDir(): // it has gone meanwhile, or is seen in its folder
			return nil
		case path != dir && strings.HasPrefix(entry.Name(), "."):
			return fs.SkipDir
		}
		return w.Add(path)
	})
}

// changed returns when a file has changed and the workspace has been quiet since. Folders that come are watched too.
func changed(ctx context.Context, w *fsnotify.Watcher, dir string) error {
	var quiet <-chan time.Time // nil until something has changed
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-quiet:
			return nil
		case err := <-w.Errors:
			return err
		case event := <-w.Events:
			if event.Has(fsnotify.Chmod) || strings.HasPrefix(filepath.Base(event.Name), ".") {
				continue
			}
			if event.Has(fsnotify.Create) {
				_ = watchBelow(w, event.Name) // of a file there is nothing to watch
			}
			quiet = time.After(quietFor)
		}
	}
}

// again runs a command once more, and says what is wrong instead of ending.
func (a *app) again(cmd *cobra.Command, args []string, run func(*cobra.Command, []string) error) {
	p := a.page(a.Out)
	p.Line("%s", p.Paint(view.Faint, "── "+a.now().Format("15:04:05")+" ──"))
	a.told(run(cmd, args))
}
