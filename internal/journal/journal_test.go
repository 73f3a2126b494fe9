package journal

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var errCut = errors.New("cut off")

// failing lets the calls from one on fail, as if the process had ended there; what is being written may be half there.
type failing struct {
	left int
	half bool
}

func (f *failing) next() error {
	if f.left--; f.left < 0 {
		return errCut
	}
	return nil
}

func (f *failing) mkdir(path string) error {
	if err := f.next(); err != nil {
		return err
	}
	return disk{}.mkdir(path)
}

func (f *failing) write(path string, text []byte, mode fs.FileMode) error {
	if err := f.next(); err != nil {
		if f.half && f.left == -1 {
			_ = os.WriteFile(path, text[:len(text)/2], mode)
		}
		return err
	}
	return disk{}.write(path, text, mode)
}

func (f *failing) rename(from, to string) error {
	if err := f.next(); err != nil {
		return err
	}
	return disk{}.rename(from, to)
}

func (f *failing) remove(path string) error {
	if err := f.next(); err != nil {
		return err
	}
	return disk{}.remove(path)
}

func (f *failing) sync(folder string) error {
	if err := f.next(); err != nil {
		return err
	}
	return disk{}.sync(folder)
}

// workspace writes some files and says how they are to change.
func workspace(t *testing.T) (string, []File) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "more"), 0o755))
	var files []File
	for i := range 3 {
		name := fmt.Sprintf("file%d.yaml", i)
		if i == 1 {
			name = "more/" + name
		}
		old := fmt.Appendf(nil, "old %d\n", i)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), old, 0o640))
		files = append(files, File{name, old, fmt.Appendf(nil, "new %d, and longer\n", i)})
	}
	return dir, append(files, File{Name: "fresh.yaml", New: []byte("new 3\n")})
}

// state reads the files: "old", "new" or "mixed".
func state(t *testing.T, dir string, files []File) string {
	seen := map[string]bool{}
	for _, f := range files {
		text, err := os.ReadFile(filepath.Join(dir, f.Name))
		if errors.Is(err, fs.ErrNotExist) && f.Old == nil {
			text = []byte("old")
		} else {
			require.NoError(t, err)
			if string(text) != string(f.Old) && string(text) != string(f.New) {
				return "torn"
			}
		}
		seen[strings.Fields(string(text))[0]] = true
	}
	if len(seen) > 1 {
		return "mixed"
	}
	for word := range seen {
		return word
	}
	return ""
}

func TestACutOffChangeIsCompletedOrUndone(t *testing.T) {
	outcomes := map[string]int{}
	for _, half := range []bool{false, true} {
		for calls := 0; ; calls++ {
			dir, files := workspace(t)
			cut := &failing{left: calls, half: half}
			err := write(cut, dir, files)
			// The next run may be cut off too, anywhere, before one gets through.
			for again := range 12 {
				_ = recoverWith(&failing{left: again}, dir)
			}
			require.NoError(t, Recover(dir))
			require.NoDirExists(t, filepath.Join(dir, Folder))
			got := state(t, dir, files)
			require.Contains(t, []string{"old", "new"}, got, "after %d calls", calls)
			outcomes[got]++
			if err == nil {
				require.Equal(t, "new", got)
				break
			}
			require.ErrorIs(t, err, errCut)
		}
	}
	require.Greater(t, outcomes["old"], 5)
	require.Greater(t, outcomes["new"], 5)
}

func TestWritingKeepsModesAndLinksAndSeesChanges(t *testing.T) {
	dir, files := workspace(t)
	require.NoError(t, os.Symlink("more/file1.yaml", filepath.Join(dir, "link.yaml")))
	require.NoError(t, Write(dir, []File{{"link.yaml", files[1].Old, files[1].New}}))
	info, err := os.Lstat(filepath.Join(dir, "link.yaml"))
	require.NoError(t, err)
	require.NotZero(t, info.Mode()&fs.ModeSymlink, "the link is still one")
	info, err = os.Stat(filepath.Join(dir, "more/file1.yaml"))
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
	require.ErrorIs(t, Write(dir, files), ErrChanged)
	require.Equal(t, "mixed", state(t, dir, files), "nothing else was written")
	require.NoError(t, os.Remove(filepath.Join(dir, "more/file1.yaml")))
	require.Error(t, Write(dir, files[:2]))
	require.NoDirExists(t, filepath.Join(dir, Folder))
}
