package differing

import (
	"encoding/binary"
	"slices"

	"hiddengate/internal/gate"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// spotOfOne is all by which resources can differ for one subject who can have several sessions.
type spotOfOne struct {
	side, mark, trait, class, facts uint32
	owns                            bool
}

var nothing = &operationTimes{}

// about is a subject, by number on one side, and a pile whose resources it owns or does not.
type about struct {
	side, subject int
	pile          *Pile
	owns          bool
}

// cellsOn works out what a subject may do to the resources of a pile on one side.
func (d *differ) cellsOn(a about) (*operationTimes, error) {
	k, n := a.side, a.subject
	s, at := d.sides[k], &a.pile.looks[k]
	if n < 0 || !at.there || s.Rows.RowOf[n].Active == int32(region.Empty) {
		return nothing, nil
	}
	h := &s.Rows.RowOf[n]
	if h.Flags&unitrow.Separated != 0 {
		one := spotOfOne{uint32(k), at.at.Mark, at.at.Trait, at.at.Class, at.facts, a.owns}
		c, ok := d.known[one]
		if !ok {
			var err error
			if c, err = d.sessions(a); err != nil {
				return nil, err
			}
			d.known[one] = c
		}
		return c, nil
	}
	if h.Steps == 0 && h.Extras == 0 {
		return nothing, nil
	}
	return d.work(a, d.unitsOn(a))
}

// unitsOn lists the units that are in force for a subject on a pile.
func (d *differ) unitsOn(a about) []uint32 {
	k, s, at := a.side, d.sides[a.side], &a.pile.looks[a.side].at
	h := &s.Rows.RowOf[a.subject]
	units := append(d.at[k][:0], d.Pair.covers.Get(d.coverOf(s, s.Rows.At(h, at.Mark)))...)
	alone := len(units)
	if beside := &d.beside[k]; beside.round == d.round {
		units = append(units, beside.on(a.pile.number)...)
	} else if at.Trait > 0 {
		for _, e := range s.Rows.Extras[h.Extra : h.Extra+h.Extras] {
			if s.Places.Traits.Has(at.Trait, int(e.Trait)) {
				units = append(units, s.joint[e.Unit])
			}
		}
	}
	if len(units) > alone {
		slices.Sort(units)
		units = slices.Compact(units)
	}
	d.at[k] = units
	return units
}

// work works out what units come to for a subject on a pile.
func (d *differ) work(a about, units []uint32) (*operationTimes, error) {
	k, n := a.side, a.subject
	s, at, h := d.sides[k], &a.pile.looks[k], &d.sides[k].Rows.RowOf[n]
	if len(units) == 0 {
		return nothing, nil
	}
	key := append(d.key[:0], byte(k))
	key = binary.LittleEndian.AppendUint32(key, at.at.Class)
	key = binary.LittleEndian.AppendUint32(key, uint32(h.Active))
	key = binary.LittleEndian.AppendUint32(key, uint32(len(units)))
	asks := false
	for _, u := range units {
		key = binary.LittleEndian.AppendUint32(key, u)
		asks = asks || s.Space().AsksBelow(d.list[u].region, s.Facts.Fixed)
	}
	if asks {
		key = binary.LittleEndian.AppendUint32(key, at.facts)
		key = append(append(key, 0xff),
			s.All[n].Tags.Name(func(key string) bool { return s.Facts.Same[key] || s.Facts.Subject[key] })...)
		if a.owns {
			key = append(key, 0xfe)
		}
		if d.owners && a.pile.may != nil && d.ownsUntested(s, n) {
			key = append(key, 0xfd)
		}
	}
	d.key = key
	if c, ok := d.cells[string(key)]; ok {
		return c, nil
	}
	var known *region.Context
	if asks {
		known = s.Space().NewContext()
		d.fixFor(known, a)
	}
	out := &operationTimes{}
	for _, o := range d.validOn(s, at.at.Class) {
		when, err := d.when(s, o, units, known)
		if err == nil {
			when, err = s.Space().And(when, region.Region(h.Active))
		}
		if err == nil {
			when, err = d.fromNow(s, when)
		}
		if err != nil {
			return nil, err
		}
		if when != region.Empty {
			out.operations = append(out.operations, o)
			out.when = append(out.when, Cell{when, when})
		}
	}
	d.cells[string(key)] = out
	return out, nil
}

// when is the region in which units give an operation to somebody who is active, with what is known.
func (d *differ) when(s *side, operation uint32, units []uint32, known *region.Context) (region.Region, error) {
	given, taken := d.given[:0], d.taken[:0]
	for _, u := range units {
		one := &d.list[u]
		if !one.has(operation) {
			continue
		}
		r := one.region
		if known != nil {
			r = s.Space().Fix(r, known)
		}
		if one.block {
			taken = append(taken, r)
		} else {
			given = append(given, r)
		}
	}
	d.given, d.taken = given, taken
	return s.Space().Left(given, taken, region.Full)
}

// fromNow leaves out of a region what is over, and remembers what it was a part of.
func (d *differ) fromNow(s *side, all region.Region) (region.Region, error) {
	r, err := s.Space().And(all, d.since, d.inside)
	d.whole[r] = all
	return r, err
}

// sessions works out what a subject may do that can have several sessions.
func (d *differ) sessions(a about) (*operationTimes, error) {
	s, at := d.sides[a.side], a.pile.looks[a.side].at
	who := s.Numbered(a.subject)
	known := s.Space().NewContext()
	d.fixFor(known, a)
	possible, err := s.PossibleSessions(who, nil, nil)
	if err != nil {
		return nil, err
	}
	out := &operationTimes{}
	for _, o := range d.validOn(s, at.Class) {
		c := Cell{region.Full, region.Empty}
		for _, session := range possible {
			r, err := s.AllowedAt(gate.SessionQuery{Subject: who, Operation: d.names[o], At: at, Known: known,
				Roles: session.Roles})
			if err != nil {
				return nil, err
			}
			sure, some, err := s.WhileIn(session, r)
			if err == nil {
				c.Sure, err = s.Space().And(c.Sure, sure)
			}
			if err == nil {
				c.Possible, err = s.Space().Or(c.Possible, some)
			}
			if err != nil {
				return nil, err
			}
		}
		if c.Sure, err = d.fromNow(s, c.Sure); err != nil {
			return nil, err
		}
		if c.Possible, err = d.fromNow(s, c.Possible); err != nil {
			return nil, err
		}
		if c.Possible != region.Empty {
			out.operations, out.when = append(out.operations, o), append(out.when, c)
		}
	}
	return out, nil
}
