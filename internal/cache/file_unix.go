//go:build unix

package cache

import (
	"fmt"
	"io/fs"
	"os"
	"syscall"

	"hiddengate/internal/private"
)

// ownFolder makes the folder if need be, and sees that it is the user's alone.
func ownFolder(path string) error { return private.Folder(path) }

// marksOf is what changes whenever a file does: its size, times, inode and device.
func marksOf(info fs.FileInfo) string {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return fmt.Sprint(info.Size(), " ", info.ModTime().UnixNano())
	}
	return fmt.Sprint(info.Size(), " ", info.ModTime().UnixNano(), " ", changedAt(info).UnixNano(), " ", stat.Ino, " ",
		stat.Dev)
}

// openFile opens a file, and waits for nobody: a pipe would.
func openFile(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
}

// mapped maps a file that is the user's own into memory, which nobody may write to.
func mapped(path string) ([]byte, error) {
	f, err := openFile(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, private.ErrOthers
	}
	if err := private.Check(info); err != nil {
		return nil, err
	}
	return mapFile(f, int(info.Size()))
}

func mapFile(f *os.File, size int) ([]byte, error) {
	if size == 0 {
		return nil, nil
	}
	return syscall.Mmap(int(f.Fd()), 0, size, syscall.PROT_READ, syscall.MAP_PRIVATE|populate)
}
