// Package journal replaces several files of a folder as if at once. What is new is first written beside them and then, once a plan that names it all
// stands on disk, put in place. Whoever comes next completes what a plan says, and throws away what has none.
package journal

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
)

// Folder is where new files wait. It is passed over when a workspace is read, as its name begins with a dot.
const Folder = ".hgate-change"

const planFile = "plan.json"

// File is a file that gets another content. Old is nil if there is none yet.
type File struct {
	Name     string // with slashes, below the folder
	Old, New []byte
}

// plan names what a change puts in place: file 0.new in Folder goes to the first name, and so on.
type plan struct {
	Files []string
}

// ErrChanged says that a file is not what it was when the change was worked out.
var ErrChanged = errors.New("it has changed meanwhile")

// system is the calls on which the order of events hangs. Tests let each of them fail.
type system interface {
	mkdir(path string) error
	write(path string, text []byte, mode fs.FileMode) error // and makes sure that it is on disk
	rename(from, to string) error
	remove(path string) error
	sync(folder string) error
}

// Write puts all files in place, or leaves all as they were. Its error wraps ErrChanged if one is not as Old says.
func Write(dir string, files []File) error {
	unlock, err := lock(dir)
	if err != nil {
		return err
	}
	defer unlock()
	return write(disk{}, dir, files)
}

func write(sys system, dir string, files []File) error {
	if err := recoverWith(sys, dir); err != nil {
		return err
	}
	waiting := filepath.Join(dir, Folder)
	targets := make([]string, len(files))
	modes := make([]fs.FileMode, len(files))
	for i, f := range files {
		target, mode, err := place(dir, f)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		targets[i], modes[i] = target, mode
	}
	if err := sys.mkdir(waiting); err != nil {
		return err
	}
	err := prepare(sys, waiting, files, targets, modes)
	if err != nil { // nothing is in place yet
		_ = discard(sys, waiting)
		return err
	}
	return complete(sys, dir)
}

// prepare writes what is to come, and at last the plan.
func prepare(sys system, waiting string, files []File, targets []string, modes []fs.FileMode) error {
	for i, f := range files {
		if err := sys.write(filepath.Join(waiting, strconv.Itoa(i)+".new"), f.New, modes[i]); err != nil {
			return err
		}
	}
	text, err := json.Marshal(plan{targets})
	if err != nil {
		return err
	}
	if err := sys.write(filepath.Join(waiting, "plan.new"), text, 0o600); err != nil {
		return err
	}
	if err := sys.sync(waiting); err != nil {
		return err
	}
	if err := sys.rename(filepath.Join(waiting, "plan.new"), filepath.Join(waiting, planFile)); err != nil {
		return err
	}
	return sys.sync(waiting)
}

// place finds the file that a name stands for, through links, and sees that it is as it was.
func place(dir string, f File) (string, fs.FileMode, error) {
	path := filepath.Join(dir, filepath.FromSlash(f.Name))
	text, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && f.Old == nil:
		parent, err := filepath.EvalSymlinks(filepath.Dir(path))
		if err != nil {
			return "", 0, err
		}
		path = filepath.Join(parent, filepath.Base(path))
		rel, err := relative(dir, path)
		return rel, 0o644, err
	case err != nil:
		return "", 0, err
	case sha256.Sum256(text) != sha256.Sum256(f.Old):
		return "", 0, ErrChanged
	}
	if path, err = filepath.EvalSymlinks(path); err != nil {
		return "", 0, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return "", 0, err
	}
	rel, err := relative(dir, path)
	return rel, info.Mode().Perm(), err
}

func relative(dir, path string) (string, error) {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return "", err
	}
	if real, err = filepath.Abs(real); err != nil {
		return "", err
	}
	if path, err = filepath.Abs(path); err != nil {
		return "", err
	}
	rel, err := filepath.Rel(real, path)
	if err == nil && !filepath.IsLocal(rel) {
		err = errors.New("it lies outside the workspace")
	}
	return rel, err
}

// complete does what the plan says, as far as it is not done yet.
func complete(sys system, dir string) error {
	waiting := filepath.Join(dir, Folder)
	text, err := os.ReadFile(filepath.Join(waiting, planFile))
	if err != nil {
		return err
	}
	var p plan
	if err := json.Unmarshal(text, &p); err != nil {
		return fmt.Errorf("%s: %w", filepath.Join(waiting, planFile), err)
	}
	folders := map[string]bool{}
	for i, name := range p.Files {
		if !filepath.IsLocal(name) {
			return fmt.Errorf("the plan names %s, which is outside", name)
		}
		from, to := filepath.Join(waiting, strconv.Itoa(i)+".new"), filepath.Join(dir, name)
		if _, err := os.Lstat(from); errors.Is(err, fs.ErrNotExist) {
			continue // it is in place
		}
		if err := sys.rename(from, to); err != nil {
			return err
		}
		folders[filepath.Dir(to)] = true
	}
	for folder := range folders {
		if err := sys.sync(folder); err != nil {
			return err
		}
	}
	return discard(sys, waiting)
}

// discard takes away what waits, the plan first: without it the rest means nothing.
func discard(sys system, waiting string) error {
	if err := sys.remove(filepath.Join(waiting, planFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	entries, err := os.ReadDir(waiting)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if err := sys.remove(filepath.Join(waiting, e.Name())); err != nil {
			return err
		}
	}
	return sys.remove(waiting)
}

// Pending says whether a change was cut off.
func Pending(dir string) bool {
	_, err := os.Lstat(filepath.Join(dir, Folder))
	return err == nil
}

// Recover completes a change that was cut off, or undoes it if it had not got as far as its plan. One that is going on it waits for.
func Recover(dir string) error {
	unlock, err := lock(dir)
	if err != nil {
		return err
	}
	defer unlock()
	return recoverWith(disk{}, dir)
}

func recoverWith(sys system, dir string) error {
	waiting := filepath.Join(dir, Folder)
	if !Pending(dir) {
		return nil
	}
	if _, err := os.Lstat(filepath.Join(waiting, planFile)); errors.Is(err, fs.ErrNotExist) {
		return discard(sys, waiting)
	}
	return complete(sys, dir)
}

// disk is the real system.
type disk struct{}

func (disk) mkdir(path string) error { return os.Mkdir(path, 0o700) }

func (disk) write(path string, text []byte, mode fs.FileMode) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := f.Write(text); err != nil {
		return err
	}
	if err := f.Chmod(mode); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	return f.Close()
}

func (disk) rename(from, to string) error { return os.Rename(from, to) }

func (disk) remove(path string) error { return os.Remove(path) }

func (disk) sync(folder string) error {
	f, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Sync(); err != nil && !errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	return nil
}
