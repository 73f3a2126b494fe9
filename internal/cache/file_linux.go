package cache

import (
	"io/fs"
	"syscall"
	"time"
)

// populate has the system read all of a file at once.
const populate = syscall.MAP_POPULATE

// changedAt is when a file, or what is said of it, last changed.
func changedAt(info fs.FileInfo) time.Time {
	if stat, ok := info.Sys().(*syscall.Stat_t); ok {
		changed := time.Unix(stat.Ctim.Unix())
		if changed.After(info.ModTime()) {
			return changed
		}
	}
	return info.ModTime()
}
