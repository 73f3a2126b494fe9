//go:build !linux

package lookup

import "unsafe"

func advise(unsafe.Pointer, uintptr) {}
