package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// newFile is a file that is not there yet: it is written beside its place, and put there when it is whole.
type newFile struct {
	*os.File
	name string
}

// createFile begins a file that must not be there. Whoever creates it keeps it, and drops it in any case.
func createFile(name string) (*newFile, error) {
	if _, err := os.Lstat(name); err == nil {
		return nil, outside{isThere(name)}
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".hgate-*")
	if err != nil {
		return nil, outside{err}
	}
	return &newFile{f, name}, nil
}

// keep puts the file in its place, unless something has come there.
func (f *newFile) keep() error {
	if err := f.Sync(); err != nil {
		return outside{err}
	}
	if err := f.Close(); err != nil {
		return outside{err}
	}
	err := os.Link(f.Name(), f.name)
	if errors.Is(err, fs.ErrExist) {
		return outside{isThere(f.name)}
	}
	if err != nil { // a file system without links
		err = os.Rename(f.Name(), f.name)
	}
	if err != nil {
		return outside{err}
	}
	return nil
}

// writeFile writes a file that must not be there, as a whole.
func writeFile(name string, text []byte) error {
	path, err := filepath.Abs(name)
	if err != nil {
		return outside{err}
	}
	file, err := createFile(path)
	if err != nil {
		return err
	}
	defer file.drop()
	if _, err := file.Write(text); err != nil {
		return outside{err}
	}
	return file.keep()
}

func isThere(name string) error {
	return fmt.Errorf("%s is there already, and stays as it is: name a new file", name)
}

// drop takes away what was not kept.
func (f *newFile) drop() {
	f.Close()
	os.Remove(f.Name())
}

// replaceFile puts a file in the place of whatever is there, as a whole. Check may refuse it where it stands beside.
func replaceFile(name string, text []byte, check func(beside string) error) error {
	next, err := os.CreateTemp(filepath.Dir(name), ".hgate-*"+filepath.Ext(name))
	if err != nil {
		return outside{err}
	}
	defer os.Remove(next.Name())
	defer next.Close()
	if _, err := next.Write(text); err != nil {
		return outside{err}
	}
	if err := next.Sync(); err != nil {
		return outside{err}
	}
	if check != nil {
		if err := check(next.Name()); err != nil {
			return err
		}
	}
	next.Close() // where files that are open are not renamed
	if err := os.Rename(next.Name(), name); err != nil {
		return outside{err}
	}
	return nil
}
