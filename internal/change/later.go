package change

import (
	"fmt"
	"slices"
	"strings"
)

// Later is what an effect tells of what may come, of which some may be said together with what is there.
type Later struct {
	effect *Effect
	whoms  []*laterOf
	about  map[string]*laterOf
}

// laterOf is lines about the same subjects at the same times. Their places are named once somebody asks.
type laterOf struct {
	lines  []Line
	from   []int // of each line, its place among all
	merged bool
	taken  []bool
}

// aboutWhom is the same for lines about the same subjects who gain or lose at the same times.
func (l *Line) aboutWhom() string {
	return fmt.Sprint(l.Was(), "\x00", l.Is(), "\x00", l.whoseAccess())
}

// whoseAccess is the same for lines about the same subjects who gain, or lose.
func (l *Line) whoseAccess() string {
	var b strings.Builder
	fmt.Fprint(&b, l.Way, l.OnRequest)
	for _, s := range l.Subjects {
		b.WriteString("\x00" + s.String())
	}
	return b.String()
}

// Later gives what is told of what may come.
func (e *Effect) Later() *Later {
	out := &Later{effect: e, about: map[string]*laterOf{}}
	for i, l := range e.Coming {
		whom := l.aboutWhom()
		of := out.about[whom]
		if of == nil {
			of = &laterOf{}
			out.about[whom], out.whoms = of, append(out.whoms, of)
		}
		of.lines, of.from = append(of.lines, l), append(of.from, i)
	}
	return out
}

// Merged brings lines about what may come together that tell the same of the same places.
func (e *Effect) Merged(lines []Line) []Line {
	out, _ := e.merged(lines)
	return out
}

// merged gives of each line, too, which of the lines is its first.
func (e *Effect) merged(lines []Line) (out []Line, first []int) {
	at := map[string]int{}
	for i, l := range lines {
		l.where = e.Places(&l)
		full := l.aboutWhom() + "\x01" + strings.Join(l.where, "\x00")
		k, known := at[full]
		if !known {
			at[full] = len(out)
			out, first = append(out, l), append(first, i)
			continue
		}
		one := &out[k]
		one.Operations = slices.Sorted(slices.Values(slices.Concat(one.Operations, l.Operations)))
		one.Piles = one.Piles.With(l.Piles)
	}
	return out, first
}

// Take takes what may come under the places of a line, if just the same is told of it as the line tells, and says so.
func (w *Later) Take(l *Line) string {
	if w == nil {
		return ""
	}
	of := w.about[l.aboutWhom()]
	if of == nil {
		return ""
	}
	if !of.merged {
		lines, first := w.effect.merged(of.lines)
		for i, k := range first {
			first[i] = of.from[k]
		}
		of.lines, of.from, of.merged, of.taken = lines, first, true, make([]bool, len(lines))
	}
	places := w.effect.Places(l)
	for i := range of.lines {
		if of.taken[i] || !slices.Equal(of.lines[i].Operations, l.Operations) {
			continue
		}
		if text := andAdded(places, of.lines[i].where); text != "" {
			of.taken[i] = true
			return text
		}
	}
	return ""
}

// andAdded says that whatever is added under some places is meant too, if that is what some texts tell.
func andAdded(places, coming []string) string {
	if slices.Equal(places, []string{EverythingListed}) && slices.Equal(coming, []string{AddedAnywhere}) {
		return ", and " + AddedAnywhere
	}
	if len(places) != len(coming) {
		return ""
	}
	for _, place := range places {
		if strings.Contains(place, " ") || !slices.Contains(coming, AddedUnder(place)) {
			return ""
		}
	}
	if len(places) > 1 {
		return ", and whatever is added under them"
	}
	return ", and whatever is added under it"
}

// Left gives what has not been taken in parts, each about the same subjects who gain, or lose. A part's lines may tell
// the same of the same places.
func (w *Later) Left() (out [][]Line) {
	type placed struct {
		Line
		from int
	}
	var left []placed
	for _, of := range w.whoms {
		for i, l := range of.lines {
			if !of.merged || !of.taken[i] {
				left = append(left, placed{l, of.from[i]})
			}
		}
	}
	slices.SortFunc(left, func(a, b placed) int { return a.from - b.from })
	at := map[string]int{}
	for _, l := range left {
		key := l.whoseAccess()
		i, known := at[key]
		if !known {
			i, at[key] = len(out), len(out)
			out = append(out, nil)
		}
		out[i] = append(out[i], l.Line)
	}
	return out
}
