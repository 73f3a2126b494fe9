//go:build unix

package journal

import (
	"os"
	"syscall"
)

// lock keeps others from changing the folder until unlock is called.
func lock(dir string) (unlock func(), err error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	for {
		err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX)
		if err != syscall.EINTR {
			break
		}
	}
	if err != nil && err != syscall.ENOTSUP && err != syscall.EOPNOTSUPP && err != syscall.ENOLCK {
		f.Close()
		return nil, err
	}
	return func() { f.Close() }, nil
}
