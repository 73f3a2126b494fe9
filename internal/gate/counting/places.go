package counting

import (
	"iter"

	"hiddengate/internal/estate"
)

// Places are resources about which something is asked: those that are listed by their rows, so that none of many has
// to be made, and others that no inventory lists.
type Places struct {
	Rows     []int
	Unlisted []*estate.Resource
}

// PlacesOf gives resources as places, the listed ones first.
func PlacesOf(list ...*estate.Resource) (out Places) {
	for _, r := range list {
		if r.Index < 0 {
			out.Unlisted = append(out.Unlisted, r)
		} else {
			out.Rows = append(out.Rows, r.Index)
		}
	}
	return out
}

// Len counts them.
func (p Places) Len() int { return len(p.Rows) + len(p.Unlisted) }

// Each gives them one by one.
func (p Places) Each(e *estate.Estate) iter.Seq[*estate.Resource] {
	return func(yield func(*estate.Resource) bool) {
		for _, row := range p.Rows {
			if !yield(e.Tree.At(row)) {
				return
			}
		}
		for _, r := range p.Unlisted {
			if !yield(r) {
				return
			}
		}
	}
}
