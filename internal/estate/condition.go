package estate

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"hiddengate/internal/clock"
)

// Condition is what must hold of a request: all that is said of it.
type Condition struct {
	Facts    []FactTerm // each fact once
	Network  []netip.Prefix
	Hours    []Hours
	Context  []Match
	Subject  []Match
	Resource []Match
	Same     []string
	Owner    *bool
	Any      []Condition
	Not      *Condition
}

// Each visits a condition and all that it is made of, whatever is negated; none for nil.
func (c *Condition) Each(visit func(*Condition)) {
	if c == nil {
		return
	}
	visit(c)
	c.Not.Each(visit)
	for i := range c.Any {
		c.Any[i].Each(visit)
	}
}

// ParsePrefix reads a CIDR of IPv4 or IPv6. Host bits are an error.
func ParsePrefix(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		if a, e := netip.ParseAddr(text); e == nil {
			return p, fmt.Errorf("%q has no length; write %s/%d for that address alone", text, text, a.BitLen())
		}
		return p, fmt.Errorf("%q is no network; write it as 10.40.0.0/16 or 2001:db8::/32", text)
	}
	if p.Masked() != p {
		return p, fmt.Errorf("%q has host bits; the network is %s", text, p.Masked())
	}
	return p, nil
}

// ParseAddr reads the address a request comes from. Mapped addresses are IPv4; a zone is an error.
func ParseAddr(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, fmt.Errorf("%q is no address of a network; write it as 10.40.3.7 or 2001:db8::7", text)
	}
	return a.Unmap(), nil
}

// Hours is a time of day on some days. Days count from Monday, 0; To is at most 24*60, and one at or below From
// runs past midnight and belongs to the day it begins on.
type Hours struct {
	Days     [7]bool
	From, To int // minutes of the day
	Text     string
}

var days = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// ParseHours reads `mon-fri 07:00-19:00`, `daily 22:00-06:00` or `07:00-19:00`.
func ParseHours(text string) (Hours, error) {
	h := Hours{Text: text}
	fields := strings.Fields(text)
	bad := fmt.Errorf("%q are no hours; write them as mon-fri 07:00-19:00 or daily 22:00-06:00", text)
	dayPart := "daily"
	switch len(fields) {
	case 1:
	case 2:
		dayPart = fields[0]
	default:
		return h, bad
	}
	if dayPart == "daily" {
		for i := range h.Days {
			h.Days[i] = true
		}
	} else {
		for part := range strings.SplitSeq(dayPart, ",") {
			first, last, isRange := strings.Cut(part, "-")
			i := slices.Index(days, first)
			j := i
			if isRange {
				j = slices.Index(days, last)
			}
			if i < 0 || j < 0 {
				return h, fmt.Errorf("%q names no days; use daily, mon, mon,wed or sat-mon, with %s", part, strings.Join(days, " "))
			}
			for ; ; i = (i + 1) % 7 {
				h.Days[i] = true
				if i == j {
					break
				}
			}
		}
	}
	from, to, found := strings.Cut(fields[len(fields)-1], "-")
	var ok1, ok2 bool
	h.From, ok1 = minuteOfDay(from)
	h.To, ok2 = minuteOfDay(to)
	switch {
	case !found || !ok1 || !ok2:
		return h, bad
	case h.From == h.To:
		return h, fmt.Errorf("%q begins and ends at the same time; write 00:00-24:00 for the whole day", text)
	case h.From == 24*60:
		return h, fmt.Errorf("%q begins at 24:00, which is the end of a day; begin at 00:00", text)
	}
	return h, nil
}

func minuteOfDay(text string) (int, bool) {
	if len(text) != 5 || text[2] != ':' {
		return 0, false
	}
	h, err1 := strconv.ParseUint(text[:2], 10, 8)
	m, err2 := strconv.ParseUint(text[3:], 10, 8)
	total := int(h*60 + m)
	return total, err1 == nil && err2 == nil && m < 60 && total <= 24*60
}

// WeekMinutes gives the local minutes of the week in any of the hours, as sorted runs [first, after).
func WeekMinutes(list []Hours) [][2]int {
	const day = 24 * 60
	var runs [][2]int
	for _, h := range list {
		for d, on := range h.Days {
			if !on {
				continue
			}
			from, to := d*day+h.From, d*day+h.To
			if h.To <= h.From {
				to += day
			}
			if to > clock.MinutesOfWeek {
				runs = append(runs, [2]int{0, to - clock.MinutesOfWeek})
				to = clock.MinutesOfWeek
			}
			runs = append(runs, [2]int{from, to})
		}
	}
	return clock.JoinRuns(runs)
}

// ParseDuration reads `90m`, `8h` or `30d`, a day being 24 hours.
func ParseDuration(text string) (time.Duration, error) {
	unit := time.Duration(0)
	if text != "" {
		unit = map[byte]time.Duration{'m': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour}[text[len(text)-1]]
	}
	if unit > 0 {
		if n, err := strconv.ParseUint(text[:len(text)-1], 10, 16); err == nil && n > 0 {
			return time.Duration(n) * unit, nil
		}
	}
	return 0, fmt.Errorf("%q is no duration; write it as 90m, 8h or 30d", text)
}

// DurationText writes a duration as ParseDuration reads it; one that is no whole number of minutes as Go does.
func DurationText(d time.Duration) string {
	switch {
	case d%(24*time.Hour) == 0:
		return fmt.Sprintf("%dd", d/(24*time.Hour))
	case d%time.Hour == 0:
		return fmt.Sprintf("%dh", d/time.Hour)
	case d%time.Minute == 0:
		return fmt.Sprintf("%dm", d/time.Minute)
	}
	return d.String()
}
