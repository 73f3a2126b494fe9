package cli

import (
	"io"
	"os"
)

// stream is where answers go. It remembers that they could not be written, as to a full disk: an answer that is cut off
// must not look like a whole one.
type stream struct {
	io.Writer
	failed error
}

func (s *stream) Write(text []byte) (int, error) {
	n, err := s.Writer.Write(text)
	if err != nil && s.failed == nil {
		s.failed = err
	}
	return n, err
}

// fileOf gives the file to which a writer writes, if it is one.
func fileOf(w io.Writer) (*os.File, bool) {
	if s, ok := w.(*stream); ok {
		w = s.Writer
	}
	f, ok := w.(*os.File)
	return f, ok
}
