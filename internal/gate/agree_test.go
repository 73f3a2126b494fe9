package gate_test

import (
	"bytes"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
	"hiddengate/internal/snapshot"
)

func load(t testing.TB, text string) *estate.Estate {
	t.Helper()
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	require.NoError(t, err, "%s", text)
	return e
}

// partial is a drawn request: nil stands for open.
type partial struct {
	at                  *int64
	from                *netip.Addr
	mfa, reason, ticket *bool
	signIn              *string
	ago                 *time.Duration
	device              *string
	roles               []string
}

// agoText says how long ago something was, as a request does.
func agoText(ago time.Duration) string {
	text, err := estate.FactNamed("signed-in-within").Parse(estate.DurationText(max(ago, time.Minute)))
	if err != nil {
		panic(err)
	}
	return text
}

// drawnAgo are times since somebody signed in: at each edge of what conditions are drawn to ask, and one step beyond.
var drawnAgo = []time.Duration{15 * time.Minute, time.Hour, 8 * time.Hour, 8*time.Hour + time.Minute}

// agos are times since somebody signed in, one for each way in which they can differ: at each edge of what the estate
// asks, and one step beyond.
func (o *oracle) agos() []time.Duration {
	if o.ago != nil {
		return o.ago
	}
	o.ago = []time.Duration{0}
	note := func(values []string) {
		if len(values) > 0 {
			o.ago = append(o.ago, agoOf(values[len(values)-1]))
		}
	}
	inCondition := func(c *estate.Condition) {
		for _, t := range c.Facts {
			if t.Fact == "signed-in-within" {
				note(t.Values)
			}
		}
	}
	for _, g := range o.e.Grants {
		g.When.Each(inCondition)
	}
	for _, b := range o.e.Blocks {
		b.When.Each(inCondition)
	}
	for _, g := range o.e.Guarantees {
		g.Requires.Each(inCondition)
	}
	for _, r := range o.e.Roles {
		note(r.SignedIn)
	}
	slices.Sort(o.ago)
	if o.ago = slices.Compact(o.ago); len(o.ago) > 1 {
		o.ago = append(o.ago[1:], o.ago[len(o.ago)-1]+time.Minute)
	}
	return o.ago
}

// agoOf is a time since somebody signed in of which a word of requests is said.
func agoOf(word string) time.Duration {
	if word == estate.Longer {
		return 30 * 24 * time.Hour
	}
	ago, err := estate.ParseDuration(word)
	if err != nil {
		panic(err)
	}
	return ago
}

func (p partial) context(g *gate.Gate) *gate.Context {
	c := g.NewContext()
	if p.at != nil {
		c.Time(clock.Instant(*p.at))
	}
	if p.from != nil {
		c.Network(*p.from)
	}
	if p.mfa != nil {
		c.Flag(estate.FactNamed("mfa"), *p.mfa)
	}
	if p.reason != nil {
		c.Flag(estate.FactNamed("reason"), *p.reason)
	}
	if p.ticket != nil {
		c.Flag(estate.FactNamed("ticket"), *p.ticket)
	}
	if p.signIn != nil {
		c.Say(estate.FactNamed("sign-in"), *p.signIn)
	}
	if p.ago != nil {
		c.Say(estate.FactNamed("signed-in-within"), agoText(*p.ago))
	}
	if p.device != nil {
		c.Attribute("device", *p.device)
	}
	c.Roles = p.roles
	return c
}

func (p partial) String() string {
	var parts []string
	if p.at != nil {
		parts = append(parts, time.UnixMicro(*p.at).UTC().Format(time.RFC3339Nano))
	}
	for name, b := range map[string]*bool{"mfa": p.mfa, "reason": p.reason, "ticket": p.ticket} {
		if b != nil {
			parts = append(parts, fmt.Sprint(name, *b))
		}
	}
	for _, s := range []*string{p.signIn, p.device} {
		if s != nil {
			parts = append(parts, *s)
		}
	}
	if p.ago != nil {
		parts = append(parts, p.ago.String())
	}
	if p.from != nil {
		parts = append(parts, p.from.String())
	}
	return strings.Join(append(parts, p.roles...), " ")
}

func open[T any](d draw, percent int, of ...T) *T {
	if d.chance(percent) {
		return nil
	}
	v := of[d.IntN(len(of))]
	return &v
}

// moments gives the instants at which some condition, date or clock of the estate may change, and one step to each
// side; in long stretches between them, a week of hours.
func moments(o *oracle) []int64 {
	var edges []int64
	for _, text := range drawnTimes {
		if at, err := o.e.Zone.ParseTime(text); err == nil {
			edges = append(edges, int64(at))
		}
	}
	for _, date := range append(slices.Clone(drawnDates), "2026-10-26", "2027-03-29") {
		day, _ := time.ParseInLocation("2006-01-02", date, time.UTC)
		for h := -5; h <= 5; h++ { // midnight, whatever the offset; St. John's is at half hours
			edges = append(edges, day.Add(time.Duration(h)*time.Hour).UnixMicro(),
				day.Add(time.Duration(h)*time.Hour+30*time.Minute).UnixMicro())
		}
	}
	for _, el := range o.elevations {
		edges = append(edges, int64(el.From), int64(el.To))
	}
	// Between two edges, where only the time of the week matters: all of it, or a week, and one before and behind them
	// all.
	slices.Sort(edges)
	edges = slices.Compact(edges)
	const step, week = int64(30 * time.Minute / time.Microsecond), 7 * int64(24*time.Hour/time.Microsecond)
	halves := func(from, to int64) (out []int64) {
		for at := (from + step - 1) / step * step; at < min(to, from+week); at += step {
			out = append(out, at)
		}
		return out
	}
	all := append(halves(edges[0]-week, edges[0]), halves(edges[len(edges)-1], edges[len(edges)-1]+week)...)
	for i := range edges[:len(edges)-1] {
		all = append(all, halves(edges[i], edges[i+1])...)
	}
	edges = append(edges, all...)
	var out []int64
	for _, e := range edges {
		out = append(out, e-1, e, e+1)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

var addresses = sync.OnceValue(func() []netip.Addr {
	out := []netip.Addr{netip.MustParseAddr("0.0.0.0"), netip.MustParseAddr("255.255.255.255"), netip.MustParseAddr("::"),
		netip.MustParseAddr("2001:db8::1"), netip.MustParseAddr("2001:db9::")}
	for _, n := range drawnNets {
		p := netip.MustParsePrefix(n)
		out = append(out, p.Addr(), p.Addr().Prev(), p.Addr().Next())
	}
	return append(out, netip.MustParseAddr("10.40.255.255"), netip.MustParseAddr("10.41.0.0"),
		netip.MustParseAddr("11.0.0.0"))
})

func values[T any](p *T, all []T) []T {
	if p != nil {
		return []T{*p}
	}
	return all
}

// outcome judges every completion of the request.
func (o *oracle) outcome(p estate.Principal, op string, s spot, q partial, times []int64) string {
	if _, ok := o.sessions(p, q.roles, values(q.at, times)[0]); !ok {
		return "error"
	}
	yes, no := false, false
	set := o.setting(p, op, s)
	devices := []string{"managed", "own", "", "other", "\x00absent"}
	attributes := map[string]map[string]string{"\x00absent": {}}
	for _, d := range values(q.device, devices) {
		if d != "\x00absent" {
			attributes[d] = map[string]string{"device": d}
		}
	}
	for _, at := range values(q.at, times) {
		sessions, _ := o.sessions(p, q.roles, at)
		for _, from := range values(q.from, addresses()) {
			if !from.IsValid() {
				continue
			}
			for _, mfa := range values(q.mfa, []bool{false, true}) {
				for _, reason := range values(q.reason, []bool{false, true}) {
					for _, ticket := range values(q.ticket, []bool{false, true}) {
						for _, how := range values(q.signIn, estate.SignIns) {
							for _, ago := range values(q.ago, o.agos()) {
								for _, device := range values(q.device, devices) {
									x := concrete{at, from, mfa, reason, ticket, how, ago, attributes[device]}
									for _, roles := range sessions {
										if o.allowed(set, x, roles) {
											yes = true
										} else {
											no = true
										}
									}
									if yes && no {
										return "depends"
									}
								}
							}
						}
					}
				}
			}
		}
	}
	if yes {
		return "allow"
	}
	return "deny"
}

func TestGateAndOracleAgree(t *testing.T) {
	estates := shape.Drawn(2000, 1, testing.Short())
	requests := 8 // about each
	if n, err := strconv.Atoi(os.Getenv("HGATE_REQUESTS")); err == nil {
		requests = n
	}
	const parts = 4
	var counts [parts]map[string]int
	t.Run("estates", func(t *testing.T) {
		for part := range parts {
			counts[part] = map[string]int{}
			t.Run(strconv.Itoa(part), func(t *testing.T) {
				t.Parallel()
				for seed := part; seed < estates && !t.Failed(); seed += parts {
					agree(t, uint64(seed), requests, counts[part])
				}
			})
		}
	})
	total := map[string]int{}
	for _, c := range counts {
		for outcome, n := range c {
			total[outcome] += n
		}
	}
	t.Log(total)
	for _, o := range []string{"allow", "deny", "depends"} {
		require.Greater(t, total[o], estates/4, "the drawn requests hardly ever give %s: %v", o, total)
	}
}

// agree draws an estate and compares requests about it.
func agree(t *testing.T, seed uint64, requests int, outcomes map[string]int) {
	d := newDraw(seed)
	text := d.estate()
	e := load(t, text)
	zone, err := time.LoadLocation(e.Zone.Name())
	require.NoError(t, err)
	o := &oracle{e: e, zone: zone}
	for _, g := range estate.Sorted(e.Grants) {
		if g.OnRequest != nil && d.chance(70) {
			from, _ := e.Zone.ParseTime(d.one(drawnTimes[:3]...))
			o.elevations = append(o.elevations, estate.Elevation{Grant: g.ID,
				Subject: estate.Principal{ID: d.one(drawnPeople...)}, From: from, To: from + 60*clock.Day,
				Within: d.lentPlace()})
		}
	}
	g, err := gate.Compile(e, o.elevations)
	require.NoError(t, err)
	bare, err := gate.Compile(e, nil)
	require.NoError(t, err)
	again, err := keptAndTaken(t, bare).WithLent(o.elevations) // the gate as it is once it was kept
	require.NoError(t, err)
	times := moments(o)
	for range requests {
		a, ok := d.asked(e, times)
		if !ok {
			continue
		}
		who, op, address, q := a.who, a.operation, a.address, a.partial
		want := o.outcome(who, op, a.spot, q, times)
		got, err := g.Decide(gate.Request{Subject: who, Operation: op, Resource: address.String(), Context: q.context(g)})
		answer := got.String()
		if err != nil {
			answer = "error"
		}
		late, errLate := again.Decide(gate.Request{Subject: who, Operation: op, Resource: address.String(),
			Context: q.context(again)})
		if late != got || (err == nil) != (errLate == nil) {
			t.Errorf("seed %d: %s %s %s with %s: the gate says %s, once kept %s (%v)\n%s", seed, who, op, address, q, got, late,
				errLate, text)
			return
		}
		outcomes[want]++
		if answer != want {
			t.Errorf("seed %d: %s %s %s with %s: the gate says %s, the oracle %s (%v)\n%s", seed, who, op, address, q, answer,
				want, err, text)
			return
		}
	}
}

// drawnRequest is a request, with what stays open.
type drawnRequest struct {
	who       estate.Principal
	operation string
	address   estate.Address
	spot      spot
	partial
}

// asked draws a request about an estate; ok is false where nothing can be asked of the place that it came to.
func (d draw) asked(e *estate.Estate, times []int64) (a drawnRequest, ok bool) {
	who := estate.Principal{ID: d.one(drawnPeople...)}
	switch d.IntN(6) {
	case 0:
		who = estate.Principal{Kind: estate.IsAnonymous}
	case 1:
		who = estate.Principal{Kind: estate.IsService, ID: "bot"}
	}
	r := e.Tree.At(d.IntN(e.Tree.Len()))
	address := r.Address
	if r.System.Judge && d.chance(40) {
		address = estate.Address{System: r.System.ID, Path: strings.TrimPrefix(r.Address.Path+"/new", "/")}
		r = e.Unlisted(address)
	}
	ops := e.Offer(r.System.Kind.ID).On(r.Type)
	if len(ops) == 0 {
		return a, false
	}
	op := ops[d.IntN(len(ops))].Name
	for _, known := range drawnOps { // those that grants name more often
		if e.Offer(r.System.Kind.ID).Valid(known, r.Type) != nil && d.chance(30) {
			op = known
		}
	}
	q := partial{
		at: open(d, 12, times...), from: open(d, 20, addresses()...), mfa: open(d, 25, true, false),
		reason: open(d, 20, true, false),
		ticket: open(d, 20, true, false), signIn: open(d, 20, estate.SignIns...),
		device: open(d, 30, "managed", "own", "", "other"), ago: open(d, 10, drawnAgo...),
	}
	if q.from != nil && !q.from.IsValid() {
		q.from = nil
	}
	if q.at == nil && (q.from == nil || q.signIn == nil || q.ago == nil) {
		q.from, q.signIn, q.ago = &addresses()[0], &estate.SignIns[2], &drawnAgo[1] // keep the completions countable
	}
	if d.chance(20) {
		q.roles = []string{d.one(drawnRoles...)}
	}
	s := spot{system: r.System}
	if r.Address.Path != "" {
		s.path = strings.Split(r.Address.Path, "/")
	}
	return drawnRequest{who, op, address, s, q}, true
}

// keptAndTaken writes a gate and its estate as a snapshot, and reads them again.
func keptAndTaken(t *testing.T, g *gate.Gate) *gate.Gate {
	type all struct {
		Estate *estate.Kept
		People []*estate.Subject
		Gate   *gate.Kept
	}
	kept, ok := g.Keep()
	require.True(t, ok)
	var out bytes.Buffer
	_, err := snapshot.Encode(&out, &all{g.Estate().Keep(), estate.Sorted(g.Estate().People), kept})
	require.NoError(t, err)
	words := make([]uint64, out.Len()/8) // a snapshot stands at a multiple of 8
	b := unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(words))), out.Len())
	copy(b, out.Bytes())
	var read all
	require.NoError(t, snapshot.Decode(b, &read))
	read.Estate.Estate.People = map[string]*estate.Subject{}
	for _, p := range read.People {
		read.Estate.Estate.People[p.ID] = p
	}
	again, err := read.Gate.Take(read.Estate.Take(), func() ([]*estate.Subject, error) { return read.People, nil })
	require.NoError(t, err)
	return again
}

// lentPlace draws a place to which something lent is confined: none, a listed one, and one that is not.
func (d draw) lentPlace() estate.Address {
	return mustAddressOrNone(d.one("", "", "db", "db:a", "db:a/b", "dbx:A", "dbx:a", "app:d", "db:zz", "app:a/new"))
}

func mustAddressOrNone(text string) estate.Address {
	if text == "" {
		return estate.Address{}
	}
	return mustAddress(text)
}
