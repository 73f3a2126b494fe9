package target

import (
	"crypto/sha256"
	"encoding/hex"
	"strings"
	"unicode/utf8"

	"hiddengate/internal/estate"
)

var (
	escapes   = strings.NewReplacer("%", "%25", "/", "%2F", "*", "%2A")
	unescapes = strings.NewReplacer("%25", "%", "%2F", "/", "%2A", "*")
)

// Escaped writes a system's name of something as a segment of an address; false if no address can name it.
func Escaped(name string) (string, bool) {
	segment := escapes.Replace(name)
	canonical, err := estate.CanonicalPath(segment)
	return segment, err == nil && canonical == segment
}

// Unescaped gives the name that a segment of an address stands for.
func Unescaped(segment string) string { return unescapes.Replace(segment) }

// PathOf gives the path of an object with some names, one inside the other; false if no address can name it.
func PathOf(names ...string) (string, bool) {
	var segments []string
	for _, name := range names {
		segment, ok := Escaped(name)
		if !ok || strings.EqualFold(names[0], AccountsIn) {
			return "", false
		}
		segments = append(segments, segment)
	}
	return strings.Join(segments, "/"), true
}

// Shortened cuts a name that has more bytes than a system keeps; what is cut ends in a part of the hash of all of it.
func Shortened(name string, most int) string {
	if len(name) <= most {
		return name
	}
	sum := sha256.Sum256([]byte(name))
	end := "~" + hex.EncodeToString(sum[:8])
	cut := name[:most-len(end)]
	for !utf8.ValidString(cut) {
		cut = cut[:len(cut)-1]
	}
	return cut + end
}
