// Package private has folders and files that are the user's alone.
package private

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
)

// Program names the folder that the program has in each of the user's folders.
const Program = "hgate"

// ErrOthers says that somebody else owns a folder or file, or may use it.
var ErrOthers = errors.New("it is not the user's alone")

// Folder makes a folder if need be, with those above it, and sees that it is the user's alone. Where the system does
// not tell whose a file is, the folder is made and taken as it is.
func Folder(path string) error {
	if err := os.MkdirAll(path, 0o700); err != nil {
		return err
	}
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return ErrOthers
	}
	return Check(info)
}

// Check sees that a file or folder is the user's, and that nobody else has any right to it.
func Check(info fs.FileInfo) error { return check(info) }

// Writable says whether others than the owner may write a file or folder; where the system does not tell, none may.
func Writable(info fs.FileInfo) bool {
	return runtime.GOOS != "windows" && info.Mode().Perm()&0o022 != 0
}

// State gives the folder in which programs keep what is the user's and outlives a run, by the XDG Base Directory
// Specification; on Windows that for local application data. It is not made.
func State() (string, error) {
	if runtime.GOOS == "windows" {
		return os.UserCacheDir()
	}
	if dir := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(dir) {
		return dir, nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", err
	}
	if !filepath.IsAbs(home) {
		return "", errors.New("the home folder is no absolute path")
	}
	return filepath.Join(home, ".local", "state"), nil
}

// ReadFile reads the first bytes of a regular file, up to so many, that is the user's alone.
func ReadFile(name string, most int64) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no file", name)
	}
	if err := Check(info); err != nil {
		return nil, fmt.Errorf("%s is not taken: %w; do: chmod 600 %s", name, err, name)
	}
	return io.ReadAll(io.LimitReader(f, most))
}
