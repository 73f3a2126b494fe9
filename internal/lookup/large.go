package lookup

import "unsafe"

// Large makes a slice. One that takes many pages asks the system for huge ones: what is found by hash lies all over
// it, and with pages of 4 KiB most finds would wait for the page's own entry in a table too.
func Large[T any](length, capacity int) []T {
	s := make([]T, length, capacity)
	var one T
	if size := uintptr(capacity) * unsafe.Sizeof(one); size >= hugePage {
		advise(unsafe.Pointer(unsafe.SliceData(s)), size)
	}
	return s
}

const hugePage = 2 << 20 // bytes
