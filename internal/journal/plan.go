package journal

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"

	"hiddengate/internal/private"
)

const planFile = "plan.json"

// plan is what an edit does. The contents stand beside it, as 0.old, 0.new and so on.
type plan struct {
	Files []planned
}

// planned is what becomes of one file.
type planned struct {
	Name, Waiting string // where the new content waits in the workspace, beside the file
	Fresh         bool   // there was no file of the name
	Old, New      string // sums of the contents
	Mode          fs.FileMode
	Owned         bool // owner and group are known
	Owner, Group  int
}

// hasPlan says whether a plan stands in a state folder.
func hasPlan(waiting string) bool {
	if waiting == "" {
		return false
	}
	_, err := os.Lstat(filepath.Join(waiting, planFile))
	return err == nil
}

// prepare writes a plan and what belongs to it.
func prepare(sys system, waiting string, p plan, files []File) error {
	if err := sys.makeFolder(waiting); err != nil {
		return err
	}
	for i, f := range files {
		if err := sys.keep(filepath.Join(waiting, strconv.Itoa(i)+".new"), f.New); err != nil {
			return err
		}
		if err := sys.keep(filepath.Join(waiting, strconv.Itoa(i)+".old"), f.Old); err != nil {
			return err
		}
	}
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	next := filepath.Join(waiting, "plan.new")
	if err := sys.keep(next, text); err != nil {
		return err
	}
	return sys.keepAs(next, filepath.Join(waiting, planFile))
}

// carryOut does what the plan says as far as it is not done, or, if something can't be done, undoes what is. The plan
// stays only if neither can be done.
func carryOut(sys system, root *os.Root, waiting string) error {
	text, err := os.ReadFile(filepath.Join(waiting, planFile))
	if err != nil {
		return err
	}
	var p plan
	if err := json.Unmarshal(text, &p); err != nil {
		return fmt.Errorf("%s: %w", filepath.Join(waiting, planFile), err)
	}
	stays := func(err error) error {
		return fmt.Errorf("%w; the edit stays in %s: take that folder away to leave the files as they are", err, waiting)
	}
	if err := p.replace(sys, root, waiting, forward); err != nil {
		if errors.Is(err, ErrChanged) {
			return stays(err)
		}
		if failed := p.replace(sys, root, waiting, back); failed != nil {
			return stays(errors.Join(err, failed))
		}
		return errors.Join(fmt.Errorf("nothing was written: %w", err), p.finish(sys, root, waiting))
	}
	return p.finish(sys, root, waiting)
}

// direction is what replacing does.
type direction int

// The new contents are put in place, or the old ones back.
const (
	forward direction = iota
	back
)

// replace puts the new contents in place, or the old ones back: all wait beside the files before the first comes in its
// place.
func (p *plan) replace(sys system, root *os.Root, waiting string, to direction) error {
	if err := sys.mark(root); err != nil {
		return err
	}
	var left []planned
	for i, f := range p.Files {
		if err := writable(root, f.Name); err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		if err := sys.remove(root, f.Waiting); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		text, err := readFile(root, f.Name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		isOld := f.Fresh && err != nil || !f.Fresh && err == nil && sumOf(text) == f.Old
		isNew := err == nil && sumOf(text) == f.New
		switch {
		case to == forward && isNew, to == back && isOld:
			continue
		case !isOld && !isNew:
			return fmt.Errorf("%s: %w", f.Name, ErrChanged)
		}
		if to == back && f.Fresh {
			if err := sys.remove(root, f.Name); err != nil {
				return err
			}
			continue
		}
		from := strconv.Itoa(i) + ".old"
		if to == forward {
			from = strconv.Itoa(i) + ".new"
		}
		if text, err = os.ReadFile(filepath.Join(waiting, from)); err != nil {
			return err
		}
		if err := sys.write(root, f, text); err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		left = append(left, f)
	}
	folders := map[string]bool{}
	for _, f := range left {
		if err := sys.rename(root, f.Waiting, f.Name); err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		folders[path.Dir(f.Name)] = true
	}
	for folder := range folders {
		if err := sys.sync(root, folder); err != nil {
			return err
		}
	}
	return nil
}

// finish takes away what speaks of the edit, the mark first.
func (p *plan) finish(sys system, root *os.Root, waiting string) error {
	for _, f := range p.Files {
		if err := sys.remove(root, f.Waiting); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if err := sys.remove(root, EditNotice); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return discard(sys, waiting)
}

// discard takes away what waits in the state folder, the plan first: without it the rest means nothing.
func discard(sys system, waiting string) error {
	entries, err := os.ReadDir(waiting)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := sys.forget(filepath.Join(waiting, planFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		if err := sys.forget(filepath.Join(waiting, e.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return sys.forget(waiting)
}

// system is the calls on which the order of events hangs. Tests let each of them fail.
type system interface {
	makeFolder(path string) error        // of the user's state
	keep(path string, text []byte) error // in it, and makes sure that it is on disk
	keepAs(from, to string) error        // likewise
	forget(path string) error            // out of it
	mark(root *os.Root) error            // the workspace
	// beside the file, as the file is: mode, owner and group; and makes sure that it is on disk
	write(*os.Root, planned, []byte) error
	rename(root *os.Root, from, to string) error
	remove(root *os.Root, name string) error
	sync(root *os.Root, folder string) error
}

// disk is the real system.
type disk struct{}

func (disk) makeFolder(path string) error {
	if err := private.Folder(filepath.Dir(filepath.Dir(path))); err != nil {
		return fmt.Errorf("%s: %w", filepath.Dir(filepath.Dir(path)), err)
	}
	return private.Folder(path)
}

func (disk) keep(path string, text []byte) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	return written(f, text)
}

func written(f *os.File, text []byte) error {
	defer f.Close()
	if _, err := f.Write(text); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	return f.Close()
}

func (disk) keepAs(from, to string) error {
	if err := os.Rename(from, to); err != nil {
		return err
	}
	f, err := os.Open(filepath.Dir(to))
	if err != nil {
		return err
	}
	return synced(f)
}

func (disk) forget(path string) error { return os.Remove(path) }

func (disk) mark(root *os.Root) error {
	f, err := root.OpenFile(EditNotice, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return nil // that of this edit, which was cut off
	}
	if err != nil {
		return err
	}
	return written(f, []byte(markText))
}

func (disk) write(root *os.Root, as planned, text []byte) error {
	mode := fs.FileMode(0o600)
	if as.Fresh {
		mode = 0o666 // the umask takes from it what the user wants it to
	}
	f, err := root.OpenFile(as.Waiting, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	if !as.Fresh {
		info, err := f.Stat()
		if err != nil {
			return errors.Join(err, f.Close())
		}
		if user, group, ok := private.Owner(info); ok && as.Owned && (user != as.Owner || group != as.Group) {
			if err := f.Chown(as.Owner, as.Group); err != nil {
				return errors.Join(fmt.Errorf("its owner can't be kept: %w", err), f.Close())
			}
		}
		if err := f.Chmod(as.Mode); err != nil {
			return errors.Join(err, f.Close())
		}
	}
	return written(f, text)
}

func (disk) rename(root *os.Root, from, to string) error { return root.Rename(from, to) }

func (disk) remove(root *os.Root, name string) error { return root.Remove(name) }

func (disk) sync(root *os.Root, folder string) error {
	f, err := root.Open(folder)
	if err != nil {
		return err
	}
	return synced(f)
}

// synced makes sure that what was done in a folder is on disk, where the system can.
func synced(f *os.File) error {
	defer f.Close()
	if err := f.Sync(); err != nil && !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, fs.ErrPermission) {
		return err
	}
	return nil
}
