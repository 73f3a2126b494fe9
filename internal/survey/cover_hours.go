package survey

import (
	"strings"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/region"
)

// hours writes at which hours of the coming week people are short, minute by minute of local time.
func (c *counter) hours(missing region.Region) string {
	if missing == region.Empty {
		return ""
	}
	if missing == c.window {
		return "always"
	}
	var minutes [7 * 24 * 60]bool
	space := c.Space()
	zone := space.Zone()
	ctx := space.NewContext()
	const minute = clock.Instant(time.Minute / time.Microsecond)
	for i := range clock.Instant(len(minutes)) {
		at := c.watch.Since + i*minute
		ctx.SetTime(at)
		if space.Judge(missing, ctx) == region.All {
			minutes[zone.WeekMinute(at)] = true
		}
	}
	return hoursText(minutes[:])
}

var days = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// hoursText writes minutes of the week as the files write hours: days with the same ones together.
func hoursText(minutes []bool) string {
	const day = 24 * 60
	var byDay [7]string
	for d := range 7 {
		var runs []string
		for from := 0; from < day; {
			if !minutes[d*day+from] {
				from++
				continue
			}
			to := from
			for to < day && minutes[d*day+to] {
				to++
			}
			runs = append(runs, clockText(from)+"-"+clockText(to))
			from = to
		}
		byDay[d] = strings.Join(runs, ", ")
	}
	var out []string
	for from := 0; from < 7; {
		to := from
		for to+1 < 7 && byDay[to+1] == byDay[from] {
			to++
		}
		name := days[from]
		switch {
		case from == 0 && to == 6:
			name = "daily"
		case to > from:
			name += "-" + days[to]
		}
		if byDay[from] != "" {
			out = append(out, name+" "+byDay[from])
		}
		from = to + 1
	}
	return strings.Join(out, "; ")
}

func clockText(minute int) string {
	return string([]byte{byte('0' + minute/600), byte('0' + minute/60%10), ':', byte('0' + minute%60/10),
		byte('0' + minute%10)})
}
