package verify

import (
	"encoding/binary"
	"errors"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/region"
)

var atLeast = &Kind{
	Name: "at-least", Doc: "so many people may, by standing grants, at every moment",
	Takes: TakesNumber, Least: 1, Options: []string{"for"}, Standing: true, Together: true,
	Missing: true,
	find:    tooFew,
}

// Week is how far ahead a guarantee of so many people looks that does not say.
const Week = 7 * 24 * time.Hour

// tooFew looks for a resource for which, at some moment, fewer people are left than there must be.
func tooFew(s search) (*violation, error) {
	l := newLeft(s)
	var short *differing.Pile
	var moment region.Region
	enough := errors.New("a place was found")
	err := s.cells.ByPile(s.ctx, s.since, func(pile *differing.Pile, on *differing.OnPile) (err error) {
		if moment, err = l.shortOn(pile, on); err == nil && moment != region.Empty {
			short, err = pile, enough
		}
		return err
	})
	if short == nil || !errors.Is(err, enough) {
		return nil, err
	}
	w, ok := s.cells.Space().Witness(moment, s.since)
	if !ok {
		return nil, errors.New("no moment was found at which people are short: please report this")
	}
	at, timed := w.Time()
	if !timed {
		at = s.since
	}
	return &violation{short: short, at: at}, nil
}

// left tells of one pile after another when too few people are left.
type left struct {
	search
	window     region.Region
	there      *differing.Attendance
	operations []uint32
	moments    map[region.Region]region.Region // of a region, its times within the window
	parts      []whileClasses                  // of the pile at hand, who may any of the operations and when
	room       *differing.ClassRoom
	shorts     map[string]region.Region // by what is so of the operations
}

// whileClasses is classes who may something at some times.
type whileClasses struct {
	when    region.Region
	classes differing.ClassSet
}

func newLeft(s search) *left {
	ahead := s.says.For
	if ahead == 0 {
		ahead = Week
	}
	window := s.cells.Space().Between(s.since, s.since+clock.Instant(ahead/time.Microsecond))
	l := &left{search: s, window: window, there: s.cells.NewAttendance(window), room: s.cells.NewRoom(),
		moments: map[region.Region]region.Region{}, shorts: map[string]region.Region{}}
	e := s.cells.Estate()
	for n, name := range s.cells.Names() {
		if s.says.May.Fit(e.Operations[name], e.Edition) {
			l.operations = append(l.operations, uint32(n))
		}
	}
	return l
}

// mostShorts bounds what is remembered.
const mostShorts = 1 << 16

// shortOn gives the moments at which too few people are left on a pile.
func (l *left) shortOn(pile *differing.Pile, on *differing.OnPile) (region.Region, error) {
	var all []*differing.Bands
	var key []byte
	var valid []uint32
	for _, operation := range l.operations {
		if !pile.Valid(operation) {
			continue
		}
		if on.Unhindered(operation, l.enough) {
			return region.Empty, nil
		}
		valid = append(valid, operation)
	}
	for _, operation := range valid {
		bands, err := on.Of(operation)
		if err != nil {
			return region.Empty, err
		}
		all = append(all, bands)
		key = binary.AppendUvarint(key, bands.Serial)
	}
	short, known := l.shorts[string(key)]
	if known {
		return short, nil
	}
	short, err := l.shortOf(all)
	if err != nil {
		return region.Empty, err
	}
	if len(l.shorts) >= mostShorts {
		clear(l.shorts)
	}
	l.shorts[string(key)] = short
	return short, nil
}

// shortOf gives the moments at which too few people may any of some operations.
func (l *left) shortOf(all []*differing.Bands) (region.Region, error) {
	for _, bands := range all {
		for _, band := range bands.List {
			when, err := l.momentsOf(band.Possible)
			if err != nil {
				return region.Empty, err
			}
			if when == l.window && l.enough(band.Classes) {
				return region.Empty, nil
			}
		}
	}
	l.parts = l.parts[:0]
	l.room.Free()
	for _, bands := range all {
		for _, band := range bands.List {
			if err := l.add(band); err != nil {
				return region.Empty, err
			}
		}
	}
	count := counting.NewHeadcount(l.cells.Space(), l.says.Count, l.window)
	l.there.Begin()
	for _, part := range l.parts {
		if err := l.there.Add(part.when, part.classes); err != nil {
			return region.Empty, err
		}
	}
	for _, n := range l.there.Counts {
		if err := count.Add(n.People, n.When); err != nil {
			return region.Empty, err
		}
	}
	return count.Short()
}

// enough says whether enough people of some classes are active at all moments.
func (l *left) enough(classes differing.ClassSet) bool {
	return l.there.Throughout(classes) >= l.says.Count
}

// momentsOf gives the times of a region within the window.
func (l *left) momentsOf(r region.Region) (region.Region, error) {
	when, known := l.moments[r]
	if !known {
		var err error
		space := l.cells.Space()
		if when, err = space.Times(r); err == nil {
			when, err = space.And(when, l.window)
		}
		if err != nil {
			return when, err
		}
		l.moments[r] = when
	}
	return when, nil
}

// add adds who may an operation to those who may others: whoever may several is there at the times of any.
func (l *left) add(band differing.Band) error {
	space := l.cells.Space()
	when, err := l.momentsOf(band.Possible)
	if err != nil || when == region.Empty {
		return err
	}
	rest := l.room.Any()
	copy(rest, band.Classes)
	for i := range l.parts {
		part := l.parts[i]
		if !part.classes.Meets(rest) {
			continue
		}
		either, err := space.Or(part.when, when)
		if err != nil {
			return err
		}
		both := l.room.Any()
		both.SetTo(part.classes, rest)
		rest.DropAll(both)
		if either != part.when {
			part.classes.DropAll(both)
			l.parts = append(l.parts, whileClasses{either, both}) // no class of it is among the rest
		}
	}
	l.parts = append(l.parts, whileClasses{when, rest})
	return nil
}
