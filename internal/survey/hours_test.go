package survey

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestHoursAreWrittenAsFilesDo(t *testing.T) {
	const day = 24 * 60
	for _, c := range []struct {
		what string
		is   func(d, minute int) bool
		want string
	}{
		{"never", func(int, int) bool { return false }, ""},
		{"always", func(int, int) bool { return true }, "daily 00:00-24:00"},
		{"nights", func(_, m int) bool { return m < 7*60 || m >= 22*60+30 }, "daily 00:00-07:00, 22:30-24:00"},
		{"weekend", func(d, _ int) bool { return d > 4 }, "sat-sun 00:00-24:00"},
		{"two days", func(d, m int) bool { return (d == 0 || d == 2) && m == 60 }, "mon 01:00-01:01; wed 01:00-01:01"},
	} {
		minutes := make([]bool, 7*day)
		for i := range minutes {
			minutes[i] = c.is(i/day, i%day)
		}
		require.Equal(t, c.want, hoursText(minutes), c.what)
	}
}
