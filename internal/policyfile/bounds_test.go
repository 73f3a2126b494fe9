//go:build unix

package policyfile

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// within lets a load take no longer than so long.
func within(t *testing.T, long time.Duration, load func() error) error {
	t.Helper()
	done := make(chan error, 1)
	go func() { done <- load() }()
	select {
	case err := <-done:
		return err
	case <-time.After(long):
		require.FailNow(t, "it hangs")
		return nil
	}
}

// Whatever stands in a workspace, reading it ends, and nothing that looks like a part of it is passed over in silence.
func TestReadingEnds(t *testing.T) {
	chain := func(what string) string {
		var b strings.Builder
		fmt.Fprintf(&b, "%ss:\n  x0: {allow: server.view}\n", what)
		for i := range 4000 {
			fmt.Fprintf(&b, "  x%d: {include: x%d}\n", i+1, i)
		}
		return b.String()
	}
	groups := "groups:\n  x0: {}\n"
	for i := range 4000 {
		groups += fmt.Sprintf("  x%d: {members: group:x%d}\n", i+1, i)
	}
	const settings = "hidden-gate: 1\ninventories: [{people: p.csv}]\n"
	for name, c := range map[string]struct {
		make func(dir string) error
		want string
	}{
		"a chain of roles": {func(dir string) error { return os.WriteFile(dir+"/roles.yaml", []byte(chain("role")), 0o600) },
			"begins a chain of more than 100"},
		"a chain of groups": {func(dir string) error { return os.WriteFile(dir+"/groups.yaml", []byte(groups), 0o600) },
			"begins a chain of more than 100"},
		"many columns": {func(dir string) error {
			return os.WriteFile(dir+"/p.csv", []byte("id"+strings.Repeat(",tag.x", 100_000)), 0o600)
		}, "more than 1000 columns"},
		"a cell without end": {func(dir string) error {
			return os.WriteFile(dir+"/p.csv", []byte("id,name\nana,\""+strings.Repeat("x\n", 4<<20)), 0o600)
		}, "a line has more than 1048576 bytes"},
		"a pipe for a list": {func(dir string) error { return syscall.Mkfifo(dir+"/p.csv", 0o600) }, "it is no file"},
		"a pipe for a file": {func(dir string) error { return syscall.Mkfifo(dir+"/more.yaml", 0o600) },
			"more.yaml: this is no file"},
		"a pipe beside the files": {func(dir string) error { return syscall.Mkfifo(dir+"/notes", 0o600) },
			"notes: this is no file"},
		"a link to a device": {func(dir string) error { return os.Symlink("/dev/zero", dir+"/z.yaml") },
			"leaves the workspace"},
		"another case": {func(dir string) error { return os.WriteFile(dir+"/blocks.YAML", nil, 0o600) },
			"would not be read"},
		"a link to a dot-folder": {func(dir string) error {
			if err := os.Mkdir(dir+"/.hidden", 0o700); err != nil {
				return err
			}
			return os.Symlink(".hidden", dir+"/shown")
		}, "the link points to a folder"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, SettingsFile), []byte(settings), 0o600))
			if !strings.Contains(name, "list") && !strings.Contains(name, "column") && !strings.Contains(name, "cell") {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "p.csv"), []byte("id\nann\n"), 0o600))
			}
			require.NoError(t, c.make(dir))
			root, err := os.OpenRoot(dir)
			require.NoError(t, err)
			defer root.Close()
			err = within(t, 10*time.Second, func() error {
				_, err := Load(root.FS())
				return err
			})
			require.ErrorContains(t, err, c.want)
		})
	}
	dir := t.TempDir()
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, SettingsFile), 0o600))
	require.ErrorContains(t, within(t, 10*time.Second, func() error { _, err := Load(os.DirFS(dir)); return err }),
		"it is no file")
}

// A folder that is held against another may have a pipe where that has a file: it is not waited for.
func TestAPipeIsNotWaitedForWhereFilesAreCompared(t *testing.T) {
	dirs := [2]string{t.TempDir(), t.TempDir()}
	for i, dir := range dirs {
		require.NoError(t, os.WriteFile(filepath.Join(dir, SettingsFile),
			[]byte("hidden-gate: 1\nignore: [p.csv]\ninventories: [{people: p.csv}]\n"), 0o600))
		if i == 0 {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "p.csv"), []byte("id,name\nana,Ana\n"), 0o600))
		} else {
			require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "p.csv"), 0o600))
		}
	}
	was := os.DirFS(dirs[0])
	known, err := Load(was)
	require.NoError(t, err)
	require.ErrorContains(t, within(t, 10*time.Second, func() error {
		_, err := LoadLike(os.DirFS(dirs[1]), known, was)
		return err
	}), "it is no file")
}
