package target

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/survey"
)

// Rank says which in a system's precedence comes the role by which a holder may do an operation on a place: 1 for the
// first, and 0 if no role of the precedence does.
func (w *Wanted) Rank(h *Holder, operation string, place int) int {
	r := w.resource(place)
	if len(r.System.Precedence) == 0 {
		return 0
	}
	c := w.asked()
	of := survey.Contested{Operation: operation, Resource: r, Context: c, Who: []estate.Principal{h.Subject}}
	all, _, err := survey.Contest(w.Gate, of)
	if err != nil || all[0].Rank >= len(r.System.Precedence) {
		return 0
	}
	return all[0].Rank + 1
}
