package verify

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hiddengate/internal/estate"
)

// Statement reads a guarantee said in one line, as in `never group:visitors may from change on scope:summit`, and gives
// it as the value of an entry of the files, which their reader judges.
func Statement(text string) (string, error) {
	text = strings.Join(strings.Fields(text), " ")
	kind, rest, _ := strings.Cut(text, " ")
	var parts []string
	put := func(key, value string) { parts = append(parts, key+": "+value) }
	is := slices.IndexFunc(Kinds, func(k *Kind) bool { return string(k.Name) == kind && k.Takes != TakesCondition })
	switch {
	case kind == "may":
		rest = text
	case is < 0:
		return "", misread("it begins with none of " + strings.Join(beginnings(), ", "))
	case Kinds[is].Takes == TakesSubjects:
		who, after, ok := strings.Cut(rest, " may ")
		if !ok {
			return "", misread("it does not say what they may")
		}
		put(kind, list(who))
		rest = "may " + after
	case Kinds[is].Takes == TakesNumber:
		count, after, ok := strings.Cut(rest, " ")
		if !ok {
			return "", misread("it does not say how many")
		}
		put(kind, count)
		rest = after
	default:
		both, after, ok := strings.Cut(rest, " on ")
		if !ok {
			return "", misread("it does not say where: end with `on PLACE`")
		}
		put(kind, list(strings.ReplaceAll(both, " and ", ", ")))
		rest = "on " + after
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

// beginnings lists the words with which a statement can begin. One that takes a condition begins with what may be done,
// and ends with it.
func beginnings() (out []string) {
	for _, k := range Kinds {
		if k.Takes != TakesCondition {
			out = append(out, string(k.Name))
		}
	}
	return append(out, "may")
}

// Said writes a guarantee as Statement reads it; its condition, if it takes one, in words of the caller's.
func Said(g *estate.Guarantee, condition func(*estate.Condition) string) string {
	on := " on " + terms(g.On)
	if g.SameResource {
		on += " same-resource"
	}
	k := KindOf(g)
	may := " may " + terms(g.May)
	switch {
	case k.WithoutMay:
		may = ""
	case k.Takes == TakesCondition:
		return strings.TrimSpace(may) + on + " requires: " + condition(g.Requires)
	}
	return SaysOf(g, condition) + may + on
}

// SaysOf writes what stands under the key of a guarantee, after the key.
func SaysOf(g *estate.Guarantee, condition func(*estate.Condition) string) string {
	says := string(g.Kind) + " "
	switch KindOf(g).Takes {
	case TakesSubjects:
		return says + terms(g.Subjects)
	case TakesNumber:
		return says + strconv.Itoa(g.Count)
	case TakesOperations:
		var both []string
		for _, t := range g.Both {
			both = append(both, t.String())
		}
		return says + strings.Join(both, " and ")
	}
	return says + condition(g.Requires)
}

func terms[T fmt.Stringer](list []T) string {
	var out []string
	for _, t := range list {
		out = append(out, t.String())
	}
	return strings.Join(out, ", ")
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
