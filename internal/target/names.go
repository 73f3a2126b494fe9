package target

import (
	"strings"

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
