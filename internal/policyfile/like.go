package policyfile

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"slices"

	"hiddengate/internal/estate"
)

// LoadLike gives what Load would give of files, where another estate was read from files of which most say the same:
// what stands in those it shares with that estate. Its error is that of Load.
func LoadLike(files fs.FS, known *estate.Estate, was fs.FS) (*estate.Estate, error) {
	changed, ok := differing(files, known, was)
	switch {
	case !ok:
		return Load(files)
	case len(changed) == 0:
		return known, nil
	}
	return Reload(was, files, known, changed)
}

// differing lists the files that say something else than those from which an estate was read; ok is false where other
// files would be read, or some can't be.
func differing(files fs.FS, known *estate.Estate, was fs.FS) (changed []string, ok bool) {
	names, err := SourcesOf(known).Now(files)
	if err != nil || !slices.Equal(slices.Sorted(slices.Values(names)), slices.Sorted(slices.Values(FilesOf(known)))) {
		return nil, false
	}
	for _, name := range names {
		same, err := sameContent(files, was, name)
		if err != nil {
			return nil, false
		}
		if !same {
			changed = append(changed, name)
		}
	}
	return changed, true
}

// sameContent says whether a file says the same in two places. What is no file, as a pipe, is not opened: it could wait
// for ever.
func sameContent(one, other fs.FS, name string) (bool, error) {
	for _, files := range []fs.FS{one, other} {
		info, err := fs.Stat(files, name)
		switch {
		case err != nil:
			return false, err
		case !info.Mode().IsRegular():
			return false, errors.New("it is no file")
		}
	}
	a, err := one.Open(name)
	if err != nil {
		return false, err
	}
	defer a.Close()
	b, err := other.Open(name)
	if err != nil {
		return false, err
	}
	defer b.Close()
	var left, right [1 << 16]byte
	for {
		n, errLeft := io.ReadFull(a, left[:])
		m, errRight := io.ReadFull(b, right[:])
		if !bytes.Equal(left[:n], right[:m]) {
			return false, nil
		}
		for _, err := range []error{errLeft, errRight} {
			if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
				return false, err
			}
		}
		if errLeft != nil || errRight != nil {
			return (errLeft == nil) == (errRight == nil), nil
		}
	}
}
