package change

import (
	"fmt"
	"slices"
	"strings"
)

// Later is what an effect tells of what may come, of which some may be said together with what is there.
type Later struct {
	effect *Effect
	lines  []Line   // by place: of the same subjects, at the same times
	keys   []string // of each line, whom and which times it is about
	taken  []bool
}

// aboutWhom is the same for lines about the same subjects who gain or lose at the same times.
func (l *Line) aboutWhom() string {
	var b strings.Builder
	fmt.Fprint(&b, l.Way, l.OnRequest, l.Was(), "\x00", l.Is())
	for _, s := range l.Subjects {
		b.WriteString("\x00" + s.String())
	}
	return b.String()
}

// Later gives what is told of what may come.
func (e *Effect) Later() *Later {
	out := &Later{effect: e}
	at := map[string]int{}
	for _, l := range e.Coming {
		l.where = e.Places(&l)
		whom := l.aboutWhom()
		full := whom + "\x01" + strings.Join(l.where, "\x00")
		k, known := at[full]
		if !known {
			at[full] = len(out.lines)
			out.lines, out.keys = append(out.lines, l), append(out.keys, whom)
			continue
		}
		one := &out.lines[k]
		one.Operations = slices.Sorted(slices.Values(slices.Concat(one.Operations, l.Operations)))
		one.Piles = slices.Concat(one.Piles, l.Piles)
	}
	out.taken = make([]bool, len(out.lines))
	return out
}

// Take takes what may come under the places of a line, if just the same is told of it as the line tells, and says so.
func (w *Later) Take(l *Line) string {
	if w == nil {
		return ""
	}
	places, whom := w.effect.Places(l), l.aboutWhom()
	for i := range w.lines {
		if w.taken[i] || w.keys[i] != whom || !slices.Equal(w.lines[i].Operations, l.Operations) {
			continue
		}
		if text := andAdded(places, w.lines[i].where); text != "" {
			w.taken[i] = true
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

// Left lists what has not been taken.
func (w *Later) Left() (out []Line) {
	for i, l := range w.lines {
		if !w.taken[i] {
			out = append(out, l)
		}
	}
	return out
}
