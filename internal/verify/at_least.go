package verify

import (
	"errors"
	"slices"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/region"
)

var atLeast = &Kind{
	Name: "at-least", Doc: "so many people may, by standing grants, at every moment",
	Takes: TakesNumber, Least: 1, Options: []string{"for"}, Standing: true, Together: true,
	find: tooFew,
}

// Week is how far ahead a guarantee of so many people looks that does not say.
const Week = 7 * 24 * time.Hour

// tooFew looks for a resource for which, at some moment, fewer people are left than there must be.
func tooFew(s search) (*violation, error) {
	ahead := s.says.For
	if ahead == 0 {
		ahead = Week
	}
	space := s.cells.Space()
	window := space.Between(s.since, s.since+clock.Instant(ahead/time.Microsecond))
	counts := make([]*counting.Headcount, s.cells.Numbers())
	short := make([]*differing.Pile, s.cells.Numbers()) // those that are, by number
	left := 0
	for _, pile := range s.cells.Piles() {
		counts[pile.Number()] = counting.NewHeadcount(s.cells.Space(), s.says.Count, window)
		short[pile.Number()] = pile
		left++
	}
	moments := map[region.Region]region.Region{}
	var bad error
	try := func(r region.Region, err error) region.Region {
		if err != nil && bad == nil {
			bad = err
		}
		return r
	}
	// One class may have a pile by several operations.
	var class []estate.Principal
	now := make([]region.Region, s.cells.Numbers())
	var touched []int
	settle := func() {
		people := 0
		for _, who := range class {
			if who.Kind == estate.IsPerson {
				people++
			}
		}
		for _, n := range touched {
			if err := counts[n].Add(people, now[n]); err != nil {
				bad = err
			}
			if counts[n].Enough() {
				short[n] = nil
				left--
			}
			now[n] = region.Empty
		}
		touched = touched[:0]
	}
	err := s.cells.Each(s.ctx, s.since, func(a differing.Access) bool {
		if class == nil || a.Subjects[0] != class[0] {
			settle()
			class = a.Subjects
		}
		when, known := moments[a.Possible]
		if !known {
			when = try(space.And(try(space.Times(a.Possible)), window))
			moments[a.Possible] = when
		}
		for _, pile := range a.Piles {
			n := pile.Number()
			if short[n] == nil || now[n] == when || when == region.Empty {
				continue
			}
			if now[n] == region.Empty {
				touched = append(touched, n)
			}
			now[n] = try(space.Or(now[n], when))
		}
		return bad == nil && left > 0
	})
	settle()
	if err == nil {
		err = bad
	}
	if err != nil || left == 0 {
		return nil, err
	}
	n := slices.IndexFunc(short, func(p *differing.Pile) bool { return p != nil })
	moment, err := counts[n].Short()
	if err != nil {
		return nil, err
	}
	w, ok := space.Witness(moment, s.since)
	if !ok {
		return nil, errors.New("no moment was found at which people are short: please report this")
	}
	at, timed := w.Time()
	if !timed {
		at = s.since
	}
	return &violation{short: short[n], at: at}, nil
}
