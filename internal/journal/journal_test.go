package journal

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var errCut = errors.New("cut off")

// failing lets the calls from one on fail, as if the process had ended there; what is being written may be half there.
type failing struct {
	disk
	left int
	half bool
}

func (f *failing) next() error {
	if f.left--; f.left < 0 {
		return errCut
	}
	return nil
}

func (f *failing) makeFolder(path string) error {
	if err := f.next(); err != nil {
		return err
	}
	return f.disk.makeFolder(path)
}

func (f *failing) keep(path string, text []byte) error {
	if err := f.next(); err != nil {
		if f.half && f.left == -1 {
			_ = os.WriteFile(path, text[:len(text)/2], 0o600)
		}
		return err
	}
	return f.disk.keep(path, text)
}

func (f *failing) keepAs(from, to string) error {
	if err := f.next(); err != nil {
		return err
	}
	return f.disk.keepAs(from, to)
}

func (f *failing) forget(path string) error {
	if err := f.next(); err != nil {
		return err
	}
	return f.disk.forget(path)
}

func (f *failing) mark(root *os.Root) error {
	if err := f.next(); err != nil {
		return err
	}
	return f.disk.mark(root)
}

func (f *failing) write(root *os.Root, as planned, text []byte) error {
	if err := f.next(); err != nil {
		if f.half && f.left == -1 {
			_ = f.disk.write(root, as, text[:len(text)/2])
		}
		return err
	}
	return f.disk.write(root, as, text)
}

func (f *failing) rename(root *os.Root, from, to string) error {
	if err := f.next(); err != nil {
		return err
	}
	return f.disk.rename(root, from, to)
}

func (f *failing) remove(root *os.Root, name string) error {
	if err := f.next(); err != nil {
		return err
	}
	return f.disk.remove(root, name)
}

func (f *failing) sync(root *os.Root, folder string) error {
	if err := f.next(); err != nil {
		return err
	}
	return f.disk.sync(root, folder)
}

// workspace writes some files and says how they are to change. The user's state is in a folder of its own.
func workspace(t *testing.T) (string, []File) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
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

// names lists all files and folders, sorted.
func names(t *testing.T, dir string) (out []string) {
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		out = append(out, strings.TrimPrefix(path, dir))
		return err
	}))
	return out
}

func TestACutOffChangeIsCompletedOrUndone(t *testing.T) {
	outcomes, mixed := map[string]int{}, 0
	for _, half := range []bool{false, true} {
		for calls := 0; ; calls++ {
			dir, files := workspace(t)
			before := names(t, dir)
			err := write(t.Context(), &failing{left: calls, half: half}, dir, files)
			if state(t, dir, files) == "mixed" { // whoever else reads it is told
				mixed++
				own := os.Getenv("XDG_STATE_HOME")
				t.Setenv("XDG_STATE_HOME", t.TempDir())
				_, _, other := settled(t.Context(), disk{}, dir, 0)
				require.ErrorIs(t, other, ErrOther, "after %d calls", calls)
				t.Setenv("XDG_STATE_HOME", own)
			}
			// The next run may be cut off too, anywhere, before one gets through.
			for again := range 12 {
				_, _, _ = settled(t.Context(), &failing{left: again}, dir, time.Second)
			}
			release, _, errSettle := Settle(t.Context(), dir)
			require.NoError(t, errSettle)
			release()
			got := state(t, dir, files)
			require.Contains(t, []string{"old", "new"}, got, "after %d calls", calls)
			if got == "old" {
				require.Equal(t, before, names(t, dir), "nothing is left behind")
			}
			outcomes[got]++
			if err == nil {
				require.Equal(t, "new", got)
				require.Len(t, names(t, dir), len(before)+1)
				break
			}
			require.ErrorIs(t, err, errCut)
		}
	}
	require.Greater(t, outcomes["old"], 5)
	require.Greater(t, outcomes["new"], 5)
	require.Positive(t, mixed)
}

// once lets one rename fail, as one does over a file that is mounted.
type once struct {
	disk
	left int
}

func (o *once) rename(root *os.Root, from, to string) error {
	if o.left--; o.left == -1 {
		return syscall.EBUSY
	}
	return o.disk.rename(root, from, to)
}

func TestWhatCannotBePutInPlaceLeavesAllAsItWas(t *testing.T) {
	for n := range 4 {
		dir, files := workspace(t)
		before := names(t, dir)
		require.ErrorIs(t, write(t.Context(), &once{left: n}, dir, files), syscall.EBUSY)
		require.Equal(t, "old", state(t, dir, files))
		require.Equal(t, before, names(t, dir))
		require.NoError(t, Write(t.Context(), dir, files))
		require.Equal(t, "new", state(t, dir, files))
	}
}

func TestModesStayAndChangesAreSeen(t *testing.T) {
	dir, files := workspace(t)
	require.NoError(t, Write(t.Context(), dir, files[1:2]))
	info, err := os.Stat(filepath.Join(dir, "more/file1.yaml"))
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
	require.ErrorIs(t, Write(t.Context(), dir, files), ErrChanged)
	require.Equal(t, "mixed", state(t, dir, files), "nothing else was written")
	require.NoError(t, os.Remove(filepath.Join(dir, "more/file1.yaml")))
	require.Error(t, Write(t.Context(), dir, files[:2]))
	require.Equal(t, []string{"", "/file0.yaml", "/file2.yaml", "/more"}, names(t, dir))
}

// Whatever stands in a workspace, nothing is written elsewhere.
func TestNothingIsWrittenThroughALinkOrOutside(t *testing.T) {
	outside := t.TempDir()
	secret := filepath.Join(outside, "keys.yaml")
	require.NoError(t, os.WriteFile(secret, []byte("old\n"), 0o644))
	for name, is := range map[string]error{
		"link.yaml": ErrLink, "inner.yaml": ErrLink, "folder/keys.yaml": ErrLink, "around/file0.yaml": ErrLink,
		"../keys.yaml": ErrOutside, "/keys.yaml": ErrOutside,
		".hidden/x.yaml": ErrHidden, "more/.x.yaml": ErrHidden, "locked.yaml": ErrReadOnly, ".": ErrOutside, "": ErrOutside,
	} {
		dir, _ := workspace(t)
		require.NoError(t, os.Symlink(secret, filepath.Join(dir, "link.yaml")))
		require.NoError(t, os.Symlink("file0.yaml", filepath.Join(dir, "inner.yaml")))
		require.NoError(t, os.Symlink(outside, filepath.Join(dir, "folder")))
		require.NoError(t, os.Symlink(".", filepath.Join(dir, "around")))
		require.NoError(t, os.Mkdir(filepath.Join(dir, ".hidden"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "locked.yaml"), []byte("old\n"), 0o444))
		before := names(t, dir)
		for _, old := range [][]byte{[]byte("old\n"), []byte("old 0\n"), nil} {
			require.Error(t, Write(t.Context(), dir, []File{{name, old, []byte("new\n")}}), name)
		}
		old := []byte("old\n")
		if strings.HasPrefix(name, "more/") || strings.HasPrefix(name, ".h") {
			old = nil
		}
		require.ErrorIs(t, Write(t.Context(), dir, []File{{name, old, []byte("new\n")}}), is, name)
		require.Equal(t, before, names(t, dir), name)
		text, err := os.ReadFile(secret)
		require.NoError(t, err)
		require.Equal(t, "old\n", string(text))
	}
	require.Len(t, names(t, outside), 2)
}

// What stands in a workspace is obeyed by nobody: neither a mark nor anything that looks like a plan.
func TestAWorkspaceGivesNoOrders(t *testing.T) {
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "precious"), []byte("mine"), 0o644))
	dir, files := workspace(t)
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, ".hgate-change")))
	require.NoError(t, os.Symlink(filepath.Join(outside, "made"), filepath.Join(dir, EditNotice)))
	before := names(t, dir)
	_, _, err := settled(t.Context(), disk{}, dir, 0)
	require.ErrorIs(t, err, ErrOther)
	require.ErrorIs(t, write(t.Context(), disk{}, dir, files), ErrOther)
	require.Equal(t, before, names(t, dir))
	require.Len(t, names(t, outside), 2)
	require.NoError(t, os.Remove(filepath.Join(dir, EditNotice)))
	require.NoError(t, Write(t.Context(), dir, files))
	require.Len(t, names(t, outside), 2)
}

// The plan of an edit that was cut off names files as they stand now: what has become a link is not written through.
func TestAPlanIsNotFollowedThroughALink(t *testing.T) {
	outside := t.TempDir()
	for calls := range 40 {
		dir, files := workspace(t)
		if write(t.Context(), &failing{left: calls}, dir, files) == nil || state(t, dir, files) != "old" {
			continue
		}
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "more")))
		require.NoError(t, os.Symlink(outside, filepath.Join(dir, "more")))
		require.NoError(t, os.WriteFile(filepath.Join(outside, "file1.yaml"), files[1].Old, 0o644))
		_, _, _ = settled(t.Context(), disk{}, dir, 0)
		text, err := os.ReadFile(filepath.Join(outside, "file1.yaml"))
		require.NoError(t, err)
		require.Equal(t, string(files[1].Old), string(text), "after %d calls", calls)
		require.Len(t, names(t, outside), 2)
	}
}

func TestReadersWaitForAnEditAndEditsForReaders(t *testing.T) {
	if !locks {
		t.Skip("nothing can be locked here")
	}
	dir, files := workspace(t)
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	unlock, err := lock(t.Context(), root, whileEditing, 0)
	require.NoError(t, err)
	_, _, err = settled(t.Context(), disk{}, dir, 0)
	require.ErrorIs(t, err, ErrBusy)
	go func() {
		time.Sleep(50 * time.Millisecond)
		unlock()
	}()
	release, completed, err := Settle(t.Context(), dir)
	require.NoError(t, err)
	require.False(t, completed, "nothing had been cut off")
	again, _, err := Settle(t.Context(), dir)
	require.NoError(t, err, "readers do not wait for one another")
	again()
	go func() {
		time.Sleep(50 * time.Millisecond)
		release()
	}()
	require.NoError(t, Write(t.Context(), dir, files))
}

// Others can write into a state folder that is theirs, so it is not used.
func TestTheStateIsTheUsersAlone(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("whose a folder is is not told here")
	}
	dir, files := workspace(t)
	require.NoError(t, os.Mkdir(filepath.Join(os.Getenv("XDG_STATE_HOME"), "hgate"), 0o777))
	require.NoError(t, os.Chmod(filepath.Join(os.Getenv("XDG_STATE_HOME"), "hgate"), 0o777))
	require.ErrorContains(t, Write(t.Context(), dir, files), "not the user's alone")
	require.Equal(t, "old", state(t, dir, files))
}

// Whatever a plan says, nothing outside of the workspace is written, and no file of it comes to be torn.
func FuzzPlan(f *testing.F) {
	f.Add([]byte(`{"Files":[{"Name":"../outside","Waiting":"x","Fresh":true,` +
		`"New":"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"}]}`))
	f.Add([]byte(`{"Files":[{"Name":"a.yaml","Waiting":"../../x","Old":"","New":"","Mode":511}]}`))
	f.Add([]byte(`{"Files":[{"Name":".git/config","Waiting":".git/hooks/x"}]}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		top := t.TempDir()
		t.Setenv("XDG_STATE_HOME", filepath.Join(top, "state"))
		dir := filepath.Join(top, "ws")
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.yaml"), []byte("old"), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(top, "outside"), []byte("mine"), 0o644))
		waiting, err := StateOf(dir, "edits")
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(waiting, 0o700))
		for name, text := range map[string][]byte{planFile: text, "0.new": []byte("new"), "0.old": []byte("old")} {
			require.NoError(t, os.WriteFile(filepath.Join(waiting, name), text, 0o600))
		}
		release, _, _ := settled(t.Context(), disk{}, dir, 0)
		release()
		got, err := os.ReadFile(filepath.Join(top, "outside"))
		require.NoError(t, err)
		require.Equal(t, "mine", string(got))
		entries, err := os.ReadDir(top)
		require.NoError(t, err)
		require.Len(t, entries, 3)
	})
}
