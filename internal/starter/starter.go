// Package starter holds the workspaces that `new` and `demo` write: an empty one with commented examples, and the
// made-up Ternhollow Observatory.
package starter

import (
	"crypto/rand"
	"embed"
	"io/fs"
	"os"
	"path/filepath"
)

//go:embed demo/* empty/*
var files embed.FS

// Demo is the demo workspace.
func Demo() fs.FS { return sub("demo") }

// Empty is a workspace with nothing but comments.
func Empty() fs.FS { return sub("empty") }

func sub(name string) fs.FS {
	inner, err := fs.Sub(files, name)
	if err != nil {
		panic(err) // the folder is embedded above
	}
	return inner
}

// Write puts a workspace into a folder, which it makes if need be. It writes over nothing: its error is
// fs.ErrExist, about the first file that is there already, before it has written any.
func Write(workspace fs.FS, dir string) error {
	names, err := fs.Glob(workspace, "*")
	if err != nil {
		return err
	}
	for _, name := range names {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return &fs.PathError{Op: "write", Path: filepath.Join(dir, name), Err: fs.ErrExist}
		}
	}
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return err
	}
	for _, name := range names {
		text, err := fs.ReadFile(workspace, name)
		if err != nil {
			return err
		}
		if err := writeFile(filepath.Join(dir, name), text); err != nil {
			return err
		}
	}
	return nil
}

// writeFile writes a file as a whole or not at all. The umask takes from its mode what the user wants it to.
func writeFile(path string, text []byte) error {
	next := filepath.Join(filepath.Dir(path), ".new-"+rand.Text())
	f, err := os.OpenFile(next, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if err != nil {
		return err
	}
	defer os.Remove(next) // gone already once it is renamed
	if _, err = f.Write(text); err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	return os.Rename(next, path)
}
