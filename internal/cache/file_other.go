//go:build unix && !linux

package cache

import (
	"io/fs"
	"time"
)

const populate = 0

// changedAt is when a file last changed.
func changedAt(info fs.FileInfo) time.Time { return info.ModTime() }
