package estate

import (
	"slices"

	"hiddengate/internal/clock"
)

// From gives the estate as it decides from an instant on: what is over by then is left out, and what has begun has no
// start. The rest is shared with e; where nothing is over or has begun, it is e.
func (e *Estate) From(at clock.Instant) *Estate {
	f := passing{e.Zone, at}
	var edits []Edit
	for id, g := range e.Grants {
		switch {
		case f.over(g.Ends):
			edits = append(edits, Drop("grants", id))
		case f.begun(g.Starts):
			one := *g
			one.Starts = nil
			edits = append(edits, Put("grants", &one))
		}
	}
	for id, b := range e.Blocks {
		switch {
		case f.over(b.Ends):
			edits = append(edits, Drop("blocks", id))
		case f.begun(b.Starts):
			one := *b
			one.Starts = nil
			edits = append(edits, Put("blocks", &one))
		}
	}
	for _, r := range e.Roles {
		if !f.over(r.Ends) && !f.begun(r.Starts) {
			continue
		}
		one := *r
		if f.begun(r.Starts) {
			one.Starts = nil
		}
		if f.over(r.Ends) {
			one.Include, one.Allow = nil, nil
		}
		edits = append(edits, Put("roles", &one))
	}
	for section, list := range map[string]map[string]*Subject{"people": e.People, "services": e.Services} {
		for _, s := range list {
			if one := f.subject(s); one != nil {
				edits = append(edits, Put(section, one))
			}
		}
	}
	if edits == nil {
		return e
	}
	return e.With(edits...)
}

// passing is an instant by which something is over, or has begun.
type passing struct {
	zone *clock.Zone
	at   clock.Instant
}

func (p passing) over(m *Moment) bool  { return m != nil && m.OverAt(p.zone, p.at) }
func (p passing) begun(m *Moment) bool { return m != nil && m.BegunAt(p.zone, p.at) }

// subject gives a subject as it is from then on; nil if that is what it was.
func (p passing) subject(s *Subject) *Subject {
	past := func(a Absence) bool { return p.over(a.Ends) }
	if !p.over(s.Ends) && !p.begun(s.Starts) && !slices.ContainsFunc(s.Away, past) {
		return nil
	}
	one := *s
	if p.begun(s.Starts) {
		one.Starts = nil
	}
	if p.over(s.Ends) {
		one.Status, one.Starts, one.Ends = Statuses[3], nil, nil
	}
	one.Away = slices.DeleteFunc(slices.Clone(s.Away), past)
	return &one
}
