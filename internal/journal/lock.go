package journal

import (
	"context"
	"errors"
	"os"
	"runtime"
	"syscall"
	"time"

	"github.com/gofrs/flock"
)

// locks says that folders can be locked here.
const locks = runtime.GOOS != "windows"

// pause is how long to wait before looking again.
const pause = 20 * time.Millisecond

// A mode says from what a lock keeps others.
type mode int

const (
	whileReading mode = iota // from editing
	whileEditing             // from editing and from reading
)

// lock locks the workspace's folder until unlock is called. Its error is ErrBusy if others do not let it for so long.
func lock(ctx context.Context, root *os.Root, m mode, wait time.Duration) (unlock func(), err error) {
	if !locks {
		return func() {}, nil
	}
	l := flock.New(root.Name(), flock.SetFlag(os.O_RDONLY))
	ctx, cancel := context.WithTimeout(ctx, max(wait, pause/2))
	defer cancel()
	try := l.TryRLockContext
	if m == whileEditing {
		try = l.TryLockContext
	}
	_, err = try(ctx, pause)
	unlock = func() { _ = l.Close() }
	switch {
	case err == nil:
		return unlock, nil
	case errors.Is(err, context.DeadlineExceeded):
		err = ErrBusy
	case errors.Is(err, errors.ErrUnsupported), errors.Is(err, syscall.ENOLCK): // a file system without locks
		return unlock, nil
	}
	unlock()
	return nil, err
}
