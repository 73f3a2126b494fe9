package gate_test

import (
	"net/netip"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/region"
	"hiddengate/internal/shape"
)

var topKey = regexp.MustCompile(`(?m)^[a-z]`)

// crossed takes some sections of one drawn estate from another.
func crossed(d draw, text, other string) string {
	cut := func(text string) map[string]string {
		out := map[string]string{}
		starts := topKey.FindAllStringIndex(text, -1)
		for i, at := range starts {
			end := len(text)
			if i+1 < len(starts) {
				end = starts[i+1][0]
			}
			name, _, _ := strings.Cut(text[at[0]:end], ":")
			out[name] = text[at[0]:end]
		}
		return out
	}
	a, b := cut(text), cut(other)
	var out strings.Builder
	for _, name := range []string{"hidden-gate", "timezone", "catalogs", "systems", "people", "services", "groups",
		"roles", "scopes", "grants", "blocks", "separations"} {
		if name != "timezone" && d.chance(25) {
			out.WriteString(b[name])
		} else {
			out.WriteString(a[name])
		}
	}
	return out.String()
}

// cellName names one cell.
type cellName struct {
	who     estate.Principal
	op      string
	address string
}

func TestDifferencesAgreeWithTheOracle(t *testing.T) {
	counts := map[string]int{}
	for seed := range uint64(scaled(60)) {
		d := newDraw(seed)
		text := d.estate()
		edited := crossed(d, text, newDraw(seed+1e6).estate())
		before := load(t, text)
		after, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(edited)}})
		if err != nil {
			counts["not sound"]++
			continue
		}
		differencesAgree(t, d, seed, before, after, counts)
		if t.Failed() {
			t.Logf("before:\n%s\nafter:\n%s", text, edited)
			return
		}
	}
	t.Log(counts)
	require.Greater(t, counts["differs"], 50)
	require.Greater(t, counts["same"], 50)
}

func differencesAgree(t *testing.T, d draw, seed uint64, before, after *estate.Estate, counts map[string]int) {
	pair, err := differing.CompilePair(differing.Estates{Before: before, After: after})
	require.NoError(t, err)
	since, err := after.Zone.ParseTime(d.one(drawnTimes[:3]...))
	require.NoError(t, err)
	found := map[cellName][2]differing.Cell{}
	require.NoError(t, pair.Differences(t.Context(), since, func(x differing.Difference) bool {
		for _, who := range x.Subjects {
			for pile := range x.Piles.All() {
				for address := range pile.Addresses() {
					name := cellName{who, x.Operation, address}
					require.NotContains(t, found, name, "seed %d: a cell comes twice", seed)
					found[name] = [2]differing.Cell{x.Old, x.New}
				}
			}
		}
		return true
	}))
	zone, err := time.LoadLocation(after.Zone.Name())
	require.NoError(t, err)
	oracles := [2]*oracle{{e: before, zone: zone}, {e: after, zone: zone}}
	var late []int64
	for _, at := range moments(oracles[1]) {
		if at >= int64(since) {
			late = append(late, at)
		}
	}
	for name := range cellNames(before, after) {
		cell, differs := found[name]
		delete(found, name)
		if !d.chance(5) {
			continue // a sample of them
		}
		if differs {
			counts["differs"]++
			x, ok := witnessOf(pair.Space(), cell, since)
			require.True(t, ok, "seed %d: %v: the cells are the same", seed, name)
			was, is := oracles[0].judgeCell(name, x), oracles[1].judgeCell(name, x)
			require.NotEqual(t, was, is, "seed %d: %v differs, and the oracle says the same at %+v", seed, name, x)
		} else {
			counts["same"]++
		}
		for range 12 {
			x := concrete{
				at: late[d.IntN(len(late))], from: addresses()[d.IntN(len(addresses()))], mfa: d.chance(50), reason: d.chance(50),
				ticket: d.chance(50),
				signIn: d.one(estate.SignIns...), ago: drawnAgo[d.IntN(len(drawnAgo))], attrs: map[string]string{},
			}
			if !x.from.IsValid() {
				continue
			}
			if d.chance(80) {
				x.attrs["device"] = d.one("managed", "own", "", "other")
			}
			was, is := oracles[0].judgeCell(name, x), oracles[1].judgeCell(name, x)
			if !differs {
				require.Equal(t, was, is, "seed %d: %v does not differ, and the oracle says otherwise at %+v", seed, name, x)
				continue
			}
			for k, want := range []string{was, is} {
				require.Equal(t, want, inCell(pair.Space(), cell[k], x), "seed %d: %v on side %d at %+v", seed, name, k, x)
			}
		}
	}
	require.Empty(t, found, "seed %d: these are no cells", seed)
}

// cellNames lists every cell of two estates: listed resources, and addresses that grants and blocks name and either
// judges.
func cellNames(estates ...*estate.Estate) map[cellName]bool {
	out := map[cellName]bool{}
	places := map[string]bool{}
	for _, e := range estates {
		for r := range e.Tree.All() {
			places[r.Address.String()] = true
		}
	}
	for _, e := range estates {
		var name func(estate.Resources)
		name = func(list estate.Resources) {
			for _, term := range list {
				switch {
				case term.Scope != "":
					name(e.Scopes[term.Scope].Resources)
				case term.In != nil && term.In.Plain() && !term.Exactly && term.Types == nil && term.Owners == nil:
					a := e.Canonical(term.In.Address())
					for _, judging := range estates {
						if s := judging.Systems[a.System]; s != nil && s.Judge {
							places[a.String()] = true
						}
					}
				}
			}
		}
		for _, g := range e.Grants {
			name(g.On)
		}
		for _, b := range e.Blocks {
			name(b.On)
		}
	}
	for _, e := range estates {
		who := []estate.Principal{{Kind: estate.IsAnonymous}}
		for _, s := range e.People {
			who = append(who, s.Principal())
		}
		for _, s := range e.Services {
			who = append(who, s.Principal())
		}
		for text := range places {
			if r := placeIn(e, text); r != nil {
				for _, o := range e.Offer(r.System.Kind.ID).On(r.Type) {
					for _, p := range who {
						out[cellName{p, o.Name, text}] = true
					}
				}
			}
		}
	}
	return out
}

func placeIn(e *estate.Estate, text string) *estate.Resource {
	a, _ := estate.ParseAddress(text)
	if e.Canonical(a) != a {
		return nil // another name of another place
	}
	if r := e.Listed(a); r != nil {
		return r
	}
	if s := e.Systems[a.System]; s != nil && s.Judge {
		return e.Unlisted(a)
	}
	return nil
}

// judgeCell judges one concrete context; what the estate does not know is denied.
func (o *oracle) judgeCell(c cellName, x concrete) string {
	r := placeIn(o.e, c.address)
	if r == nil || o.e.Subject(c.who) == nil || o.e.Offer(r.System.Kind.ID).Valid(c.op, r.Type) == nil {
		return "deny"
	}
	s := spot{system: r.System}
	if r.Address.Path != "" {
		s.path = strings.Split(r.Address.Path, "/")
	}
	return o.judgeSpot(c.who, c.op, s, x)
}

// judgeSpot judges one concrete context of a subject and an operation that the estate knows.
func (o *oracle) judgeSpot(who estate.Principal, op string, s spot, x concrete) string {
	set := o.setting(who, op, s)
	sessions, _ := o.sessions(who, nil, x.at)
	yes, no := false, false
	for _, roles := range sessions {
		if o.allowed(set, x, roles) {
			yes = true
		} else {
			no = true
		}
	}
	switch {
	case yes && no:
		return "depends"
	case yes:
		return "allow"
	}
	return "deny"
}

func inCell(s *region.Space, c differing.Cell, x concrete) string {
	return inCellAt(s, c, contextOf(s, x))
}

func contextOf(s *region.Space, x concrete) *region.Context {
	at := s.NewContext()
	at.SetTime(clock.Instant(x.at))
	at.SetNetwork(x.from)
	at.SetFlag("mfa", x.mfa)
	at.SetFlag("reason", x.reason)
	at.SetFlag("ticket", x.ticket)
	at.SetText("sign-in", x.signIn)
	at.SetText("signed-in-within", agoText(x.ago))
	if s.Has("context device") {
		if v, ok := x.attrs["device"]; ok {
			at.SetText("context device", v)
		} else {
			at.SetAbsent("context device")
		}
	}
	return at
}

func inCellAt(s *region.Space, c differing.Cell, at *region.Context) string {
	switch {
	case s.Judge(c.Sure, at) == region.All:
		return "allow"
	case s.Judge(c.Possible, at) == region.None:
		return "deny"
	}
	return "depends"
}

// witnessOf gives a context in which two cells differ.
func witnessOf(s *region.Space, c [2]differing.Cell, since clock.Instant) (concrete, bool) {
	for _, of := range []func(differing.Cell) region.Region{func(c differing.Cell) region.Region { return c.Sure },
		func(c differing.Cell) region.Region { return c.Possible }} {
		for k := range c {
			r, err := s.Minus(of(c[k]), of(c[1-k]))
			if err != nil || r == region.Empty {
				continue
			}
			w, _ := s.Witness(r, since)
			x := concrete{from: netip.MustParseAddr("192.0.2.1"), signIn: estate.SignIns[0], at: int64(since),
				attrs: map[string]string{}}
			if at, ok := w.Time(); ok {
				x.at = int64(at)
			}
			if a, ok := w.Network(); ok {
				x.from = a
			}
			x.mfa, _ = w.Flag("mfa")
			x.reason, _ = w.Flag("reason")
			x.ticket, _ = w.Flag("ticket")
			if how, _, ok := w.Text("sign-in"); ok {
				x.signIn = how
			}
			if word, _, ok := w.Text("signed-in-within"); ok {
				x.ago = agoOf(word)
			}
			if s.Has("context device") {
				if v, absent, ok := w.Text("context device"); ok && !absent {
					x.attrs["device"] = v
				}
			}
			return x, true
		}
	}
	return concrete{}, false
}

// scaled is how many estates to draw where a test draws n of 2,000.
func scaled(n int) int { return shape.Drawn(n, 10, testing.Short()) }

// What two subjects may do, held against one another, is what the oracle says of each.
func TestTwoSubjectsAreComparedAsTheOracleSays(t *testing.T) {
	told := 0
	for seed := range uint64(scaled(60)) {
		d := newDraw(seed)
		e := load(t, d.estate())
		pair, err := differing.CompilePair(differing.Estates{Before: e, After: e})
		require.NoError(t, err)
		since, err := e.Zone.ParseTime(drawnTimes[0])
		require.NoError(t, err)
		one, other := estate.Principal{ID: d.one(drawnPeople...)}, estate.Principal{Kind: estate.IsService, ID: "bot"}
		cells := map[[2]string][2]differing.Cell{}
		require.NoError(t, pair.Between(one, other, since, func(x differing.Difference) {
			for pile := range x.Piles.All() {
				for address := range pile.Addresses() {
					cells[[2]string{x.Operation, address}] = [2]differing.Cell{x.Old, x.New}
				}
			}
		}))
		zone, err := time.LoadLocation(e.Zone.Name())
		require.NoError(t, err)
		o := &oracle{e: e, zone: zone}
		for name := range cellNames(e) {
			if name.who != one || !d.chance(15) {
				continue
			}
			both := cells[[2]string{name.op, name.address}]
			for range 5 {
				x := concrete{
					at: int64(since) + int64(d.IntN(1e8))*1e6, from: addresses()[d.IntN(3)], mfa: d.chance(50), reason: d.chance(50),
					ticket: d.chance(50),
					signIn: d.one(estate.SignIns...), ago: drawnAgo[d.IntN(len(drawnAgo))],
					attrs: map[string]string{"device": d.one("managed", "own")},
				}
				for k, who := range []estate.Principal{one, other} {
					want := o.judgeCell(cellName{who, name.op, name.address}, x)
					require.Equal(t, want, inCell(pair.Space(), both[k], x), "seed %d: %v, as %s at %+v", seed, name, who, x)
					if want == "allow" {
						told++
					}
				}
			}
		}
	}
	require.Greater(t, told, 100)
}
