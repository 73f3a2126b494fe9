// Package visible finds characters that make a text another than it looks, and shows them: controls, characters without
// width, and those that turn the direction of what follows (Unicode Standard Annex #9 and Technical Report #36).
package visible

import (
	"encoding/binary"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// fillers are letters and marks that nobody sees: the grapheme joiner and the fillers of several scripts.
var fillers = map[rune]bool{0x034F: true, 0x115F: true, 0x1160: true, 0x17B4: true, 0x17B5: true, 0x3164: true,
	0xFFA0: true}

// Hidden says whether a character is not to be seen, or changes how others are seen.
func Hidden(r rune) bool {
	if r >= ' ' && r < 0x7f {
		return false
	}
	return r < ' ' || unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) || fillers[r] || r&0xFFFE == 0xFFFE ||
		r >= 0xFDD0 && r <= 0xFDEF
}

// Joiners within words: zero width non-joiner and joiner.
const (
	nonJoiner = '\u200c'
	joiner    = '\u200d'
)

// joins says whether a joiner stands where a script needs one: between two characters that are not of an alphabet
// which never does.
func joins(before, after rune) bool {
	needs := func(r rune) bool {
		return r >= 0x80 && !Hidden(r) && !unicode.In(r, unicode.Latin, unicode.Greek, unicode.Cyrillic, unicode.Zs)
	}
	return needs(before) && needs(after)
}

// Find gives the first hidden character of a text and the byte at which it stands; ok is false if there is none. A tab,
// a line feed and a carriage return before one hide nothing, nor does a joiner where a script needs one, or a byte
// order mark at the very beginning.
func Find[T string | []byte](text T) (at int, r rune, ok bool) {
	for at := 0; at < len(text); {
		if n := plain(text[at:]); n > 0 {
			at += n
			continue
		}
		r, size := decode(text[at:])
		if hides(text, at, r, size) {
			return at, r, true
		}
		at += size
	}
	return 0, 0, false
}

func hides[T string | []byte](text T, at int, r rune, size int) bool {
	switch {
	case !Hidden(r), r == '\t', r == '\n', r == '\uFEFF' && at == 0:
		return false
	case r == '\r':
		return at+1 >= len(text) || text[at+1] != '\n'
	case r == nonJoiner || r == joiner:
		before, _ := utf8.DecodeLastRuneInString(string(text[max(0, at-utf8.UTFMax):at]))
		after, _ := decode(text[at+size:])
		return !joins(before, after)
	}
	return true
}

func decode[T string | []byte](text T) (rune, int) {
	return utf8.DecodeRuneInString(string(text[:min(len(text), utf8.UTFMax)]))
}

// plain counts bytes at the beginning, eight by eight, that are all printable ASCII.
func plain[T string | []byte](text T) int {
	const ones = 0x0101010101010101
	n := 0
	for ; len(text)-n >= 8; n += 8 {
		var word [8]byte
		copy(word[:], text[n:n+8])
		w := binary.LittleEndian.Uint64(word[:])
		if (w|(w-0x20*ones)|(w+ones))&(0x80*ones) != 0 {
			break
		}
	}
	return n
}

// Name writes a character as its code point, as U+202E.
func Name(r rune) string { return fmt.Sprintf("U+%04X", r) }

// Clean shows hidden characters as their code points, as <U+202E>. Tabs and line feeds stay.
func Clean(text string) string {
	if _, _, ok := Find(text); !ok && !strings.HasPrefix(text, "\uFEFF") {
		return text
	}
	var b strings.Builder
	for at, r := range text {
		if size := utf8.RuneLen(r); r == '\uFEFF' || hides(text, at, r, size) {
			b.WriteString("<" + Name(r) + ">")
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// JSON writes what is hidden in a JSON text by its escapes, with the same meaning: outside of ASCII only strings have
// any.
func JSON(text []byte) []byte {
	if _, _, ok := Find(text); !ok {
		return text
	}
	out := make([]byte, 0, len(text)+64)
	for at := 0; at < len(text); {
		r, size := utf8.DecodeRune(text[at:])
		switch {
		case r < 0x80 && r != 0x7f, !hides(text, at, r, size): // a joiner that is needed stays, whatever else there is
			out = append(out, text[at:at+size]...)
		case r > 0xFFFF:
			high, low := utf16.EncodeRune(r)
			out = fmt.Appendf(out, `\u%04x\u%04x`, high, low)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		at += size
	}
	return out
}
