//go:build unix

package journal

import (
	"errors"
	"os"
	"syscall"
	"time"
)

// locks says that folders can be locked here.
const locks = true

// pause is how long to wait before looking again.
const pause = 20 * time.Millisecond

// lock keeps others from editing the workspace until unlock is called, and if alone is set from reading it too. Its
// error is ErrBusy if others do not let it for so long.
func lock(root *os.Root, alone bool, wait time.Duration) (unlock func(), err error) {
	f, err := root.Open(".")
	if err != nil {
		return nil, err
	}
	how := syscall.LOCK_SH
	if alone {
		how = syscall.LOCK_EX
	}
	for until := time.Now().Add(wait); ; time.Sleep(pause) {
		err = syscall.Flock(int(f.Fd()), how|syscall.LOCK_NB)
		switch {
		case err == nil, errors.Is(err, errors.ErrUnsupported), errors.Is(err, syscall.ENOLCK):
			return func() { f.Close() }, nil
		case errors.Is(err, syscall.EINTR):
		case !errors.Is(err, syscall.EWOULDBLOCK):
			f.Close()
			return nil, err
		case time.Now().After(until):
			f.Close()
			return nil, ErrBusy
		}
	}
}
