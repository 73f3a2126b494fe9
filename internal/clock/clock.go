// Package clock holds instants, dates and time zones. Its zone data is compiled in, so that the same files
// give the same decision on every host.
package clock

import (
	"fmt"
	"strings"
	"time"
)

// Instant is a moment in microseconds since 1970-01-01T00:00:00Z.
type Instant int64

const (
	// Beginning and End bound every time there is: the years 1 to 9999 of RFC 3339, in UTC. End is excluded.
	Beginning Instant = -62135596800 * Second
	End       Instant = 253402300800 * Second

	// Second, Minute, Hour and Day are lengths in microseconds.
	Second = 1_000_000
	Minute = 60 * Second
	Hour   = 60 * Minute
	Day    = 24 * Hour

	// MinutesOfWeek counts the local minutes of a week; minute 0 begins Monday at 00:00.
	MinutesOfWeek = 7 * 24 * 60
)

// Of cuts t to the microsecond below it.
func Of(t time.Time) Instant { return Instant(t.Unix())*Second + Instant(t.Nanosecond()/1000) }

// Time gives i in UTC.
func (i Instant) Time() time.Time {
	return time.Unix(floorDiv(int64(i), Second), floorMod(int64(i), Second)*1000).UTC()
}

// Date is a day of the proleptic Gregorian calendar.
type Date struct {
	Year  int
	Month int
	Day   int
}

// String gives the date as RFC 3339 writes it.
func (d Date) String() string { return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day) }

// Before is the day before.
func (d Date) Before() Date {
	y, m, day := (d.midnight() - Day).Time().Date()
	return Date{y, int(m), day}
}

// midnight is the first microsecond of the day on a clock that shows UTC.
func (d Date) midnight() Instant {
	return Of(time.Date(d.Year, time.Month(d.Month), d.Day, 0, 0, 0, 0, time.UTC))
}

// ParseDate reads "2031-06-30".
func ParseDate(text string) (Date, error) {
	var d Date
	ok := len(text) == 10 && text[4] == '-' && text[7] == '-'
	if ok {
		var y, m, dd bool
		d.Year, y = digits(text[:4])
		d.Month, m = digits(text[5:7])
		d.Day, dd = digits(text[8:])
		ok = y && m && dd
	}
	if !ok {
		return Date{}, fmt.Errorf("%q is no date; write it as 2031-06-30", text)
	}
	if back := d.midnight().Time(); d.Year < 1 || back.Year() != d.Year || int(back.Month()) != d.Month ||
		back.Day() != d.Day {
		return Date{}, fmt.Errorf("there is no day %s", text)
	}
	return d, nil
}

// ParseTime reads a time of RFC 3339, in which the seconds may be left out, or a local time of the zone without
// an offset. Digits beyond the microsecond are an error. A local time that the clock skips is an error, and so
// is one that occurs twice.
func (z *Zone) ParseTime(text string) (Instant, error) {
	bad := func() (Instant, error) {
		return 0, fmt.Errorf("%q is no time; write it as 2031-12-01T22:00, or with an offset as 2031-12-01T22:00Z", text)
	}
	if len(text) < 16 || (text[10] != 'T' && text[10] != 't') || text[13] != ':' {
		return bad()
	}
	date, err := ParseDate(text[:10])
	if err != nil {
		return bad()
	}
	hour, ok1 := digits(text[11:13])
	minute, ok2 := digits(text[14:16])
	if !ok1 || !ok2 || hour > 23 || minute > 59 {
		return bad()
	}
	wall := date.midnight() + Instant(hour)*Hour + Instant(minute)*Minute
	rest := text[16:]
	if strings.HasPrefix(rest, ":") {
		if len(rest) < 3 {
			return bad()
		}
		second, ok := digits(rest[1:3])
		if !ok || second > 59 {
			return bad()
		}
		wall += Instant(second) * Second
		rest = rest[3:]
		if strings.HasPrefix(rest, ".") {
			n := 1
			for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
				n++
			}
			if n == 1 {
				return bad()
			}
			fraction, _ := digits((rest[1:n] + "000000")[:6])
			wall += Instant(fraction)
			rest = rest[n:]
		}
	}
	switch {
	case rest == "":
		return z.local(wall, text)
	case rest == "Z" || rest == "z":
		return inside(wall, text)
	case len(rest) == 6 && (rest[0] == '+' || rest[0] == '-') && rest[3] == ':':
		h, ok1 := digits(rest[1:3])
		m, ok2 := digits(rest[4:])
		if !ok1 || !ok2 || h > 23 || m > 59 {
			return bad()
		}
		offset := Instant(h)*Hour + Instant(m)*Minute
		if rest[0] == '-' {
			offset = -offset
		}
		return inside(wall-offset, text)
	}
	return bad()
}

func inside(i Instant, text string) (Instant, error) {
	if i < Beginning || i >= End {
		return 0, fmt.Errorf("%s lies outside the years 1 to 9999", text)
	}
	return i, nil
}

// local finds the one instant at which the zone's clocks show wall.
func (z *Zone) local(wall Instant, text string) (Instant, error) {
	found := z.Showing(wall)
	switch len(found) {
	case 1:
		return inside(found[0], text)
	case 0:
		return 0, fmt.Errorf("%s does not exist in %s: the clock skips it", text, z.name)
	}
	return 0, fmt.Errorf("%s occurs twice in %s; add an offset: %s or %s", text, z.name, z.Format(found[0]),
		z.Format(found[1]))
}

// digits reads a number of decimal digits alone.
func digits(text string) (int, bool) {
	n := 0
	for i := range len(text) {
		if text[i] < '0' || text[i] > '9' {
			return 0, false
		}
		n = n*10 + int(text[i]-'0')
	}
	return n, len(text) > 0
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

func floorMod(a, b int64) int64 { return a - floorDiv(a, b)*b }
