package gate_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/verify"
)

// guarantee makes up one.
func (d draw) guarantee() string {
	on := d.one("everything", "everything", "db", "app", d.places(3))
	may := d.one("[from change]", "all", "[table.*]", d.operations())
	switch d.IntN(7) {
	case 0:
		return fmt.Sprintf("{only: %s, may: %s, on: %s}", d.subjects(4, false), may, on)
	case 1:
		return fmt.Sprintf("{never: %s, may: %s, on: %s}", d.subjects(4, false), may, on)
	case 2:
		return fmt.Sprintf("{at-least: %d, may: %s, on: %s}", 1+d.IntN(2), may, on)
	case 3:
		return fmt.Sprintf("{at-most: %d, may: %s, on: %s}", d.IntN(4), may, on)
	case 4:
		return fmt.Sprintf("{never-both: %s, on: %s, same-resource: %s}", d.some(2, 2, drawnOps...), on,
			d.one("true", "false"))
	case 5:
		return fmt.Sprintf("{apart: [group:%s, group:%s], may: %s, on: %s}", d.one("g0", "g1"), d.one("g2", "g3"), may, on)
	}
	return fmt.Sprintf("{requires: %s, may: %s, on: %s}", d.condition(1), may, on)
}

// world is an estate with an oracle that takes on-request grants for standing ones.
type world struct {
	e      *estate.Estate
	oracle *oracle
	since  clock.Instant
	times  []int64 // from then on
	places []string
	who    []estate.Principal
}

func newWorld(t *testing.T, d draw, e *estate.Estate) *world {
	zone, err := time.LoadLocation(e.Zone.Name())
	require.NoError(t, err)
	since, err := e.Zone.ParseTime(d.one(drawnTimes[:3]...))
	require.NoError(t, err)
	as := *e
	as.Grants = map[string]*estate.Grant{}
	for id, g := range e.Grants {
		standing := *g
		standing.OnRequest = nil
		as.Grants[id] = &standing
	}
	w := &world{e: e, since: since, oracle: &oracle{e: &as, zone: zone},
		who: []estate.Principal{{Kind: estate.IsAnonymous}}}
	for _, at := range moments(w.oracle) {
		if at >= int64(since) {
			w.times = append(w.times, at)
		}
	}
	for _, s := range e.People {
		w.who = append(w.who, s.Principal())
	}
	for _, s := range e.Services {
		w.who = append(w.who, s.Principal())
	}
	for r := range e.Tree.All() {
		w.places = append(w.places, r.Address.String())
	}
	slices.Sort(w.places)
	slices.SortFunc(w.who, func(a, b estate.Principal) int { return strings.Compare(a.String(), b.String()) })
	// And some that may come.
	for _, above := range slices.Clone(w.places) {
		for range 6 {
			path := above + map[bool]string{true: "/", false: ":"}[strings.Contains(above, ":")] +
				d.one("a", "b", "c", "x", "new", "d", "nowhere")
			if d.chance(40) {
				path += "/" + d.one("a", "b", "x", "c")
			}
			if placeIn(e, path) != nil && !slices.Contains(w.places, path) {
				w.places = append(w.places, path)
			}
		}
	}
	return w
}

// at makes up a context.
func (w *world) at(d draw) concrete {
	x := concrete{
		at: w.times[d.IntN(len(w.times))], from: addresses()[d.IntN(len(addresses()))], mfa: d.chance(50),
		reason: d.chance(50), ticket: d.chance(50),
		signIn: d.one(estate.SignIns...), ago: drawnAgo[d.IntN(len(drawnAgo))], attrs: map[string]string{},
	}
	if d.chance(80) {
		x.attrs["device"] = d.one("managed", "own", "", "other")
	}
	return x
}

// may says whether somebody has a way in, in some session.
func (w *world) may(who estate.Principal, op *estate.Operation, place string, x concrete) bool {
	return w.oracle.judgeCell(cellName{who, op.Name, place}, x) != "deny"
}

// attack makes requests and says whether any of them contradicts a guarantee that is said to hold.
func (w *world) attack(d draw, g *estate.Guarantee, requests int) (contradiction string) {
	fits := func(list estate.Operations, name string) bool { return list.Fit(w.e.Operations[name], w.e.Edition) }
	type key struct {
		who estate.Principal
		at  string
	}
	one, other := map[key]bool{}, map[key]bool{}
	people := map[estate.Principal]bool{}
	groups := [2]map[string]bool{{}, {}}
	for range requests {
		place := w.places[d.IntN(len(w.places))]
		r := placeIn(w.e, place)
		s := spot{system: r.System}
		if r.Address.Path != "" {
			s.path = strings.Split(r.Address.Path, "/")
		}
		if !w.oracle.covers(g.On, s) {
			continue
		}
		all := w.e.Offer(r.System.Kind.ID).On(r.Type)
		op := all[d.IntN(len(all))]
		who := w.who[d.IntN(len(w.who))]
		selected := g.Kind == "never-both" && fits(g.Both, op.Name) || g.Kind != "never-both" && fits(g.May, op.Name)
		x := w.at(d)
		if !selected || !w.may(who, op, place, x) {
			continue
		}
		said := fmt.Sprintf("%s may %s on %s at %+v", who, op.Name, place, x)
		switch g.Kind {
		case "only":
			if !w.oracle.memberOf(who, g.Subjects) {
				return said
			}
		case "never":
			if w.oracle.memberOf(who, g.Subjects) {
				return said
			}
		case "requires":
			if !w.oracle.holds(g.Requires, w.oracle.setting(who, op.Name, s), x) {
				return said
			}
		case "at-most":
			if who.Kind == estate.IsPerson {
				people[who] = true
			}
			if len(people) > g.Count {
				return fmt.Sprint(people)
			}
		case "never-both":
			at := ""
			if g.SameResource {
				at = place
			}
			if fits(g.Both[:1], op.Name) {
				one[key{who, at}] = true
			}
			if fits(g.Both[1:], op.Name) {
				other[key{who, at}] = true
			}
			if one[key{who, at}] && other[key{who, at}] {
				return said
			}
		case "apart":
			for k := range groups {
				if w.oracle.memberOf(who, g.Subjects[k:k+1]) {
					groups[k][place] = true
				}
			}
			if groups[0][place] && groups[1][place] {
				return said
			}
		}
	}
	return ""
}

// left counts the people who have some way in by standing grants at a moment, whatever else is said.
func (w *world) left(g *estate.Guarantee, place string, at int64) (n int) {
	standing := &oracle{e: w.e, zone: w.oracle.zone}
	r := placeIn(w.e, place)
	s := spot{system: r.System}
	if r.Address.Path != "" {
		s.path = strings.Split(r.Address.Path, "/")
	}
	for _, who := range w.who {
		if who.Kind != estate.IsPerson {
			continue
		}
		sessions, _ := standing.sessions(who, nil, at)
		found := false
		agos := standing.agos()
		for bits := range 8 * len(agos) {
			for _, how := range estate.SignIns {
				for _, device := range []string{"managed", "own", "", "other", "-"} {
					for _, from := range []string{"10.40.3.7", "10.1.2.3", "192.0.2.1", "2001:db8::1", "2001:db9::1"} {
						x := concrete{at: at, from: netip.MustParseAddr(from), mfa: bits&1 > 0, reason: bits&2 > 0, ticket: bits&4 > 0,
							signIn: how, ago: agos[bits/8], attrs: map[string]string{}}
						if device != "-" {
							x.attrs["device"] = device
						}
						for _, op := range w.e.Offer(r.System.Kind.ID).On(r.Type) {
							if !found && g.May.Fit(op, w.e.Edition) {
								set := standing.setting(who, op.Name, s)
								found = slices.ContainsFunc(sessions, func(roles []string) bool { return standing.allowed(set, x, roles) })
							}
						}
					}
				}
			}
		}
		if found {
			n++
		}
	}
	return n
}

// shown sees that the oracle allows a witness's requests, and that they say what the guarantee forbids.
func (w *world) shown(t *testing.T, d draw, v verify.Verdict, about string) {
	g := v.Guarantee
	if g.Kind == "at-least" {
		require.Less(t, len(v.Witness.Left), g.Count, about)
		require.Equal(t, w.left(g, v.Witness.Resource, int64(v.Witness.At)), len(v.Witness.Left), about)
		return
	}
	require.NotEmpty(t, v.Witness.Grants, about)
	people := map[estate.Principal]bool{}
	for i, r := range v.Witness.Requests {
		op := w.e.Operations[r.Operation]
		require.NotNil(t, placeIn(w.e, r.Resource), about)
		people[r.Subject] = true
		for range 8 { // what the request leaves open is anything
			x := w.filled(d, r.Context)
			require.True(t, w.may(r.Subject, op, r.Resource, x), "%s: %s %s %s at %+v", about, r.Subject, r.Operation,
				r.Resource, x)
			if g.Kind == "requires" {
				place := placeIn(w.e, r.Resource)
				s := spot{system: place.System}
				if place.Address.Path != "" {
					s.path = strings.Split(place.Address.Path, "/")
				}
				require.False(t, w.oracle.holds(g.Requires, w.oracle.setting(r.Subject, r.Operation, s), x), about)
			}
		}
		switch g.Kind {
		case "only", "never":
			require.Equal(t, g.Kind == "never", w.oracle.memberOf(r.Subject, g.Subjects), about)
		case "apart":
			require.True(t, w.oracle.memberOf(r.Subject, g.Subjects[i:i+1]), about)
			require.Equal(t, v.Witness.Requests[0].Resource, r.Resource, about)
		case "never-both":
			require.True(t, g.Both[i:i+1].Fit(op, w.e.Edition), about)
			require.Equal(t, v.Witness.Requests[0].Subject, r.Subject, about)
			require.True(t, !g.SameResource || v.Witness.Requests[0].Resource == r.Resource, about)
		}
		if g.Kind != "never-both" {
			require.True(t, g.May.Fit(op, w.e.Edition), about)
		}
	}
	if g.Kind == "at-most" {
		require.Greater(t, len(people), g.Count, about)
	}
}

// filled makes up what a context leaves open.
func (w *world) filled(d draw, c *gate.Context) concrete {
	x := w.at(d)
	if at, ok := c.Moment(); ok {
		x.at = int64(at)
	}
	said := c.Said(clock.UTC)
	if from, err := netip.ParseAddr(said.Facts.Of("network")); err == nil {
		x.from = from
	}
	for name, to := range map[string]*bool{"mfa": &x.mfa, "reason": &x.reason, "ticket": &x.ticket} {
		if is := said.Facts.Of(name); is != "" {
			*to = is == "yes"
		}
	}
	if how := said.Facts.Of("sign-in"); how != "" {
		x.signIn = how
	}
	if word := said.Facts.Of("signed-in-within"); word != "" {
		x.ago = agoOf(word)
	}
	for _, tag := range said.Context {
		x.attrs[tag.Key] = tag.Value
	}
	return x
}

func TestGuaranteesHoldAsTheOracleSays(t *testing.T) {
	counts, attacks := map[string]int{}, 0
	for seed := range uint64(scaled(30)) {
		d := newDraw(seed)
		text := d.estate() + "guarantees:\n"
		for i := range 4 {
			text += fmt.Sprintf("  drawn%d: %s\n", i, d.guarantee())
		}
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
		if err != nil {
			counts["not sound"]++
			continue
		}
		w := newWorld(t, d, e)
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		p := verify.NewProver(g, verify.Of{Since: w.since})
		for _, gu := range estate.Sorted(e.Guarantees) {
			about := fmt.Sprintf("seed %d, %s", seed, gu.ID)
			v, err := p.Judge(t.Context(), gu)
			require.NoError(t, err, "%s\n%s", about, text)
			counts[fmt.Sprintf("%s %v", gu.Kind, v.Holds())]++
			if v.Holds() && gu.Kind == "at-least" {
				w.sees(t, d, gu, about)
			} else if v.Holds() {
				attacks += 3000
				require.Empty(t, w.attack(d, gu, 3000), "%s is said to hold\n%s", about, text)
			} else {
				w.shown(t, d, v, about)
				leavesNoneOut(t, p, g, gu, v, w.since, about)
			}
			if t.Failed() {
				t.Log(text)
				return
			}
		}
	}
	t.Log(counts, attacks)
	require.True(t, attacks >= 50_000 || scaled(30) < 30)
	for _, kind := range []string{"only", "never", "at-least", "at-most", "never-both", "apart", "requires"} {
		require.True(t, counts[kind+" false"] > 0 || scaled(30) < 30, "%s: none failed", kind)
	}
}

// sees looks at some moments of the week ahead, that so many people are there.
func (w *world) sees(t *testing.T, d draw, g *estate.Guarantee, about string) {
	for range 3 {
		place := w.places[d.IntN(len(w.places))]
		r := placeIn(w.e, place)
		s := spot{system: r.System}
		if r.Address.Path != "" {
			s.path = strings.Split(r.Address.Path, "/")
		}
		if !w.oracle.covers(g.On, s) || !slices.ContainsFunc(w.e.Offer(r.System.Kind.ID).On(r.Type),
			func(o *estate.Operation) bool { return g.May.Fit(o, w.e.Edition) }) {
			continue
		}
		at := int64(w.since) + int64(d.IntN(7*24*60))*60e6
		require.GreaterOrEqual(t, w.left(g, place, at), g.Count, "%s: %s at %d", about, place, at)
	}
}

// leavesNoneOut sees that a guarantee fails with the grants of its witness alone, and with none of them fewer.
func leavesNoneOut(t *testing.T, p *verify.Prover, g *gate.Gate, gu *estate.Guarantee, v verify.Verdict,
	since clock.Instant, about string) {
	if gu.Kind == "at-least" {
		return
	}
	fails := func(grants []string) bool {
		e := *g.Estate()
		e.Grants = map[string]*estate.Grant{}
		for _, id := range grants {
			e.Grants[id] = g.Estate().Grants[id]
		}
		only, err := gate.Compile(&e, nil)
		require.NoError(t, err)
		fails, err := verify.NewProver(only, verify.Of{Since: since}).Fails(t.Context(), gu)
		require.NoError(t, err)
		return fails
	}
	require.True(t, fails(v.Witness.Grants), about)
	for i := range v.Witness.Grants {
		require.False(t, fails(slices.Delete(slices.Clone(v.Witness.Grants), i, i+1)), "%s: %v", about, v.Witness.Grants)
	}
}

// Every false guarantee is refuted: each is made false by something that the oracle says somebody may do.
func TestFalseGuaranteesAreRefuted(t *testing.T) {
	refuted := 0
	for seed := uint64(0); refuted < scaled(200); seed++ {
		d := newDraw(seed + 5e5)
		text := d.estate()
		e := load(t, text)
		w := newWorld(t, d, e)
		for range 400 {
			place, who, x := w.places[d.IntN(len(w.places))], w.who[d.IntN(len(w.who))], w.at(d)
			r := placeIn(e, place)
			all := e.Offer(r.System.Kind.ID).On(r.Type)
			op := all[d.IntN(len(all))]
			if !w.may(who, op, place, x) {
				continue
			}
			where := d.one("everything", r.System.ID, fmt.Sprintf("%q", place))
			says := []string{
				fmt.Sprintf("{never: [%s], may: %s, on: %s}", who, op.Name, where),
				fmt.Sprintf("{only: [%s], may: %s, on: %s}",
					d.one(slices.DeleteFunc([]string{"ana", "bo", "service:bot"},
						func(id string) bool { return id == who.String() })...), op.Name, where),
				fmt.Sprintf("{requires: {mfa: %v}, may: %s, on: %s}", !x.mfa, op.Name, where),
				fmt.Sprintf("{at-least: 99, may: %s, on: %s}", op.Name, where),
			}
			if who.Kind == estate.IsPerson {
				says = append(says, fmt.Sprintf("{at-most: 0, may: %s, on: %s}", op.Name, where))
			}
			said := text + "guarantees: {false: " + d.one(says...) + "}\n"
			with := load(t, said)
			g, err := gate.Compile(with, nil)
			require.NoError(t, err)
			p := verify.NewProver(g, verify.Of{Since: w.since})
			v, err := p.Judge(t.Context(), with.Guarantees["false"])
			require.NoError(t, err, said)
			require.False(t, v.Holds(), "seed %d: %s may %s on %s at %+v\n%s", seed, who, op.Name, place, x, said)
			w.e, w.oracle.e.Guarantees = with, with.Guarantees
			w.shown(t, d, v, fmt.Sprintf("seed %d\n%s", seed, said))
			refuted++
			break
		}
	}
	t.Log(refuted)
}

// What a guarantee requires of subject and resource is held against each of them.
func TestAGuaranteeRequiresThatSomebodyOwns(t *testing.T) {
	for _, c := range []struct {
		when, requires string
		fails          bool
	}{
		{", when: {owner: true}", "owner: true", false}, {"", "owner: true", true},
		{", when: {owner: true}", "not: {owner: true}", true},
		{", when: {mfa: true}", "any: [{owner: true}, {mfa: true}]", false},
		{", when: {mfa: true}", "owner: true, mfa: true", true},
	} {
		e := load(t, small+"grants: {g: {to: everyone, role: look, on: db"+c.when+"}}\nguarantees: {h: {requires: {"+
			c.requires+"}, may: table.read, on: db}}")
		fails, err := verify.NewProver(compiled(t, e), verify.Of{}).Fails(t.Context(), e.Guarantees["h"])
		require.NoError(t, err)
		require.Equal(t, c.fails, fails, "%s requires %s", c.when, c.requires)
	}
}
