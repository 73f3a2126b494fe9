package view

import (
	"fmt"
	"strings"

	"hiddengate/internal/change"
	"hiddengate/internal/estate"
)

// mostOthers is how many operations are named that need no second look before the rest is counted.
const mostOthers = 6

// Operations names operations in a sentence: those that need a second look first, each with why, and never folded.
func (p *Page) Operations(n change.Naming) string {
	out := p.grave(n.Grave)
	for _, w := range n.Whole {
		switch left := w.Count - w.Grave; {
		case w.Grave == 0:
			out = append(out, fmt.Sprintf("all %d %s operations", left, w.Level))
		case left == 1:
			out = append(out, fmt.Sprintf("the one other %s operation", w.Level))
		case left > 1:
			out = append(out, fmt.Sprintf("all %d other %s operations", left, w.Level))
		}
	}
	others := n.Others
	if len(others) > mostOthers+1 {
		others = append(others[:mostOthers:mostOthers],
			fmt.Sprintf("%d more (%d in all)", len(n.Others)-mostOthers, n.Count))
	}
	return And(append(out, others...))
}

// Grave names operations, each with why it needs a second look.
func (p *Page) Grave(list []*estate.Operation) string { return And(p.grave(list)) }

func (p *Page) grave(list []*estate.Operation) (out []string) {
	for _, o := range list {
		words := strings.Fields("(" + o.Caution() + ")")
		for i, word := range words { // each by itself: a line may be broken between them
			words[i] = p.Paint(Risk, word)
		}
		out = append(out, o.Name+" "+strings.Join(words, " "))
	}
	return out
}

// And joins names as a sentence does.
func And(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}
