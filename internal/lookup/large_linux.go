package lookup

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

// advise asks for huge pages for the whole ones in a piece of memory. It is only a wish.
func advise(p unsafe.Pointer, size uintptr) {
	skip := -uintptr(p) & (hugePage - 1)
	if size > skip+hugePage {
		_ = unix.Madvise(unsafe.Slice((*byte)(unsafe.Add(p, skip)), (size-skip)&^(hugePage-1)), unix.MADV_HUGEPAGE)
	}
}
