package region

import (
	"slices"

	"hiddengate/internal/clock"
)

// run is the local minutes of the week from first until after, after excluded.
type run struct{ first, after uint16 }

// minutes is a set of local minutes of the week: sorted runs that do not touch.
type minutes []run

var allMinutes = minutes{{0, clock.MinutesOfWeek}}

func (m minutes) has(minute int) bool {
	for _, r := range m {
		if minute < int(r.after) {
			return minute >= int(r.first)
		}
	}
	return false
}

// combine applies op minute by minute.
func (m minutes) combine(op operation, n minutes) minutes {
	var out minutes
	i, j := 0, 0
	for at := 0; at < clock.MinutesOfWeek; {
		inM, endM := m.at(&i, at)
		inN, endN := n.at(&j, at)
		end := min(endM, endN)
		if op.holds(inM, inN) {
			if k := len(out); k > 0 && int(out[k-1].after) == at {
				out[k-1].after = uint16(end)
			} else {
				out = append(out, run{uint16(at), uint16(end)})
			}
		}
		at = end
	}
	return out
}

// at tells whether minute is in m and until which minute that stays so; i is where the last call had come.
func (m minutes) at(i *int, minute int) (bool, int) {
	for *i < len(m) && minute >= int(m[*i].after) {
		*i++
	}
	switch {
	case *i == len(m):
		return false, clock.MinutesOfWeek
	case minute < int(m[*i].first):
		return false, int(m[*i].first)
	}
	return true, int(m[*i].after)
}

// span is the instants from from until to, to excluded, whose local minute is in minutes.
type span struct {
	from, to clock.Instant
	minutes  minutes
}

// times is a set of instants: sorted spans that do not overlap, closed under all operations because an instant
// has one local minute.
type times []span

func (t times) full() bool {
	return len(t) == 1 && t[0].from == clock.Beginning && t[0].to == clock.End && slices.Equal(t[0].minutes, allMinutes)
}

func (t times) has(zone *clock.Zone, at clock.Instant) bool {
	i, _ := slices.BinarySearchFunc(t, at, func(s span, at clock.Instant) int {
		if s.to <= at {
			return -1
		}
		return 1
	})
	if i == len(t) || at < t[i].from {
		return false
	}
	return slices.Equal(t[i].minutes, allMinutes) || t[i].minutes.has(zone.WeekMinute(at))
}

// at gives the minutes in force at an instant and until when they stay so, as minutes.at does.
func (t times) at(i *int, at clock.Instant) (minutes, clock.Instant) {
	for *i < len(t) && at >= t[*i].to {
		*i++
	}
	switch {
	case *i == len(t):
		return nil, clock.End
	case at < t[*i].from:
		return nil, t[*i].from
	}
	return t[*i].minutes, t[*i].to
}

func (t times) combine(op operation, u times) times {
	var out times
	i, j := 0, 0
	for at := clock.Beginning; at < clock.End; {
		inT, endT := t.at(&i, at)
		inU, endU := u.at(&j, at)
		end := min(endT, endU)
		if m := inT.combine(op, inU); len(m) > 0 {
			out = append(out, span{at, end, m})
		}
		at = end
	}
	return out
}

// tidy drops the minutes that do not occur in their span, the spans in which none is left, and the borders that
// separate nothing. What is left is empty only if there is no such instant, and full only if all are.
func (t times) tidy(zone *clock.Zone) times {
	occur := func(from, to clock.Instant) minutes {
		var m minutes
		for _, r := range zone.WeekMinutes(from, to) {
			m = append(m, run{uint16(r[0]), uint16(r[1])})
		}
		return m
	}
	// differ: do a and b disagree on a minute that occurs in the span?
	differ := func(a, b minutes, from, to clock.Instant) bool {
		if slices.Equal(a, b) {
			return false
		}
		return len(a.combine(exclusive, b).combine(both, occur(from, to))) > 0
	}
	// Every instant between Beginning and End belongs to a span here, those with no minutes too.
	var all times
	i := 0
	for at := clock.Beginning; at < clock.End; {
		m, end := t.at(&i, at)
		if len(m) > 0 {
			m = m.combine(both, occur(at, end))
		}
		s := span{at, end, m}
		at = end
		for len(all) > 0 {
			last := all[len(all)-1]
			joined := last.minutes.combine(either, s.minutes)
			if differ(joined, last.minutes, last.from, last.to) || differ(joined, s.minutes, s.from, s.to) {
				break
			}
			s = span{last.from, s.to, joined}
			all = all[:len(all)-1]
		}
		all = append(all, s)
	}
	return slices.DeleteFunc(all, func(s span) bool { return len(s.minutes) == 0 })
}

// first is the earliest instant of t at or after from, if there is one.
func (t times) first(zone *clock.Zone, from clock.Instant) (clock.Instant, bool) {
	for _, s := range t {
		start := max(s.from, from)
		// Two weeks hold every minute that occurs often; past them the minute occurs in the first weeks or never.
		for week := start; week < s.to && week < start+8*7*clock.Day; week += 7 * clock.Day {
			if at, ok := s.minutes.firstIn(zone, week, min(s.to, week+7*clock.Day)); ok {
				return at, true
			}
		}
	}
	return 0, false
}

// firstIn is the earliest instant in [from, to), at most some weeks, whose local minute is in m.
func (m minutes) firstIn(zone *clock.Zone, from, to clock.Instant) (clock.Instant, bool) {
	for _, s := range zone.Stretches(from, to) {
		for at := s.From; at < s.To; {
			i := 0
			in, end := m.at(&i, zone.WeekMinute(at))
			if in {
				return at, true
			}
			// to the beginning of the local minute at which that may change
			wall := at + s.Offset
			at = wall - mod(wall, clock.Minute) + clock.Instant(end-zone.WeekMinute(at))*clock.Minute - s.Offset
		}
	}
	return 0, false
}

func mod(a, b clock.Instant) clock.Instant { return ((a % b) + b) % b }
