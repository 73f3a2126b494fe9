package change

import (
	"slices"
	"strings"

	"hiddengate/internal/estate"
)

// Naming is how a sentence names some operations.
type Naming struct {
	// Grave need a second look, the gravest first. They are named whatever Whole says.
	Grave []*estate.Operation
	// Whole are the levels of which all operations that apply are meant.
	Whole []WholeLevel
	// Others are the rest, the highest level first.
	Others []string
	Count  int // all that are meant
}

// WholeLevel is a level with how many operations of it apply, and how many of those are among the grave ones.
type WholeLevel struct {
	Level        estate.Level
	Count, Grave int
}

// What names a line's operations.
func (e *Effect) What(l *Line) Naming {
	return e.naming(l.Operations, l.Piles.Operations(), l.Way == Loses)
}

// Named names the operations of several lines.
func (e *Effect) Named(lines []Line) Naming {
	var all []string
	for i := range lines {
		all = append(all, lines[i].Operations...)
	}
	slices.Sort(all)
	return e.naming(slices.Compact(all), nil, lines[0].Way == Loses)
}

// naming names operations, of those that apply, none of which is named by its level if it is not known what does.
func (e *Effect) naming(names, applying []string, lost bool) (out Naming) {
	of, other := e.After, e.Before
	if lost {
		of, other = other, of
	}
	find := func(name string) *estate.Operation {
		if o := of.Operations[name]; o != nil {
			return o
		}
		return other.Operations[name]
	}
	var in, all [4]int
	for _, name := range applying {
		if o := of.Operations[name]; o != nil {
			all[o.Level]++
		}
	}
	for _, name := range names {
		if o := of.Operations[name]; o != nil {
			in[o.Level]++
		}
	}
	whole := func(l estate.Level) bool { return in[l] > 1 && in[l] == all[l] }
	for level := estate.View; level <= estate.Govern; level++ {
		if whole(level) {
			out.Whole = append(out.Whole, WholeLevel{Level: level, Count: in[level]})
		}
	}
	out.Count = len(names)
	for _, name := range names {
		switch o := find(name); {
		case o != nil && o.Caution() != "":
			out.Grave = append(out.Grave, o)
			for i := range out.Whole {
				if out.Whole[i].Level == o.Level {
					out.Whole[i].Grave++
				}
			}
		case o == nil || of.Operations[name] == nil || !whole(o.Level):
			out.Others = append(out.Others, name)
		}
	}
	slices.SortStableFunc(out.Grave, Graver)
	slices.SortStableFunc(out.Others, func(a, b string) int {
		if find(a) == nil || find(b) == nil {
			return 0
		}
		return int(find(b).Level) - int(find(a).Level)
	})
	return out
}

// Graver orders operations, those first that need a second look most: high-risk ones, then those that decide who else
// may, then those that open more.
func Graver(a, b *estate.Operation) int {
	weight := func(o *estate.Operation) (n int) {
		if o.HighRisk {
			n += 4
		}
		if o.Level == estate.Govern {
			n += 2
		}
		if len(o.Opens) > 0 {
			n++
		}
		return n
	}
	if d := weight(b) - weight(a); d != 0 {
		return d
	}
	return strings.Compare(a.Name, b.Name)
}
