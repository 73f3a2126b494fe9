package estate

import (
	"fmt"
	"slices"
	"strings"
)

// Pattern covers addresses: `*` is any run of characters in one segment or the system's id, `**` any number of
// segments. It covers what it matches and everything inside that.
type Pattern struct {
	System   string
	Segments []string
	Folded   []string // the segments where letters that differ only in case are alike
}

// ParsePattern reads a pattern and makes it canonical.
func ParsePattern(text string) (Pattern, error) {
	system, path, has := strings.Cut(text, ":")
	if err := CheckID(strings.ReplaceAll(system, "*", "x")); err != nil {
		return Pattern{}, fmt.Errorf("%q is no address: it begins with the id of a system, as in obsdb:sky", text)
	}
	p := Pattern{System: system}
	if !has {
		return p, nil
	}
	path, err := CanonicalPath(path)
	if err != nil {
		return Pattern{}, fmt.Errorf("%q is no address: %w", text, err)
	}
	p.Segments = strings.Split(path, "/")
	for _, s := range p.Segments {
		if strings.Contains(s, "**") && s != "**" {
			return Pattern{}, fmt.Errorf("%q has ** inside a segment; ** stands alone between slashes, * inside a segment", text)
		}
	}
	p.Folded = p.Segments
	if f := Fold(path); f != path {
		p.Folded = strings.Split(f, "/")
	}
	return p, nil
}

// Plain says that the pattern has no wildcard and so is an address.
func (p Pattern) Plain() bool {
	return strings.IndexByte(p.System, '*') < 0 &&
		!slices.ContainsFunc(p.Segments, func(segment string) bool { return strings.IndexByte(segment, '*') >= 0 })
}

// Address gives the address of a plain pattern.
func (p Pattern) Address() Address { return Address{p.System, strings.Join(p.Segments, "/")} }

// Path gives the pattern's segments. fold says that the system's kind ignores case.
func (p Pattern) Path(fold bool) []string {
	if fold {
		return p.Folded
	}
	return p.Segments
}

// String writes the pattern as files do.
func (p Pattern) String() string {
	if len(p.Segments) == 0 {
		return p.System
	}
	return p.System + ":" + strings.Join(p.Segments, "/")
}

// Matches says whether the pattern fits the address itself. fold says that the system's kind ignores case.
func (p Pattern) Matches(a Address, fold bool) bool {
	return Glob(p.System, a.System) && matchPath(p.Path(fold), splitPath(a.Path))
}

// Covers says whether the pattern fits the address or anything it stands in.
func (p Pattern) Covers(a Address, fold bool) bool {
	for ok := true; ok; a, ok = a.Parent() {
		if p.Matches(a, fold) {
			return true
		}
	}
	return false
}

func splitPath(path string) []string {
	if path == "" {
		return nil
	}
	return strings.Split(path, "/")
}

// matchPath walks back to the last ** when a segment does not fit, as Glob does for characters.
func matchPath(pattern, path []string) bool {
	i, j, star, mark := 0, 0, -1, 0
	for j < len(path) {
		switch {
		case i < len(pattern) && pattern[i] == "**":
			star, mark = i, j
			i++
		case i < len(pattern) && Glob(pattern[i], path[j]):
			i++
			j++
		case star >= 0:
			mark++
			i, j = star+1, mark
		default:
			return false
		}
	}
	for i < len(pattern) && pattern[i] == "**" {
		i++
	}
	return i == len(pattern)
}

// Glob says whether the pattern fits the whole text; * is any run of characters, nothing else is special.
func Glob(pattern, text string) bool {
	i, j, star, mark := 0, 0, -1, 0
	for j < len(text) {
		switch {
		case i < len(pattern) && pattern[i] == '*':
			star, mark = i, j
			i++
		case i < len(pattern) && pattern[i] == text[j]:
			i++
			j++
		case star >= 0:
			mark++
			i, j = star+1, mark
		default:
			return false
		}
	}
	return strings.Trim(pattern[i:], "*") == ""
}

// GlobPath says whether the pattern fits the path, segment by segment, ** any number of them.
func GlobPath(pattern, path string) bool { return matchPath(splitPath(pattern), splitPath(path)) }

// Inside says whether all that the pattern can match lies at or in a place, by its leading segments alone.
func (p Pattern) Inside(a Address) bool {
	var path []string
	if a.Path != "" {
		path = strings.Split(a.Path, "/")
	}
	if p.System != a.System || len(p.Segments) < len(path) {
		return false
	}
	for i, s := range path {
		if p.Segments[i] != s || strings.Contains(s, "*") {
			return false
		}
	}
	return true
}

// Top gives the address with which the pattern begins, before its first wildcard; false if it begins with one.
func (p Pattern) Top() (Address, bool) {
	n := 0
	for n < len(p.Segments) && !strings.Contains(p.Segments[n], "*") {
		n++
	}
	return Address{p.System, strings.Join(p.Segments[:n], "/")}, !strings.Contains(p.System, "*")
}
