package trial

import (
	"fmt"
	"strings"

	"hiddengate/internal/estate"
)

// Statement reads a guarantee said in one line, as in `never group:visitors may from change on scope:summit`, and gives it as the value of an entry
// of the files, which their reader judges.
func Statement(text string) (string, error) {
	text = strings.Join(strings.Fields(text), " ")
	kind, rest, _ := strings.Cut(text, " ")
	var parts []string
	put := func(key, value string) { parts = append(parts, key+": "+value) }
	switch estate.GuaranteeKind(kind) {
	case estate.OnlyMay, estate.NeverMay, estate.Apart:
		who, after, ok := strings.Cut(rest, " may ")
		if !ok {
			return "", misread("it does not say what they may")
		}
		put(kind, list(who))
		rest = "may " + after
	case estate.AtLeast, estate.AtMost:
		count, after, ok := strings.Cut(rest, " ")
		if !ok {
			return "", misread("it does not say how many")
		}
		put(kind, count)
		rest = after
	case estate.NeverBoth:
		both, after, ok := strings.Cut(rest, " on ")
		if !ok {
			return "", misread("it does not say where: end with `on PLACE`")
		}
		put(kind, list(strings.ReplaceAll(both, " and ", ", ")))
		rest = "on " + after
	case "may":
		rest = text
	default:
		return "", misread("it begins with none of only, never, at-least, at-most, never-both, apart, may")
	}
	if may, ok := strings.CutPrefix(rest, "may "); ok {
		what, after, ok := strings.Cut(may, " on ")
		if !ok {
			return "", misread("it does not say where: end with `on PLACE`")
		}
		put("may", list(what))
		rest = "on " + after
	}
	where, ok := strings.CutPrefix(rest, "on ")
	if !ok {
		return "", misread(fmt.Sprintf("%q stands where `may` or `on` is expected", rest))
	}
	if before, condition, ok := strings.Cut(where, " requires "); ok {
		where = before
		put("requires", condition)
	} else if kind == "may" {
		return "", misread("it does not say what that requires: end with `requires {mfa: true}` or the like")
	}
	if before, same := strings.CutSuffix(where, " same-resource"); same {
		where = before
		put("same-resource", "true")
	}
	if before, ahead, ok := strings.Cut(where, " for "); ok {
		where = before
		put("for", ahead)
	}
	put("on", list(where))
	return "{" + strings.Join(parts, ", ") + "}", nil
}

func misread(why string) error {
	return fmt.Errorf("%s; it is said as in: never group:visitors may from change on scope:summit", why)
}

// list writes terms between commas as a list of quoted texts; what is in braces stays.
func list(text string) string {
	text = strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(text), "["), "]")
	var out []string
	depth, from := 0, 0
	add := func(term string) {
		if term = strings.TrimSpace(term); term != "" && !strings.HasPrefix(term, "{") {
			term = "'" + strings.ReplaceAll(strings.Trim(term, `"'`), "'", "''") + "'"
		}
		out = append(out, term)
	}
	for i, c := range text {
		switch c {
		case '{', '[':
			depth++
		case '}', ']':
			depth--
		case ',':
			if depth == 0 {
				add(text[from:i])
				from = i + 1
			}
		}
	}
	add(text[from:])
	return "[" + strings.Join(out, ", ") + "]"
}
