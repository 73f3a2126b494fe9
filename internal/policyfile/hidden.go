package policyfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/visible"
)

// unreadable gives the byte from which on a text is no UTF-8, or at which it holds a zero byte; -1 if there is none.
func unreadable(text []byte) int {
	if at := bytes.IndexByte(text, 0); at >= 0 {
		return at
	}
	if utf8.Valid(text) {
		return -1
	}
	for at := 0; ; {
		r, size := utf8.DecodeRune(text[at:])
		if r == utf8.RuneError && size == 1 {
			return at
		}
		at += size
	}
}

// hides says what a character that can't be seen does, for an error.
func hides(r rune) string {
	switch {
	case r == 0x2028 || r == 0x2029 || r == 0x85 || r == '\r':
		return "which some readers take for the end of a line and others do not"
	case r == 0x61c || r == 0x200e || r == 0x200f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069:
		return "which turns the direction of the text, so that it looks like another"
	case r < 0x20 || r >= 0x7f && r < 0xa0:
		return "which is a control character"
	}
	return "which nobody sees"
}

// hiddenHelp says what to do about one.
func hiddenHelp(r rune) string {
	escape := fmt.Sprintf("\\u%04x", r)
	if r > 0xffff {
		escape = fmt.Sprintf("\\U%08x", r)
	}
	return fmt.Sprintf(`take it out, or, where it is meant, write "%s" in double quotes`, escape)
}

// watched reports the first character of a stream that can't be seen, and ends the stream there.
type watched struct {
	io.Reader
	r            *reader
	line, column int    // of the next character, from 0
	rest         []byte // of a character that is not whole yet
	began, found bool
	record       int  // bytes since a record of CSV began
	quoted       bool // within quotes of CSV
	csv          bool
}

// errHidden ends a stream about which what is wrong has been said.
var errHidden = errors.New("it is not read further")

func (w *watched) Read(to []byte) (int, error) {
	if w.found {
		return 0, errHidden
	}
	n, err := w.Reader.Read(to)
	text := to[:n]
	if len(w.rest) > 0 {
		text = append(w.rest, text...)
	}
	whole := len(text)
	if err == nil { // what may belong to what comes next waits: a character that is cut, a joiner, and a carriage return
		for whole > 0 && len(text)-whole < 2*utf8.UTFMax && (text[whole-1] >= 0x80 || text[whole-1] == '\r') {
			whole--
		}
	}
	if !w.began && whole > 0 {
		w.began = true
	} else if whole > 0 && bytes.HasPrefix(text, []byte("\ufeff")) { // it is not at the beginning
		return w.fail(text, 0, '\ufeff')
	}
	if at, c, ok := visible.Find(text[:whole]); ok {
		return w.fail(text, at, c)
	}
	w.pass(text[:whole])
	if w.csv && w.long(text[:whole]) {
		w.found = true
		w.r.fail(diagnostic.Position{File: w.r.file, Line: w.line + 1, Column: 1}, "close the quote that is open",
			"a line has more than %d bytes, those in quotes counted", MaxLine)
		return 0, errHidden
	}
	w.rest = append(w.rest[:0:0], text[whole:]...)
	return n, err
}

// long says whether a record of CSV has become longer than a line may be: a cell in quotes goes over lines.
func (w *watched) long(text []byte) bool {
	for len(text) > 0 {
		line, rest, ended := bytes.Cut(text, []byte("\n"))
		w.record += len(line) + 1
		w.quoted = w.quoted != (bytes.Count(line, []byte{'"'})%2 == 1)
		if w.record > MaxLine {
			return true
		}
		if ended && !w.quoted {
			w.record = 0
		}
		text = rest
	}
	return false
}

// pass goes on behind a text.
func (w *watched) pass(text []byte) {
	w.line += bytes.Count(text, []byte("\n"))
	if at := bytes.LastIndexByte(text, '\n'); at >= 0 {
		w.column, text = 0, text[at+1:]
	}
	w.column += utf8.RuneCount(text)
}

func (w *watched) fail(text []byte, at int, c rune) (int, error) {
	w.found = true
	w.pass(text[:at])
	w.r.fail(diagnostic.Position{File: w.r.file, Line: w.line + 1, Column: w.column + 1}, hiddenHelp(c),
		"%s stands here, %s", visible.Name(c), hides(c))
	return 0, errHidden
}
