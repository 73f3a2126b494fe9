package standin

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Permits are rights by place. A place stands for itself, and with "/*" behind it for what is inside too; "." is the
// stand-in itself, and "*" the stand-in with all that is in it.
type Permits map[string][]string

// Root is how the stand-in itself is written as a place.
const Root = "."

// Covers says whether a place of permits stands for a place.
func Covers(permitted, place string) bool {
	top, inside := strings.CutSuffix(permitted, "*")
	if !inside {
		return permitted == place
	}
	return top == "" || place+"/" == top || strings.HasPrefix(place, top)
}

// Have says whether permits have a right at a place.
func (p Permits) Have(right, place string) bool {
	for at, rights := range p {
		if Covers(at, place) && slices.Contains(rights, right) {
			return true
		}
	}
	return false
}

// Check says what is wrong with permits where there are some rights, and places of some types; nil for nothing.
func (p Permits) Check(whose string, rights []string, types map[string]string) error {
	for _, at := range slices.Sorted(maps.Keys(p)) {
		path := strings.TrimSuffix(at, "/*")
		if at == "*" {
			path = Root
		}
		if types[path] == "" {
			return fmt.Errorf("%s: there is no place %.80q", whose, at)
		}
		for _, right := range p[at] {
			if !slices.Contains(rights, right) {
				return fmt.Errorf("%s: there is no right %.80q", whose, right)
			}
		}
	}
	return nil
}
