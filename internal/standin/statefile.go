package standin

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf16"

	"github.com/gofrs/flock"
)

// MostState is how many bytes the state of a stand-in may have.
const MostState = 64 << 20

// Folder is a folder that holds the state of a stand-in, as long as it runs.
type Folder struct {
	dir  string
	lock *flock.Flock
}

// OpenFolder makes a folder if need be, and keeps other stand-ins out of it.
func OpenFolder(dir string) (*Folder, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	info, err := os.Lstat(dir)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() || info.Mode().Perm()&0o077 != 0 && !windows {
		return nil, fmt.Errorf("%s holds passwords, and has to be a folder that is yours alone (mode 0700)", dir)
	}
	f := &Folder{dir: dir, lock: flock.New(filepath.Join(dir, "lock"))}
	if ok, err := f.lock.TryLock(); err != nil {
		return nil, err
	} else if !ok {
		return nil, fmt.Errorf("another stand-in runs in %s", dir)
	}
	return f, nil
}

// Close lets go of the folder.
func (f *Folder) Close() error { return f.lock.Close() }

// Path names a file of the folder.
func (f *Folder) Path(name string) string { return filepath.Join(f.dir, name) }

// Read reads a file; false if there is none.
func (f *Folder) Read(name string) ([]byte, bool, error) {
	file, err := os.Open(f.Path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	defer file.Close()
	out, err := io.ReadAll(io.LimitReader(file, MostState+1))
	if err == nil && len(out) > MostState {
		err = fmt.Errorf("%s is too big", file.Name())
	}
	return out, err == nil, err
}

// Write puts a file in place at once, readable by its owner alone; it outlives whatever happens to the program.
func (f *Folder) Write(name string, text []byte) error {
	temp, err := os.CreateTemp(f.dir, ".next-*")
	if err != nil {
		return err
	}
	defer os.Remove(temp.Name())
	defer temp.Close()
	if _, err := temp.Write(text); err != nil {
		return err
	}
	if err := temp.Sync(); err != nil {
		return err
	}
	if err := temp.Close(); err != nil {
		return err
	}
	if err := os.Rename(temp.Name(), f.Path(name)); err != nil || windows {
		return err
	}
	dir, err := os.Open(f.dir)
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Sync()
}

// Strictly reads JSON that has the fields of a value and nothing else.
func Strictly(text []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return errors.New("something follows the value")
	}
	return nil
}

// ASCII writes JSON with no character in it that a terminal could take for something else.
func ASCII(text []byte) string {
	var out strings.Builder
	for _, c := range string(text) {
		switch {
		case c < 0x7f:
			out.WriteRune(c)
		case c < 0x10000:
			fmt.Fprintf(&out, "\\u%04x", c)
		default:
			high, low := utf16.EncodeRune(c)
			fmt.Fprintf(&out, "\\u%04x\\u%04x", high, low)
		}
	}
	return out.String()
}
