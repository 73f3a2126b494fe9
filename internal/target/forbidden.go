package target

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/verify"
)

// Forbidden is that a system gives an operation to everybody who gets in, and a test or a guarantee forbids it to
// somebody who does.
type Forbidden struct {
	By        string // the test or guarantee
	Subject   estate.Principal
	Operation string
	Place     int // the first on which it is so
}

// Forbidden lists, of each test and guarantee, what it forbids of what the system gives to everybody who gets in.
func (w *Wanted) Forbidden() (out []Forbidden) {
	inside := map[estate.Principal]bool{}
	var who []estate.Principal
	for _, h := range w.Holders {
		if !inside[h.Subject] && w.getsIn(h) {
			inside[h.Subject] = true
			who = append(who, h.Subject)
		}
	}
	if len(who) == 0 {
		return nil
	}
	given := w.toEverybody()
	look := func(by string, subject estate.Principal, covers func(place int) bool, fits func(*estate.Operation) bool) {
		told := map[string]bool{}
		for _, one := range given {
			if !told[one.operation.Name] && fits(one.operation) && covers(one.place) {
				told[one.operation.Name] = true
				out = append(out, Forbidden{by, subject, one.operation.Name, one.place})
			}
		}
	}
	e := w.Gate.Estate()
	in := func(list estate.Resources) func(place int) bool {
		return func(place int) bool { return w.Gate.Covers(list, w.resource(place)) }
	}
	for _, t := range estate.Sorted(e.Tests) {
		for _, denied := range t.Denied {
			for _, p := range w.Gate.Members(t.Who) {
				if inside[p] {
					look("test "+t.ID, p, in(estate.Resources{denied.Place}),
						func(o *estate.Operation) bool { return denied.Operation.Fits(o, e.Edition) })
					break
				}
			}
		}
		for _, rule := range t.Levels {
			for _, p := range w.Gate.Members(estate.Subjects{{Principal: rule.Subject}}) {
				if inside[p] {
					look("test "+t.ID, p, in(estate.Resources{rule.Place}),
						func(o *estate.Operation) bool { return rule.None || o.Level > rule.Level })
					break
				}
			}
		}
	}
	for _, says := range estate.Sorted(e.Guarantees) {
		p, forbids := verify.Forbids(w.Gate, says, who)
		if !forbids {
			continue
		}
		look("guarantee "+says.ID, p, in(says.On), func(o *estate.Operation) bool { return says.May.Fit(o, e.Edition) })
	}
	return out
}

// getsIn says whether somebody has to have the right by which a system lets them in.
func (w *Wanted) getsIn(h *Holder) bool {
	for place := range w.State.Places {
		if w.State.Places[place].Path == "" {
			return w.Mask(h, place)&1 != 0
		}
	}
	return false
}

// givenToEverybody is an operation on a place that a system gives to everybody who gets in.
type givenToEverybody struct {
	operation *estate.Operation
	place     int
}

func (w *Wanted) toEverybody() (out []givenToEverybody) {
	offer := w.Gate.Estate().Offer(w.Gate.Estate().Systems[w.System].Kind.ID)
	for place := range w.State.Places {
		if p := &w.State.Places[place]; w.Listed(place) && p.Class == nil {
			for _, o := range offer.On(p.Type) {
				if w.Carries.everybody(o.Name, p) {
					out = append(out, givenToEverybody{o, place})
				}
			}
		}
	}
	return out
}
