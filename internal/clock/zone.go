package clock

import (
	"archive/zip"
	"bytes"
	_ "embed"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
)

// The IANA time zone database as the Go project packs it; `make zones` takes a newer one.
//
//go:embed zoneinfo.zip
var zoneData []byte

// Zone is a time zone of the IANA database, from the program's own copy.
type Zone struct {
	name string
	loc  *time.Location
}

// UTC is the zone of estates that name none.
var UTC = &Zone{name: "UTC", loc: time.UTC}

// LoadZone finds a zone by its IANA name.
func LoadZone(name string) (*Zone, error) {
	if name == "UTC" {
		return UTC, nil
	}
	archive, err := zip.NewReader(bytes.NewReader(zoneData), int64(len(zoneData)))
	if err != nil {
		return nil, fmt.Errorf("the program's zone data is damaged: %w", err)
	}
	for _, f := range archive.File {
		if f.Name != name || strings.HasSuffix(name, "/") {
			continue
		}
		r, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("the program's zone data is damaged: %w", err)
		}
		defer r.Close()
		data, err := io.ReadAll(r)
		if err != nil {
			return nil, fmt.Errorf("the program's zone data is damaged: %w", err)
		}
		loc, err := time.LoadLocationFromTZData(name, data)
		if err != nil {
			return nil, fmt.Errorf("the program's zone data is damaged: %w", err)
		}
		return &Zone{name: name, loc: loc}, nil
	}
	return nil, fmt.Errorf("there is no time zone %q; use an IANA name such as Atlantic/Azores", name)
}

// ZoneNames lists the zones there are.
func ZoneNames() []string {
	names := []string{"UTC"}
	if archive, err := zip.NewReader(bytes.NewReader(zoneData), int64(len(zoneData))); err == nil {
		for _, f := range archive.File {
			if !strings.HasSuffix(f.Name, "/") && f.Name != "UTC" {
				names = append(names, f.Name)
			}
		}
	}
	slices.Sort(names)
	return names
}

// Name is the zone's IANA name.
func (z *Zone) Name() string { return z.name }

// Offset is what the zone's clocks are ahead of UTC at i.
func (z *Zone) Offset(i Instant) Instant {
	_, seconds := i.Time().In(z.loc).Zone()
	return Instant(seconds) * Second
}

// WeekMinute is the local minute of the week at i, from 0 to MinutesOfWeek-1.
func (z *Zone) WeekMinute(i Instant) int { return weekMinute(i + z.Offset(i)) }

// weekMinute is the minute of the week of a clock face; 1970-01-01 was a Thursday.
func weekMinute(wall Instant) int {
	return int(floorMod(floorDiv(int64(wall), Minute)+3*24*60, MinutesOfWeek))
}

// Format writes i as RFC 3339 in the zone's local time with its offset, without the seconds where there are none.
// An offset of old that has seconds can't be written; then the time is in UTC.
func (z *Zone) Format(i Instant) string {
	t := i.Time()
	if z.Offset(i)%Minute == 0 {
		t = t.In(z.loc)
	}
	switch {
	case i%Second != 0:
		return t.Format("2006-01-02T15:04:05.000000Z07:00")
	case i%Minute != 0:
		return t.Format("2006-01-02T15:04:05Z07:00")
	}
	return t.Format("2006-01-02T15:04Z07:00")
}

// DateOf is the local date at i.
func (z *Zone) DateOf(i Instant) Date {
	y, m, d := i.Time().In(z.loc).Date()
	return Date{y, int(m), d}
}

// A Stretch is a run of time, To excluded, in which the zone keeps one offset.
type Stretch struct{ From, To, Offset Instant }

// Stretches cuts the time between from and to at each change of the zone's offset. Its length grows with the
// number of changes: ask for days or years, not for all of time.
func (z *Zone) Stretches(from, to Instant) []Stretch {
	var out []Stretch
	for at := from; at < to; {
		end := to
		if _, next := at.Time().In(z.loc).ZoneBounds(); !next.IsZero() && Of(next) < to {
			end = Of(next)
		}
		if end <= at { // a bound that does not move on would never end
			end = to
		}
		out = append(out, Stretch{at, end, z.Offset(at)})
		at = end
	}
	return out
}

// Showing gives the instants at which the zone's clocks show wall, a count of microseconds as if wall were UTC:
// none where the clock skips it, two where it is set back over it.
func (z *Zone) Showing(wall Instant) []Instant {
	var found []Instant
	for _, s := range z.Stretches(wall-2*Day, wall+2*Day) {
		if at := wall - s.Offset; at >= s.From && at < s.To && !slices.Contains(found, at) {
			found = append(found, at)
		}
	}
	slices.Sort(found)
	return found
}

// An Interval is the time from From until To, To excluded.
type Interval struct{ From, To Instant }

// Until gives all instants whose local date is d or earlier, as sorted intervals: more than one where the clock
// is set back over midnight.
func (z *Zone) Until(d Date) []Interval {
	next := d.midnight() + Day
	var out []Interval
	add := func(from, to Instant) {
		from, to = max(from, Beginning), min(to, End)
		switch {
		case from >= to:
		case len(out) > 0 && out[len(out)-1].To == from:
			out[len(out)-1].To = to
		default:
			out = append(out, Interval{from, to})
		}
	}
	add(Beginning, next-2*Day)
	for _, s := range z.Stretches(next-2*Day, next+2*Day) {
		add(s.From, min(s.To, next-s.Offset))
	}
	return out
}

// WeekMinutes gives the local minutes of the week that occur between from and to, as sorted runs [first, after);
// all of them for two weeks and more, in which no change of the clock can hide one.
func (z *Zone) WeekMinutes(from, to Instant) [][2]int {
	if to-from >= 15*Day {
		return [][2]int{{0, MinutesOfWeek}}
	}
	var runs [][2]int
	for _, s := range z.Stretches(from, to) {
		length := int(floorDiv(int64(s.To+s.Offset-1), Minute) - floorDiv(int64(s.From+s.Offset), Minute) + 1)
		first := weekMinute(s.From + s.Offset)
		if length >= MinutesOfWeek {
			return [][2]int{{0, MinutesOfWeek}}
		}
		if after := first + length; after <= MinutesOfWeek {
			runs = append(runs, [2]int{first, after})
		} else {
			runs = append(runs, [2]int{first, MinutesOfWeek}, [2]int{0, after - MinutesOfWeek})
		}
	}
	return JoinRuns(runs)
}

// JoinRuns sorts runs [first, after) and joins those that overlap or touch.
func JoinRuns(runs [][2]int) [][2]int {
	slices.SortFunc(runs, func(a, b [2]int) int { return a[0] - b[0] })
	var joined [][2]int
	for _, r := range runs {
		if n := len(joined); n > 0 && r[0] <= joined[n-1][1] {
			joined[n-1][1] = max(joined[n-1][1], r[1])
		} else {
			joined = append(joined, r)
		}
	}
	return joined
}
