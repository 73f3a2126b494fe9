package clock

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestTimes(t *testing.T) {
	z, err := LoadZone("Atlantic/Azores")
	require.NoError(t, err)
	for text, want := range map[string]string{
		"2031-12-01T22:00":               "2031-12-01T22:00-01:00",
		"2031-12-01T22:00Z":              "2031-12-01T21:00-01:00",
		"2031-07-01T22:00:30+02:00":      "2031-07-01T20:00:30Z",
		"2031-12-01T22:00:00.25-01:00":   "2031-12-01T22:00:00.250000-01:00",
		"2031-12-01t22:00z":              "2031-12-01T21:00-01:00",
		"2026-10-25T00:30-01:00":         "2026-10-25T00:30-01:00",
		"2026-10-25T00:30+00:00":         "2026-10-25T00:30Z",
		"2026-10-25T00:30:00.123456789Z": "2026-10-25T00:30:00.123456Z",
	} {
		at, err := z.ParseTime(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, z.Format(at))
	}
	for _, text := range []string{"", "2031-12-01", "22:00", "2031-12-01 22:00", "2031-12-01T24:00", "2031-12-01T22:60",
		"2031-12-01T22:00:60Z", "2031-13-01T22:00", "2031-02-29T22:00",
		"2031-12-01T22:00+1:00", "2031-12-01T22:00+24:00", "2031-12-01T22:00.5", "2031-12-01T22:00:00.Z",
		"2031-12-01T22:00Zx", "0000-01-01T00:00Z", "2027-03-28T00:00", "2026-10-25T00:00"} {
		_, err := z.ParseTime(text)
		assert.Error(t, err, text)
	}
}

func TestZonesComeFromTheProgramItself(t *testing.T) {
	t.Setenv("ZONEINFO", "/nowhere")
	for _, name := range []string{"Atlantic/Azores", "America/St_Johns", "Pacific/Apia", "UTC"} {
		_, err := LoadZone(name)
		assert.NoError(t, err)
		assert.Contains(t, ZoneNames(), name)
	}
	for _, name := range []string{"", "Local", "Atlantic", "Atlantic/", "../etc/passwd", "atlantic/azores"} {
		_, err := LoadZone(name)
		assert.Error(t, err, name)
	}
}

func TestDaysThatAreSkippedOrRepeated(t *testing.T) {
	apia, err := LoadZone("Pacific/Apia")
	require.NoError(t, err)
	until29, until30 := apia.Until(Date{2011, 12, 29}), apia.Until(Date{2011, 12, 30})
	assert.Equal(t, until29, until30, "Samoa had no 2011-12-30")

	rapid.Check(t, func(t *rapid.T) {
		z, err := LoadZone(rapid.SampledFrom([]string{"Atlantic/Azores", "America/St_Johns", "Pacific/Apia", "America/Havana",
			"Africa/Casablanca", "Australia/Lord_Howe"}).Draw(t, "zone"))
		require.NoError(t, err)
		at := Of(time.Unix(rapid.Int64Range(0, 3_000_000_000).Draw(t, "at"), 0))
		day := z.DateOf(at)
		in := func(d Date) bool {
			for _, i := range z.Until(d) {
				if at >= i.From && at < i.To {
					return true
				}
			}
			return false
		}
		assert.True(t, in(day))
		assert.False(t, in(day.Before()))
		assert.Contains(t, z.Showing(at+z.Offset(at)), at)
		assert.Equal(t, at, Of(at.Time()))
	})
}

func TestMinutesThatOccur(t *testing.T) {
	z, err := LoadZone("Atlantic/Azores")
	require.NoError(t, err)
	at := func(text string) Instant { i, err := z.ParseTime(text); require.NoError(t, err); return i }
	assert.Equal(t, [][2]int{{6*1440 + 60, 6*1440 + 120}}, z.WeekMinutes(at("2027-03-28T01:00"), at("2027-03-28T02:00")))
	assert.Equal(t, [][2]int{{5*1440 + 1430, 5*1440 + 1440}, {6*1440 + 60, 6*1440 + 70}},
		z.WeekMinutes(at("2027-03-27T23:50"), at("2027-03-28T01:10")))
	assert.Equal(t, [][2]int{{10, 11}}, z.WeekMinutes(at("2026-11-23T00:10:20"), at("2026-11-23T00:10:40")))
	assert.Equal(t, [][2]int{{0, 30}, {6*1440 + 1410, MinutesOfWeek}},
		z.WeekMinutes(at("2026-11-22T23:30"), at("2026-11-23T00:30")))
	assert.Equal(t, [][2]int{{0, MinutesOfWeek}}, z.WeekMinutes(0, 15*Day))
}
