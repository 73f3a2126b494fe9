package region

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/clock"
)

func azores(t require.TestingT) *clock.Zone {
	z, err := clock.LoadZone("Atlantic/Azores")
	require.NoError(t, err)
	return z
}

func testSpace(t require.TestingT) *Space {
	return NewSpace(azores(t), []Dimension{
		{Kind: Flag, Name: "mfa", Phrases: [2]string{"without a second factor", "with a second factor"}},
		{Kind: Flag, Name: "owner", Phrases: [2]string{"not the owner", "the owner"}},
		{Kind: Choice, Name: "sign-in", Values: []string{"password", "key", "token"}, Label: "signed in by"},
		{Kind: Text, Name: "device"},
	}, DefaultBudget)
}

func at(t require.TestingT, z *clock.Zone, text string) clock.Instant {
	i, err := z.ParseTime(text)
	require.NoError(t, err)
	return i
}

// expr is a condition drawn at random, judged on its own without diagrams.
type expr struct {
	op   string
	kids []expr
	text []string
	nets []netip.Prefix
	from clock.Instant
	to   clock.Instant
	runs [][2]int
	date clock.Date
}

func drawExpr(t *rapid.T, depth int) expr {
	kinds := []string{"mfa", "owner", "sign-in", "device", "network", "between", "weekly", "until"}
	if depth > 0 {
		kinds = append(kinds, "and", "or", "minus", "not")
	}
	e := expr{op: rapid.SampledFrom(kinds).Draw(t, "op")}
	zone := azores(t)
	switch e.op {
	case "and", "or", "minus":
		e.kids = []expr{drawExpr(t, depth-1), drawExpr(t, depth-1)}
	case "not":
		e.kids = []expr{drawExpr(t, depth-1)}
	case "sign-in":
		e.text = rapid.SliceOfN(rapid.SampledFrom([]string{"password", "key", "token"}), 1, 3).Draw(t, "ways")
	case "device":
		e.text = rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", ""}), 1, 2).Draw(t, "devices")
	case "network":
		for _, text := range rapid.SliceOfN(rapid.SampledFrom(testPrefixes), 1, 2).Draw(t, "nets") {
			e.nets = append(e.nets, netip.MustParsePrefix(text))
		}
	case "between":
		e.from = at(t, zone, rapid.SampledFrom(testTimes).Draw(t, "from"))
		e.to = at(t, zone, rapid.SampledFrom(testTimes).Draw(t, "to"))
		e.to = max(e.from, e.to)
	case "weekly":
		first := rapid.IntRange(0, clock.MinutesOfWeek-2).Draw(t, "first")
		e.runs = [][2]int{{first, rapid.IntRange(first+1, clock.MinutesOfWeek).Draw(t, "after")}}
		if rapid.Bool().Draw(t, "at midnight") {
			e.runs = [][2]int{{6 * 1440, 6*1440 + 60}}
		}
	case "until":
		e.date = rapid.SampledFrom([]clock.Date{{Year: 2027, Month: 3, Day: 27}, {Year: 2027, Month: 3, Day: 28},
			{Year: 2026, Month: 10, Day: 25}}).Draw(t, "date")
	}
	return e
}

var (
	testPrefixes = []string{"10.0.0.0/8", "10.40.0.0/16", "::/0", "::/95", "::fffe:0:0/96", "::ffff:10.0.0.0/104",
		"2001:db8::/32", "0.0.0.0/0"}
	testTimes = []string{"2026-10-24T23:30:00Z", "2026-10-25T00:30:00Z", "2026-10-25T01:30:00Z", "2027-03-27T12:00",
		"2027-03-28T00:59:59Z", "2027-03-28T01:00:00Z", "2027-03-28T02:30Z", "2027-03-29T00:00"}
	testAddrs = []string{"10.40.3.7", "10.39.255.255", "9.255.255.255", "0.0.0.0", "255.255.255.255", "::",
		"2001:db8::1", "::fffe:0:1", "::1:0:0:0", "::ffff:10.40.0.1"}
)

func (e expr) build(t require.TestingT, s *Space) Region {
	must := func(r Region, err error) Region { require.NoError(t, err); return r }
	switch e.op {
	case "and":
		return must(s.And(e.kids[0].build(t, s), e.kids[1].build(t, s)))
	case "or":
		return must(s.Or(e.kids[0].build(t, s), e.kids[1].build(t, s)))
	case "minus":
		return must(s.Minus(e.kids[0].build(t, s), e.kids[1].build(t, s)))
	case "not":
		return must(s.Not(e.kids[0].build(t, s)))
	case "sign-in", "device":
		return s.OneOf(e.op, e.text...)
	case "network":
		return s.From(e.nets...)
	case "between":
		return s.Between(e.from, e.to)
	case "weekly":
		return s.Weekly(e.runs)
	case "until":
		return s.Until(e.date)
	}
	return s.Is(e.op, true)
}

func (e expr) holds(z *clock.Zone, c *Context) bool {
	switch e.op {
	case "and":
		return e.kids[0].holds(z, c) && e.kids[1].holds(z, c)
	case "or":
		return e.kids[0].holds(z, c) || e.kids[1].holds(z, c)
	case "minus":
		return e.kids[0].holds(z, c) && !e.kids[1].holds(z, c)
	case "not":
		return !e.kids[0].holds(z, c)
	case "sign-in", "device":
		text, absent, _ := c.Text(e.op)
		return !absent && slices.Contains(e.text, text)
	case "network":
		a, _ := c.Network()
		for _, p := range e.nets {
			if a.Is4() && p.Addr().Is4In6() && p.Bits() >= 96 {
				p = netip.PrefixFrom(p.Addr().Unmap(), p.Bits()-96)
			}
			if p.Contains(a) {
				return true
			}
		}
		return false
	case "between":
		now, _ := c.Time()
		return now >= e.from && now < e.to
	case "weekly":
		now, _ := c.Time()
		local := now.Time().Add(z.Offset(now).Time().Sub(clock.Instant(0).Time()))
		minute := (int(local.Weekday())+6)%7*1440 + local.Hour()*60 + local.Minute()
		return minute >= e.runs[0][0] && minute < e.runs[0][1]
	case "until":
		now, _ := c.Time()
		return z.DateOf(now).String() <= e.date.String()
	}
	yes, _ := c.Flag(e.op)
	return yes
}

func drawContext(t *rapid.T, s *Space) *Context {
	c := s.NewContext()
	c.SetFlag("mfa", rapid.Bool().Draw(t, "mfa"))
	c.SetFlag("owner", rapid.Bool().Draw(t, "owner"))
	c.SetText("sign-in", rapid.SampledFrom([]string{"password", "key", "token"}).Draw(t, "sign-in"))
	if d := rapid.SampledFrom([]string{"a", "b", "", "c", "absent"}).Draw(t, "device"); d == "absent" {
		c.SetAbsent("device")
	} else {
		c.SetText("device", d)
	}
	c.SetNetwork(netip.MustParseAddr(rapid.SampledFrom(testAddrs).Draw(t, "address")))
	base := at(t, s.zone, rapid.SampledFrom(testTimes).Draw(t, "time"))
	step := rapid.SampledFrom([]clock.Instant{-1, 0, 1, clock.Hour, -clock.Hour, 3 * clock.Day}).Draw(t, "step")
	c.SetTime(base + step)
	return c
}

func TestRegionsAgreeWithPlainJudgement(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := testSpace(t)
		e := drawExpr(t, 4)
		r := e.build(t, s)
		for range 8 {
			c := drawContext(t, s)
			got, known := holds(s, r, c)
			assert.True(t, known)
			assert.Equal(t, e.holds(s.zone, c), got, "%s", s.Text(r, 20))
			assert.Equal(t, got, s.Fix(r, c) == Full)
		}
		if w, ok := s.Witness(r, at(t, s.zone, "2026-10-25T00:30Z")); ok {
			full := drawContext(t, s) // what the witness leaves open may be anything
			for i, v := range w.values {
				if v.state != open {
					full.values[i] = v
				}
			}
			if _, said := w.Time(); said {
				full.time = w.time
			}
			if _, said := w.Network(); said {
				full.network = w.network
			}
			assert.True(t, e.holds(s.zone, full), "the witness of %s", s.Text(r, 20))
		} else {
			assert.Equal(t, Empty, r)
		}
	})
}

func TestAlgebraLaws(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := testSpace(t)
		a, b := drawExpr(t, 3).build(t, s), drawExpr(t, 3).build(t, s)
		must := func(r Region, err error) Region { require.NoError(t, err); return r }
		same := func(x, y Region) {
			assert.Equal(t, Empty, must(s.Minus(x, y)))
			assert.Equal(t, Empty, must(s.Minus(y, x)))
		}
		notA, notB := must(s.Not(a)), must(s.Not(b))
		same(must(s.Not(notA)), a)
		same(must(s.Not(must(s.Or(a, b)))), must(s.And(notA, notB)))
		same(must(s.Or(must(s.Minus(a, b)), must(s.And(a, b)))), a)
		assert.Equal(t, Full, must(s.Or(a, notA)), "a region and what it leaves out make everything")
		assert.Equal(t, Empty, must(s.And(a, notA)))
		inside, err := s.Contains(must(s.Or(a, b)), a)
		assert.NoError(t, err)
		assert.True(t, inside)
	})
}

func TestFixingKeepsWhatIsOpen(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := testSpace(t)
		e := drawExpr(t, 4)
		r := e.build(t, s)
		c := drawContext(t, s)
		part := c.Clone()
		for _, name := range []string{"mfa", "owner", "sign-in", "device", "network", "time"} {
			if rapid.Bool().Draw(t, "open "+name) {
				part.Open(name)
			}
		}
		got, known := holds(s, s.Fix(r, part), c)
		assert.True(t, known)
		assert.Equal(t, e.holds(s.zone, c), got)
	})
}

func TestClockChanges(t *testing.T) {
	s := testSpace(t)
	z := s.zone
	and := func(rs ...Region) Region { r, err := s.And(rs...); require.NoError(t, err); return r }
	day := func(d clock.Date) Region {
		before, err := s.Minus(s.Until(d), s.Until(clock.Date{Year: d.Year, Month: d.Month, Day: d.Day - 1}))
		require.NoError(t, err)
		return before
	}
	sundayFirstHour := s.Weekly([][2]int{{6 * 1440, 6*1440 + 60}})

	spring := day(clock.Date{Year: 2027, Month: 3, Day: 28})
	assert.Equal(t, Empty, and(sundayFirstHour, spring), "local midnight does not exist on 2027-03-28")
	assert.NotEqual(t, Empty, and(s.Weekly([][2]int{{6*1440 + 60, 6*1440 + 61}}), spring))
	assert.NotEqual(t, Empty, and(sundayFirstHour, day(clock.Date{Year: 2027, Month: 3, Day: 27 - 6})))
	_, err := z.ParseTime("2027-03-28T00:30")
	assert.ErrorContains(t, err, "skips")

	_, err = z.ParseTime("2026-10-25T00:30")
	assert.ErrorContains(t, err, "twice")
	for _, twice := range []string{"2026-10-25T00:30+00:00", "2026-10-25T00:30-01:00"} {
		c := s.NewContext()
		c.SetTime(at(t, z, twice))
		in, known := holds(s, and(s.Weekly([][2]int{{6*1440 + 30, 6*1440 + 31}}),
			day(clock.Date{Year: 2026, Month: 10, Day: 25})), c)
		assert.True(t, in && known, twice)
	}

	last := s.Until(clock.Date{Year: 2027, Month: 3, Day: 27})
	c := s.NewContext()
	c.SetTime(at(t, z, "2027-03-27T23:59:59.999999"))
	in, _ := holds(s, last, c)
	assert.True(t, in)
	c.SetTime(at(t, z, "2027-03-28T01:00"))
	in, _ = holds(s, last, c)
	assert.False(t, in)
	assert.Equal(t, "through 2027-03-27", s.Text(last, 3))
}

func TestADateThatIsVisitedTwiceIsNoInterval(t *testing.T) {
	// In St. John's the clock went back from 00:01 to 23:01, so the last of the old day follows the first of the new.
	z, err := clock.LoadZone("America/St_Johns")
	require.NoError(t, err)
	got := z.Until(clock.Date{Year: 2010, Month: 11, Day: 6})
	require.Len(t, got, 2)
	assert.Equal(t, clock.Instant(clock.Minute), got[1].From-got[0].To)
}

func TestNetworks(t *testing.T) {
	s := testSpace(t)
	for _, c := range []struct {
		prefix  string
		in, out []string
	}{
		{"10.0.0.0/8", []string{"10.0.0.0", "10.255.255.255", "::ffff:10.1.2.3"},
			[]string{"9.255.255.255", "11.0.0.0", "::a00:0"}},
		{"::ffff:10.0.0.0/104", []string{"10.0.0.0", "10.255.255.255"}, []string{"9.255.255.255", "11.0.0.0", "::"}},
		{"0.0.0.0/0", []string{"0.0.0.0", "255.255.255.255", "::ffff:1.2.3.4"}, []string{"::", "ffff::"}},
		{"::/0", []string{"::", "ffff:ffff::"}, []string{"0.0.0.0", "255.255.255.255", "::ffff:1.2.3.4"}},
		{"::ffc0:0:0/90", []string{"::ffc0:0:0", "::fffe:0:0"}, []string{"1.2.3.4", "::1:0:0:0"}},
		{"255.255.255.255/32", []string{"255.255.255.255"}, []string{"255.255.255.254", "::"}},
	} {
		r := s.From(netip.MustParsePrefix(c.prefix))
		for want, list := range map[bool][]string{true: c.in, false: c.out} {
			for _, a := range list {
				ctx := s.NewContext()
				ctx.SetNetwork(netip.MustParseAddr(a))
				got, known := holds(s, r, ctx)
				assert.True(t, known)
				assert.Equal(t, want, got, "%s in %s", a, c.prefix)
			}
		}
	}
	hole, err := s.Minus(s.From(netip.MustParsePrefix("::fffe:0:0/95")), s.From(netip.MustParsePrefix("::fffe:0:0/96")))
	require.NoError(t, err)
	assert.Equal(t, Empty, hole, "between the two lie mapped addresses alone")
}

func TestAHopelessConditionIsRefused(t *testing.T) {
	var dims []Dimension
	for i := range 20 {
		dims = append(dims, Dimension{Kind: Text, Name: fmt.Sprint("a", i)})
	}
	for seed := range 6 {
		s := NewSpace(clock.UTC, dims, DefaultBudget)
		all, n := Full, seed*7919+1
		next := func(below int) int { n = (n*1103515245 + 12345) & 0x7fffffff; return n / 7 % below }
		var err error
		for range 40 {
			var ways []Region
			for range 3 {
				r := s.OneOf(fmt.Sprint("a", next(20)), string(rune('x'+next(3))))
				if next(2) == 0 {
					r, err = s.Not(r)
					require.NoError(t, err)
				}
				ways = append(ways, r)
			}
			var clause Region
			clause, err = s.Or(ways...)
			require.NoError(t, err)
			if all, err = s.And(all, clause); err != nil {
				break
			}
		}
		if err != nil {
			assert.ErrorIs(t, err, ErrBudget)
		} else {
			_, some := s.Witness(all, 0)
			assert.Equal(t, all != Empty, some)
		}
		assert.Less(t, s.Nodes(), 40*DefaultBudget)
	}

	s := NewSpace(clock.UTC, dims, 100)
	odd, err := Empty, error(nil)
	for i := range 20 { // parity has no small diagram under so small a budget
		x := s.OneOf(fmt.Sprint("a", i), "x")
		var l, r Region
		if l, err = s.Minus(odd, x); err == nil {
			if r, err = s.Minus(x, odd); err == nil {
				odd, err = s.Or(l, r)
			}
		}
		if err != nil {
			break
		}
	}
	assert.ErrorIs(t, err, ErrBudget)
}

func TestText(t *testing.T) {
	s := testSpace(t)
	not := func(r Region) Region { n, err := s.Not(r); require.NoError(t, err); return n }
	and := func(rs ...Region) Region { r, err := s.And(rs...); require.NoError(t, err); return r }
	night := [][2]int{{0, 480}}
	for d := range 7 {
		night = append(night, [2]int{d*1440 + 1020, min((d+1)*1440+480, clock.MinutesOfWeek)})
	}
	for want, r := range map[string]Region{
		"with a second factor":      s.Is("mfa", true),
		"signed in by key or token": s.OneOf("sign-in", "token", "key"),
		"signed in by password":     not(s.OneOf("sign-in", "token", "key")),
		"device is a or b":          s.OneOf("device", "b", "a"),
		"device is not a":           not(s.OneOf("device", "a")),
		"from 10.40.0.0/16":         s.From(netip.MustParsePrefix("10.40.0.0/16")),
		"not from 10.40.0.0/16":     not(s.From(netip.MustParsePrefix("10.40.0.0/16"))),
		"from 0.0.0.0/0":            s.From(netip.MustParsePrefix("0.0.0.0/0")),
		"mon-fri 07:00-19:00": s.Weekly([][2]int{{420, 1140}, {1860, 2580}, {3300, 4020}, {4740, 5460},
			{6180, 6900}}),
		"daily 17:00-08:00":   s.Weekly(night),
		"sat,sun 00:00-24:00": s.Weekly([][2]int{{5 * 1440, 7 * 1440}}),
		"with a second factor, through 2027-03-27": and(s.Is("mfa", true),
			s.Until(clock.Date{Year: 2027, Month: 3, Day: 27})),
		"never":  and(s.Is("mfa", true), s.Is("mfa", false)),
		"always": s.From(netip.MustParsePrefix("0.0.0.0/0"), netip.MustParsePrefix("::/0")),
	} {
		assert.Equal(t, want, s.Text(r, 5))
	}
}

// holds says whether a region holds a context, and whether that is known.
func holds(s *Space, r Region, c *Context) (holds, known bool) {
	h := s.Judge(r, c)
	return h == All, h != Some
}

// What is written as prefixes is what was read, and the addresses of a region are those at which some context is.
func TestPrefixesAreWhatWasRead(t *testing.T) {
	s := testSpace(t)
	for _, list := range [][]string{{"10.0.0.0/8"}, {"0.0.0.0/0"}, {"::/0"}, {"0.0.0.0/0", "::/0"},
		{"10.0.0.0/8", "2001:db8::/32"}, {"10.0.0.0/9", "10.128.0.0/10"}, {"255.255.255.255/32", "::/1"},
		{"128.0.0.0/1", "::/0"}} {
		var prefixes []netip.Prefix
		for _, text := range list {
			prefixes = append(prefixes, netip.MustParsePrefix(text))
		}
		r := s.From(prefixes...)
		assert.Equal(t, prefixes, s.Prefixes(r))
		in, err := s.And(r, s.Is("mfa", true), s.Between(0, clock.Minute))
		require.NoError(t, err)
		got, err := s.Networks(in)
		require.NoError(t, err)
		assert.Equal(t, r, got, list)
	}
	got, err := s.Networks(Empty)
	require.NoError(t, err)
	assert.Nil(t, s.Prefixes(got))
}
