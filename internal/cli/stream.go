package cli

import (
	"io"
	"os"
	"runtime/debug"

	"hiddengate/internal/parallel"
)

// stream is where answers go. It remembers that they could not be written, as to a full disk: an answer that is cut off
// must not look like a whole one.
type stream struct {
	io.Writer
	failed error
	begun  bool // something was written
}

func (s *stream) Write(text []byte) (int, error) {
	n, err := s.Writer.Write(text)
	s.begun = s.begun || n > 0
	if err != nil && s.failed == nil {
		s.failed = err
	}
	return n, err
}

// fileOf gives the file to which a writer writes, if it is one.
func fileOf(w io.Writer) (*os.File, bool) {
	for s, ok := w.(*stream); ok; s, ok = w.(*stream) {
		w = s.Writer
	}
	f, ok := w.(*os.File)
	return f, ok
}

// source is what is read from standard input; it remembers that something was.
type source struct {
	io.Reader
	begun bool
}

func (s *source) Read(to []byte) (int, error) {
	s.begun = true
	return s.Reader.Read(to)
}

// lost says whether a fault is of memory that went away: of a cache that is mapped, and was cut off meanwhile.
func lost(fault any) bool {
	if f, ok := fault.(*parallel.Fault); ok {
		fault = f.Value
	}
	_, ok := fault.(interface{ Addr() uintptr }) // as package runtime/debug says of SetPanicOnFault
	return ok
}

// stackOf tells where a fault was.
func stackOf(fault any) []byte {
	if f, ok := fault.(*parallel.Fault); ok {
		return f.Stack
	}
	return debug.Stack()
}
