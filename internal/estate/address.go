package estate

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"hiddengate/internal/visible"
)

// Address is where a resource stands: a system and a canonical path in it, "" for the system itself.
type Address struct{ System, Path string }

// String writes the address as files do.
func (a Address) String() string {
	if a.Path == "" {
		return a.System
	}
	return a.System + ":" + a.Path
}

// Depth is 0 for a system, 1 for what stands directly in it.
func (a Address) Depth() int {
	if a.Path == "" {
		return 0
	}
	return strings.Count(a.Path, "/") + 1
}

// Name is the last segment of the path; "" for a system.
func (a Address) Name() string { return a.Path[strings.LastIndexByte(a.Path, '/')+1:] }

// Parent gives the address that holds a; ok is false for a system.
func (a Address) Parent() (parent Address, ok bool) {
	if a.Path == "" {
		return a, false
	}
	if i := strings.LastIndexByte(a.Path, '/'); i >= 0 {
		return Address{a.System, a.Path[:i]}, true
	}
	return Address{a.System, ""}, true
}

// Compare orders addresses so that a place is followed by all inside it.
func (a Address) Compare(b Address) int {
	if c := strings.Compare(a.System, b.System); c != 0 {
		return c
	}
	return comparePaths(a.Path, b.Path)
}

// Inside says whether a is b or stands in it.
func (a Address) Inside(b Address) bool {
	return a.System == b.System && (b.Path == "" || a.Path == b.Path || strings.HasPrefix(a.Path, b.Path) &&
		a.Path[len(b.Path)] == '/')
}

// ParseAddress reads `system` or `system:path/to/it` and makes it canonical. A wildcard is an error.
func ParseAddress(text string) (Address, error) {
	if a, ok := PlainAddress(text); ok {
		return a, nil
	}
	p, err := ParsePattern(text)
	switch {
	case err != nil:
		return Address{}, err
	case !p.Plain():
		return Address{}, fmt.Errorf("%q has a wildcard where one address is meant; a * in a name is written %%2A", text)
	}
	return p.Address(), nil
}

// PlainAddress reads an address that is canonical as it stands: plain ASCII without escapes. Most are, and it costs
// them no more than a look at each byte.
func PlainAddress(text string) (Address, bool) {
	colon := strings.IndexByte(text, ':')
	system, path := text, ""
	if colon >= 0 {
		if system, path = text[:colon], text[colon+1:]; path == "" {
			return Address{}, false
		}
	}
	if system == "" || len(system) > MaxID || !alphanumeric(system[0]) || reserved[system] {
		return Address{}, false
	}
	for i := range len(system) {
		if c := system[i]; !alphanumeric(c) && c != '.' && c != '_' && c != '-' && c != '@' {
			return Address{}, false
		}
	}
	segment := 0 // where it began
	for i := 0; i <= len(path) && path != ""; i++ {
		if i == len(path) || path[i] == '/' {
			if s := path[segment:i]; s == "" || s == "." || s == ".." {
				return Address{}, false
			}
			segment = i + 1
		} else if c := path[i]; c < ' ' || c > '~' || c == '%' || c == '*' {
			return Address{}, false
		}
	}
	return Address{system, path}, true
}

func alphanumeric(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

// CanonicalPath decodes the percent-escapes of RFC 3986 but those of `/`, `*` and `%`, which stay, in upper case, and
// brings each segment into Unicode's normal form C (Unicode Standard Annex #15).
func CanonicalPath(path string) (string, error) {
	if path == "" {
		return "", fmt.Errorf("the path is empty")
	}
	segments := strings.Split(path, "/")
	for i, s := range segments {
		decoded, err := canonicalSegment(s)
		if err != nil {
			return "", err
		}
		segments[i] = decoded
	}
	return strings.Join(segments, "/"), nil
}

func canonicalSegment(s string) (string, error) {
	if strings.IndexByte(s, '%') >= 0 {
		var b strings.Builder
		for i := 0; i < len(s); i++ {
			if s[i] != '%' {
				b.WriteByte(s[i])
				continue
			}
			if i+2 >= len(s) || unhex(s[i+1]) < 0 || unhex(s[i+2]) < 0 {
				return "", fmt.Errorf("%q has a malformed percent-escape; a %% in a name is written %%25", s)
			}
			c := byte(unhex(s[i+1])<<4 | unhex(s[i+2]))
			if c == '/' || c == '*' || c == '%' {
				fmt.Fprintf(&b, "%%%02X", c)
			} else {
				b.WriteByte(c)
			}
			i += 2
		}
		s = b.String()
	}
	switch {
	case s == "":
		return "", fmt.Errorf("the path has an empty segment")
	case s == "." || s == "..":
		return "", fmt.Errorf("the path has a %q segment; write the whole path", s)
	case !utf8.ValidString(s):
		return "", fmt.Errorf("the path is not valid UTF-8")
	}
	s = norm.NFC.String(s)
	if _, r, ok := visible.Find(s); ok {
		return "", fmt.Errorf("the path has the character %s, which is not to be seen", visible.Name(r))
	}
	if strings.ContainsAny(s, "\t\n\r\ufeff") {
		return "", fmt.Errorf("the path has a control character")
	}
	return s, nil
}

func unhex(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}

// Fold makes letters that differ only in case alike, by Unicode's simple case folding. Escapes stay in upper case.
func Fold(path string) string {
	if strings.IndexFunc(path,
		func(c rune) bool { return c == '%' || c >= unicode.MaxASCII || c >= 'A' && c <= 'Z' }) < 0 {
		return path // most are, and it costs them nothing
	}
	var b strings.Builder
	for i := 0; i < len(path); {
		if path[i] == '%' && i+3 <= len(path) {
			b.WriteString(path[i : i+3])
			i += 3
			continue
		}
		r, n := utf8.DecodeRuneInString(path[i:])
		least := r
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			least = min(least, f)
		}
		b.WriteRune(unicode.ToLower(least))
		i += n
	}
	return b.String()
}
