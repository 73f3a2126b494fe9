package standin

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var some = []Command{NewCommand("see routes", "see-routes", []string{"site"}, "routes", Shows),
	NewCommand("see routes apart", "see-routes-apart", []string{"site"}, "routes", Shows),
	NewCommand("add route", "change-routes", []string{"site"}, "routes", Adds),
	NewCommand("manage accounts", Managing, []string{"site"}, "", Notes)}

// FuzzLine reads lines, and reads what is written of them again as the same.
func FuzzLine(f *testing.F) {
	for _, line := range []string{"see routes at .", `add route at "a b:c": 10.0.0.0/8 by x`,
		"see routes apart at x", "add", "at :",
		"see routes at \"\f\"", `see routes at "`, `add route at "\"": y`} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		o, wrong := ReadLine(some, line)
		if wrong != "" {
			return
		}
		again, wrong := ReadLine(some, o.Command.Line(o.Place, o.Value))
		require.Empty(t, wrong)
		assert.Equal(t, o, again)
	})
}

// FuzzSettings reads access settings, of which those that are taken give nobody who is no account anything.
func FuzzSettings(f *testing.F) {
	f.Add(`{"accounts": {"k": {"keeper": true}, "a": {"permits": {"x/*": ["see-routes"]}, "ranks": {"x": 1}}},
		"teams": {"t": {"members": ["a"], "permits": {"*": ["change-routes"]}}}, "everybody": {".": ["see-routes"]}}`)
	types := map[string]string{Root: "site", "x": "site", "x/y": "site"}
	f.Fuzz(func(t *testing.T, text string) {
		var x *Access
		if Strictly([]byte(text), &x) != nil || x.Check(RightsOf(some), types) != nil {
			return
		}
		require.NotEmpty(t, x.Keepers())
		now := time.Unix(0, 0)
		for place := range types {
			for _, right := range RightsOf(some) {
				assert.False(t, x.May("nobody there", "", right, place, now))
			}
		}
		assert.Equal(t, x.Keepers(), x.Clone().Keepers())
		assert.False(t, strings.ContainsFunc(ASCII([]byte(text)), func(c rune) bool { return c >= 0x7f }))
	})
}

// Permits for what is inside a place stand for the place, what is inside, and nothing else.
func TestPermitsStandForWhatIsInside(t *testing.T) {
	for _, one := range []struct {
		permitted, place string
		covers           bool
	}{{"a", "a", true}, {"a", "a/b", false}, {"a/*", "a", true}, {"a/*", "a/b/c", true}, {"a/*", "ab", false}, {"*",
		Root, true},
		{"*", "a/b", true}, {Root, "a", false}, {"a/*", Root, false}} {
		assert.Equal(t, one.covers, Covers(one.permitted, one.place), "%s %s", one.permitted, one.place)
	}
}

// Six wrong passwords close an account to passwords for a minute, each later than the one before, and the right one
// begins anew.
func TestWrongPasswordsTakeLonger(t *testing.T) {
	var s Slowed
	now := time.Unix(1_000_000, 0)
	for i, wait := range []time.Duration{0, 200, 400, 800, 1600, 3200} {
		got, err := s.Begin("noor", now)
		require.NoError(t, err)
		assert.Equal(t, wait*time.Millisecond, got, i)
		s.End("noor", false, now)
	}
	_, err := s.Begin("noor", now.Add(59*time.Second))
	require.ErrorIs(t, err, ErrSlowed)
	got, err := s.Begin("sela", now)
	require.NoError(t, err)
	assert.Zero(t, got)
	got, err = s.Begin("noor", now.Add(time.Minute))
	require.NoError(t, err)
	assert.Zero(t, got)
	s.End("noor", true, now)
	s.Right("noor")
	for i := range 3 * mostNames {
		_, err := s.Begin(strings.Repeat("x", i%7)+time.Duration(i).String(), now)
		require.NoError(t, err)
		s.End(strings.Repeat("x", i%7)+time.Duration(i).String(), false, now)
	}
	assert.LessOrEqual(t, len(s.tried), mostNames+1)
}

// As many tries at once as could come to too many wrong ones wait for each other.
func TestManyTriesAtOnceAreNoWayRound(t *testing.T) {
	var s Slowed
	now := time.Unix(1_000_000, 0)
	for range mostWrong {
		_, err := s.Begin("noor", now)
		require.NoError(t, err)
	}
	answer := make(chan error)
	go func() {
		_, err := s.Begin("noor", now)
		answer <- err
	}()
	select {
	case err := <-answer:
		require.Fail(t, "a further try does not wait", "%v", err)
	case <-time.After(100 * time.Millisecond):
	}
	for range mostWrong {
		s.End("noor", false, now)
	}
	require.ErrorIs(t, <-answer, ErrSlowed)
}
