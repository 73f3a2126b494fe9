//go:build unix

package private

import (
	"io/fs"
	"os"
	"syscall"
)

// Owner gives the numbers of a file's owner and group; ok is false where the system does not tell them.
func Owner(info fs.FileInfo) (user, group int, ok bool) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, 0, false
	}
	return int(stat.Uid), int(stat.Gid), true
}

func check(info fs.FileInfo) error {
	if user, _, ok := Owner(info); !ok || user != os.Geteuid() || info.Mode().Perm()&0o077 != 0 {
		return ErrOthers
	}
	return nil
}

// Trusted says whether a file or folder belongs to the user or to root.
func Trusted(info fs.FileInfo) bool {
	user, _, ok := Owner(info)
	return ok && (user == os.Geteuid() || user == 0)
}
