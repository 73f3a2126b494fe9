package gate_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/policyfile"
)

// put gives the spot of a resource that is put into an estate as it is described; ok is false where it can't be.
func put(e *estate.Estate, m *newplace.Specimen, owner *estate.Principal, others map[string]string) (s spot, ok bool) {
	system := e.Systems[m.Address.System]
	if system == nil && m.Kind == "" {
		return s, false
	}
	if system == nil {
		system = &estate.System{Object: estate.Object{ID: m.Address.System}, Kind: estate.Ref{ID: m.Kind}}
	}
	if m.Address.Path != "" {
		s.path = strings.Split(m.Address.Path, "/")
	}
	with := *system
	s.system = &with
	if m.Inherit {
		return s, e.Listed(m.Address) == nil && e.Canonical(m.Address) == m.Address
	}
	tags := estate.Tags{{Key: "team"}, {Key: "env"}}
	for i := range tags {
		tags[i].Value = m.Tags.Get(tags[i].Key) + others[tags[i].Key]
	}
	if m.Address.Path == "" {
		with.Tags, with.Owner = tags, owner
		return s, true
	}
	entry := &estate.Entry{Address: m.Address, Type: m.Type, Tags: tags, NoOwner: owner == nil}
	entry.Owner = owner
	with.Resources = append([]*estate.Entry{entry}, system.Resources...)
	return s, true
}

// coming compiles a pair and gives what it tells of what may come.
func coming(t *testing.T, before, after *estate.Estate, since string) (pair *differing.Pair,
	told map[string]map[cellName][2]differing.Cell) {
	pair, err := differing.CompilePair(differing.Estates{Before: before, After: after, Coming: &differing.Coming{}})
	require.NoError(t, err)
	from, err := after.Zone.ParseTime(since)
	require.NoError(t, err)
	told = map[string]map[cellName][2]differing.Cell{}
	require.NoError(t, pair.Differences(t.Context(), from, func(x differing.Difference) bool {
		for pile := range x.Piles.All() {
			if pile.May() == nil {
				continue
			}
			if told[pile.Key()] == nil {
				told[pile.Key()] = map[cellName][2]differing.Cell{}
			}
			for _, who := range x.Subjects {
				told[pile.Key()][cellName{who, x.Operation, pile.First()}] = [2]differing.Cell{x.Old, x.New}
			}
		}
		return true
	}))
	return pair, told
}

// What a pair tells of what may come is what the oracle says once such a resource is there; and each resource that
// can be made up is like one that the pair looks at.
func TestWhatMayComeIsWhatTheOracleSays(t *testing.T) {
	counts := map[string]int{}
	for seed := range uint64(scaled(14)) {
		d := newDraw(seed + 5e5)
		d.plain = seed%4 > 0 // there is less to tell apart
		text := d.estate()
		other := newDraw(seed + 6e5)
		other.plain = d.plain
		edited := crossed(d, text, other.estate())
		if d.chance(50) { // only one grant is another
			edited = strings.Replace(text, "  grant0:", "  more: {to: everyone, role: r0, on: "+d.places(3)+"}\n  grant0:", 1)
		}
		before := load(t, text)
		after, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(edited)}})
		if err != nil {
			continue
		}
		about := fmt.Sprintf("seed %d\nbefore:\n%s\nafter:\n%s", seed, text, edited)
		since := d.one(drawnTimes[:3]...)
		pair, told := coming(t, before, after, since)
		zone, err := time.LoadLocation(after.Zone.Name())
		require.NoError(t, err)
		oracles := [2]*oracle{{e: before, zone: zone}, {e: after, zone: zone}}
		from, _ := after.Zone.ParseTime(since)
		w := &world{times: slices.DeleteFunc(moments(oracles[1]), func(at int64) bool { return at < int64(from) })}
		piles := pair.Coming()
		require.NotEmpty(t, piles, about)
		for range 60 {
			pile := piles[d.IntN(len(piles))]
			comesAsTold(t, d, w, pair, pile, told[pile.Key()], oracles, counts, about)
		}
		if !pair.Whole {
			counts["in part"]++
			continue
		}
		for range 15 {
			likeOne(t, d, piles, oracles, counts, about)
		}
		if t.Failed() {
			return
		}
	}
	t.Log(counts)
	for _, what := range []string{"differs", "same", "made up", "new system"} {
		require.Greater(t, counts[what], 20, what)
	}
}

// namesOwner says whether some list of an estate asks whether somebody owns a resource: of such owners there are
// specimens of their own, where anything changes for them.
func namesOwner(e *estate.Estate, p estate.Principal) bool {
	names := func(list estate.Resources) bool {
		return slices.ContainsFunc(list, func(t estate.ResourceTerm) bool { return slices.Contains(t.Owners, p) })
	}
	for _, s := range e.Scopes {
		if names(s.Resources) {
			return true
		}
	}
	for _, g := range e.Grants {
		if names(g.On) {
			return true
		}
	}
	for _, b := range e.Blocks {
		if names(b.On) {
			return true
		}
	}
	return false
}

// comesAsTold puts a specimen into both estates, and holds the oracle against what is told of it.
func comesAsTold(t *testing.T, d draw, w *world, pair *differing.Pair, pile *differing.Pile,
	told map[cellName][2]differing.Cell,
	oracles [2]*oracle, counts map[string]int, about string) {
	m := pile.May()
	if m.Kind != "" {
		counts["new system"]++
	}
	others := map[string]string{}
	for key, not := range m.Others {
		for _, v := range []string{d.one("x", "y", "yes", "prod", "1"), "zzz"} {
			if !slices.Contains(not, v) && others[key] == "" {
				others[key] = v
			}
		}
	}
	owner := m.Owner
	if owner == nil && !m.Inherit {
		for _, p := range []*estate.Principal{nil, {ID: "bo"}, {ID: "ana"}, {Kind: estate.IsGroup, ID: "g0"},
			{Kind: estate.IsGroup, ID: "g1"}, {ID: "cai"}} {
			if p != nil && p.Kind == estate.IsGroup && !slices.Equal(pair.Old.Group(p.ID), pair.New.Group(p.ID)) {
				continue // a group that owns nothing, with other members: what it may own one day is not told
			}
			named := p != nil && slices.ContainsFunc(oracles[:], func(o *oracle) bool { return namesOwner(o.e, *p) })
			if !named && (owner == nil || d.chance(40)) {
				owner = p
			}
		}
	}
	var spots [2]spot
	var there [2]bool
	for k, o := range oracles {
		spots[k], there[k] = put(o.e, m, owner, others)
	}
	for range 12 {
		who := estate.Principal{ID: d.one(drawnPeople...)}
		if d.chance(20) {
			who = estate.Principal{Kind: estate.IsService, ID: "bot"}
		}
		op := d.one(drawnOps...)
		cell, differs := told[cellName{who, op, pile.First()}]
		x := w.at(d)
		if !x.from.IsValid() {
			continue
		}
		var said [2]string
		for k, o := range oracles {
			said[k] = "deny"
			if there[k] && o.e.Subject(who) != nil && o.e.Offer(spots[k].system.Kind.ID).Valid(op, o.typeOf(spots[k])) != nil {
				said[k] = o.judgeSpot(who, op, spots[k], x)
			}
		}
		if !differs {
			counts["same"]++
			require.Equal(t, said[0], said[1], "%v is not told of %s, and differs at %+v, owned by %v\n%s",
				cellName{who, op, pile.First()}, fmt.Sprintf("%+v", *m), x, owner, about)
			continue
		}
		counts["differs"]++
		s := pair.Space()
		for k, o := range oracles {
			if said[k] == "deny" && o.e.Subject(who) == nil {
				continue
			}
			at := contextOf(s, x)
			if s.Has("owner") {
				at.SetFlag("owner", there[k] && o.owns(who, spots[k]))
			}
			for _, key := range []string{"team", "env"} {
				if !there[k] || !s.Has("same "+key) {
					continue
				}
				tags := o.tags(spots[k])
				v := o.e.Subject(who).Tags.Get(key)
				at.SetFlag("same "+key, v != "" && tags[key] == v)
			}
			require.Equal(t, said[k], inCellAt(s, cell[k], at),
				"%v is told of %s on side %d, and is not so at %+v, owned by %v\n%s", cellName{who, op, pile.First()},
				fmt.Sprintf("%+v", *m), k, x, owner, about)
		}
	}
}

// handsOut says whether some role may have an operation.
func (o *oracle) handsOut(op string) bool {
	for _, r := range o.e.Roles {
		if slices.ContainsFunc(r.Allow, func(t estate.OperationTerm) bool { return !t.Not && o.selects(t, op) }) {
			return true
		}
	}
	return false
}

// likeOne makes up a resource that is not there, and finds a specimen that every list and condition takes for the same.
func likeOne(t *testing.T, d draw, piles []*differing.Pile, oracles [2]*oracle, counts map[string]int, about string) {
	e := oracles[1].e
	system := d.one(drawnSystems...)
	m := newplace.Specimen{Address: estate.Address{System: system,
		Path: d.one("a", "a/b", "d", "q", "a/q", "b", "q/b", "a/b/c/q", "A/X", "nowhere")},
		Tags: estate.Tags{{Key: "env", Value: d.one("x", "prod", "1", "")}, {Key: "team", Value: d.one("x", "y", "yes", "")}}}
	types := e.Offer(e.Systems[system].Kind.ID).AllTypes
	m.Type = types[d.IntN(len(types))]
	if d.chance(20) {
		m.Kind, m.Address.System, m.Address.Path = e.Systems[system].Kind.ID, d.one("fresh", "dbs"), d.one("a", "b", "q/b")
		system = m.Address.System
	}
	for _, o := range oracles {
		if o.e.Canonical(m.Address) != m.Address || m.Kind == "" && o.e.Listed(m.Address) != nil {
			return
		}
	}
	owner := []*estate.Principal{nil, {ID: "bo"}, {ID: "ana"}, {Kind: estate.IsGroup, ID: "g0"}}[d.IntN(4)]
	signature := func(m *newplace.Specimen, owner *estate.Principal, others map[string]string) string {
		var b strings.Builder
		for _, o := range oracles {
			s, ok := put(o.e, m, owner, others)
			fmt.Fprint(&b, ok, " ")
			if !ok {
				continue
			}
			for _, op := range o.e.Offer(s.system.Kind.ID).On(o.typeOf(s)) {
				if slices.ContainsFunc(oracles[:], func(o *oracle) bool { return o.handsOut(op.Name) }) {
					b.WriteString(op.Name + " ")
				}
			}
			for _, g := range estate.Sorted(o.e.Grants) {
				fmt.Fprint(&b, o.covers(g.On, s), " ")
			}
			for _, x := range estate.Sorted(o.e.Blocks) {
				fmt.Fprint(&b, o.covers(x.On, s), " ")
			}
		}
		return b.String()
	}
	want := signature(&m, owner, nil)
	for _, p := range piles {
		if !p.May().Inherit && (p.May().Address.System == m.Address.System || m.Kind != "" && p.May().Kind == m.Kind) &&
			signature(p.May(), p.May().Owner, nil) == want {
			counts["made up"]++
			return
		}
	}
	require.Fail(t, "nothing stands for a resource", "%+v owned by %v in %s\n%s", m, owner, system, about)
}

// What a grant gives is what its roles have and what applies to something listed there, or judged though it is not.
func TestWhatAGrantGivesIsSomewhere(t *testing.T) {
	listed, judged := 0, 0
	for seed := range uint64(scaled(200)) {
		e := load(t, newDraw(seed+7e6).estate())
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		only := map[estate.Principal]bool{g.Subjects()[0]: true}
		roster := membership.New(e)
		few, err := gate.CompileWith(e, nil, gate.Options{Facts: factspace.Gather(e), Only: only, Roster: roster,
			Entries: gate.EntriesFor(e, roster, only)})
		require.NoError(t, err)
		for _, gr := range estate.Sorted(e.Grants) {
			want := map[string]bool{}
			note := func(r *estate.Resource, count *int) {
				if !g.Covers(gr.On, r) {
					return
				}
				for _, o := range e.Operations {
					if has := slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return g.RoleHas(ref.ID, o.Name) }); has &&
						e.Offer(r.System.Kind.ID).Valid(o.Name, r.Type) != nil {
						want[o.Name] = true
						*count++
					}
				}
			}
			for r := range e.Tree.All() {
				note(r, &listed)
			}
			for _, a := range newplace.Newcomers(e, gr.On) {
				if e.Systems[a.System].Judge {
					note(e.Unlisted(a), &judged)
				}
			}
			for _, g := range []*gate.Gate{g, few} { // few knows the grants of some alone
				got := map[string]bool{}
				for _, o := range g.Gives(gr) {
					got[o.Name] = true
				}
				require.Equal(t, want, got, "seed %d: grant %s", seed, gr.ID)
			}
		}
	}
	require.NotZero(t, listed)
	require.NotZero(t, judged)
}
