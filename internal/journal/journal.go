// Package journal replaces several files of a workspace as if at once.
//
// What is to be done stands in the user's own state folder, as a plan with the old and the new content of each file. It
// is carried out once the plan is on disk, and whoever comes next for the same user completes it. The workspace itself
// holds nothing that anybody obeys: only, while an edit is under way, a file that says so (Mark), and the new files
// beside those that they replace. Nothing is written through a link, into a folder whose name begins with a dot, or
// outside the workspace.
package journal

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"hiddengate/internal/private"
)

// EditNotice is the file in a workspace that says that an edit is under way.
const EditNotice = ".hgate-edit"

const markText = "An edit of this workspace by hgate is under way. If nobody is editing it, it was cut off: whoever " +
	"began it completes\n" +
	"it with the next command. Nothing reads this file; it can be taken away once the files are as they should be.\n"

// File is a file that gets another content. Old is nil if there is none yet.
type File struct {
	Name     string // with slashes, below the folder
	Old, New []byte
}

// What Write and Settle may say.
var (
	ErrChanged = errors.New("it has changed meanwhile")
	ErrBusy    = errors.New("somebody else is editing the workspace")
	ErrOther   = errors.New("an edit of this workspace was cut off, and not by you: whoever began it completes " +
		"it by any command there; if nobody does, see that the files are as they should be, and take " + EditNotice + " away")
	ErrReadOnly = errors.New("it can't be written")
	ErrLink     = errors.New("it is a link, or stands behind one, and nothing is written through a link")
	ErrHidden   = errors.New("its name begins with a dot, and nothing is written there")
	ErrOutside  = errors.New("it lies outside the workspace")
)

// How long Write waits for others, and Settle for an edit that is under way.
const (
	waitToWrite = 30 * time.Second
	waitToRead  = 5 * time.Second
)

// Write puts all files in place, or leaves all as they were. Its error wraps ErrChanged if one is not as Old says.
func Write(ctx context.Context, dir string, files []File) error {
	return write(ctx, disk{}, dir, files)
}

func write(ctx context.Context, sys system, dir string, files []File) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	unlock, err := lock(ctx, root, whileEditing, waitToWrite)
	if err != nil {
		return err
	}
	defer unlock()
	waiting, err := StateOf(dir, "edits")
	if err != nil {
		return fmt.Errorf("what is to be written must first stand in your state folder: %w", err)
	}
	if _, err := settle(sys, root, waiting); err != nil {
		return err
	}
	p := plan{Files: make([]planned, len(files))}
	for i, f := range files {
		if p.Files[i], err = place(root, f); err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
	}
	if err := prepare(sys, waiting, p, files); err != nil { // nothing is in place yet
		return errors.Join(err, discard(sys, waiting))
	}
	return carryOut(sys, root, waiting)
}

// Settle sees to it, before a workspace is read, that no edit is half done: it waits for one that is going on, and
// completes one of the user's own that was cut off, or undoes it. Until release is called nobody edits the workspace.
func Settle(ctx context.Context, dir string) (release func(), completed bool, err error) {
	return settled(ctx, disk{}, dir, waitToRead)
}

func settled(ctx context.Context, sys system, dir string, wait time.Duration) (release func(), completed bool,
	err error) {
	nothing := func() {}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nothing, false, err
	}
	defer root.Close()
	waiting, errState := StateOf(dir, "edits")
	if errState != nil {
		waiting = "" // nothing of the user's own can be unfinished
	}
	for until := time.Now().Add(wait); ; {
		if !hasPlan(waiting) && !noticed(root) {
			release, err := lock(ctx, root, whileReading, time.Until(until))
			if errors.Is(err, ErrBusy) || ctx.Err() != nil {
				return nothing, completed, err
			}
			if err != nil {
				return nothing, completed, nil // it can't be locked: others who can't lock it either are not waited for
			}
			if !noticed(root) {
				return release, completed, nil
			}
			release()
			continue
		}
		unlock, err := lock(ctx, root, whileEditing, time.Until(until))
		if err != nil {
			return nothing, completed, err
		}
		done, err := settle(sys, root, waiting)
		unlock()
		if errors.Is(err, ErrOther) && !locks && time.Now().Before(until) {
			time.Sleep(pause) // where nothing can be locked the mark alone tells
			continue
		}
		if err != nil {
			return nothing, completed, err
		}
		completed = completed || done
	}
}

// settle completes or undoes an edit of the user's own. The workspace is locked.
func settle(sys system, root *os.Root, waiting string) (completed bool, err error) {
	switch {
	case hasPlan(waiting):
		return true, carryOut(sys, root, waiting)
	case noticed(root):
		return false, ErrOther
	case waiting == "":
		return false, nil
	}
	if _, err := os.Lstat(waiting); err == nil { // it had not got as far as its plan
		return false, discard(sys, waiting)
	}
	return false, nil
}

// noticed says whether the workspace says that an edit is under way.
func noticed(root *os.Root) bool {
	_, err := root.Lstat(EditNotice)
	return err == nil
}

// StateOf gives the path at which something of a workspace is kept in the user's state folder, by the workspace's path
// without links. It is not made.
func StateOf(dir, what string) (string, error) {
	state, err := private.State()
	if err != nil {
		return "", err
	}
	real, err := realPath(dir)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256([]byte(real))
	return filepath.Join(state, private.Program, what, hex.EncodeToString(sum[:16])), nil
}

func realPath(dir string) (string, error) {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return "", err
	}
	return filepath.Abs(real)
}

// place sees that a file may be written, and is as it was.
func place(root *os.Root, f File) (planned, error) {
	p := planned{Name: f.Name, Waiting: path.Join(path.Dir(f.Name), ".hgate-"+rand.Text()+".new"), New: sumOf(f.New)}
	if err := writable(root, f.Name); err != nil {
		return p, err
	}
	info, err := root.Lstat(f.Name)
	if errors.Is(err, fs.ErrNotExist) && f.Old == nil {
		p.Fresh = true
		return p, nil
	}
	if err != nil {
		return p, err
	}
	text, err := readFile(root, f.Name)
	if err != nil {
		return p, err
	}
	if f.Old == nil || sumOf(text) != sumOf(f.Old) {
		return p, ErrChanged
	}
	if info.Mode().Perm()&0o222 == 0 {
		return p, ErrReadOnly
	}
	out, err := root.OpenFile(f.Name, os.O_WRONLY, 0)
	if err != nil {
		return p, fmt.Errorf("%w: %w", ErrReadOnly, err)
	}
	out.Close()
	p.Old, p.Mode = sumOf(f.Old), info.Mode().Perm()
	p.Owner, p.Group, p.Owned = private.Owner(info)
	return p, nil
}

// writable sees that a name lies in the workspace, behind no link, and in no folder whose name begins with a dot.
func writable(root *os.Root, name string) error {
	if !fs.ValidPath(name) || name == "." {
		return ErrOutside
	}
	parts := strings.Split(name, "/")
	for i, part := range parts {
		if strings.HasPrefix(part, ".") {
			return ErrHidden
		}
		info, err := root.Lstat(strings.Join(parts[:i+1], "/"))
		switch {
		case errors.Is(err, fs.ErrNotExist) && i == len(parts)-1:
		case err != nil:
			return err
		case info.Mode()&fs.ModeSymlink != 0:
			return ErrLink
		case i == len(parts)-1 && !info.Mode().IsRegular():
			return errors.New("it is no file")
		}
	}
	return nil
}

func sumOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// readFile reads a file that is one: not a link, a pipe or a device.
func readFile(root *os.Root, name string) ([]byte, error) {
	info, err := root.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, errors.New("it is no file")
	}
	return root.ReadFile(name)
}
