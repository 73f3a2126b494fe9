package gate_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/auditing"
	"hiddengate/internal/gate/counting"
)

const propertyEstates = 120

// asked is a request with the answer it got.
type asked struct {
	who       estate.Principal
	operation string
	where     estate.Address
	request   partial
}

// questions draws requests about an estate.
func questions(d draw, e *estate.Estate, n int) []asked {
	var out []asked
	for len(out) < n {
		r := e.Tree.At(d.IntN(e.Tree.Len()))
		ops := e.Offer(r.System.Kind.ID).On(r.Type)
		if len(ops) == 0 {
			continue
		}
		at := int64(clock.Instant(1_761_000_000+d.Int64N(60_000_000)) * clock.Second)
		q := asked{estate.Principal{ID: d.one(drawnPeople...)}, ops[d.IntN(len(ops))].Name, r.Address, partial{
			at: &at, from: open(d, 40, addresses()[2:4]...), mfa: open(d, 40, true, false), reason: open(d, 40, true, false),
			ticket: open(d, 40, true, false), signIn: open(d, 40, estate.SignIns...),
			device: open(d, 40, "managed", "own", "", "other"), ago: open(d, 40, drawnAgo...),
		}}
		out = append(out, q)
	}
	return out
}

func (a asked) decide(t *testing.T, g *gate.Gate) gate.Outcome {
	outcome, err := g.Decide(gate.Request{Subject: a.who, Operation: a.operation, Resource: a.where.String(),
		Context: a.request.context(g)})
	require.NoError(t, err)
	return outcome
}

func compiled(t *testing.T, e *estate.Estate) *gate.Gate {
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	return g
}

// withoutSessions drops the separations within a session, which let a further grant take access away.
func withoutSessions(text string) string {
	head, _, _ := strings.Cut(text, "separations:")
	return head
}

func TestAFurtherGrantTakesNothingAndAFurtherBlockGivesNothing(t *testing.T) {
	for seed := range propertyEstates {
		d := newDraw(uint64(seed) + 10_000)
		text := withoutSessions(d.estate())
		e := load(t, text)
		more := load(t, text+fmt.Sprintf("---\ngrants: {zz: {to: %s, roles: %s, on: %s%s}}\n", d.subjects(4, false),
			d.some(1, 2, drawnRoles...), d.places(3), d.when(60)))
		less := load(t, text+fmt.Sprintf("---\nblocks: {zz: {to: %s, deny: %s, on: %s%s}}\n", d.subjects(4, false),
			d.operations(), d.places(3), d.when(60)))
		g, wider, narrower := compiled(t, e), compiled(t, more), compiled(t, less)
		for _, q := range questions(d, e, 25) {
			was := q.decide(t, g)
			assert.GreaterOrEqual(t, q.decide(t, wider), was, "seed %d: %+v", seed, q)
			assert.LessOrEqual(t, q.decide(t, narrower), was, "seed %d: %+v", seed, q)
		}
		if t.Failed() {
			return
		}
	}
}

// What a request leaves out never helps it.
func TestLeavingOutNeverHelps(t *testing.T) {
	for seed := range propertyEstates {
		d := newDraw(uint64(seed) + 20_000)
		e := load(t, d.estate())
		g := compiled(t, e)
		for _, q := range questions(d, e, 25) {
			said := q.decide(t, g)
			left := q
			for _, drop := range []func(){
				func() { left.request.from = nil }, func() { left.request.mfa = nil }, func() { left.request.signIn = nil },
				func() { left.request.device = nil }, func() { left.request.ago = nil }, func() { left.request.reason = nil },
			} {
				drop()
				after := left.decide(t, g)
				if said != gate.Allow {
					assert.NotEqual(t, gate.Allow, after, "seed %d: %+v", seed, left)
				}
				if said == gate.Allow {
					assert.NotEqual(t, gate.Deny, after, "seed %d: %+v", seed, left)
				}
			}
		}
		if t.Failed() {
			return
		}
	}
}

// Explaining comes to the same answer as deciding, and its causes are the causes: without the grants it names
// nothing is left of the access.
func TestExplanationsExplain(t *testing.T) {
	for seed := range propertyEstates {
		d := newDraw(uint64(seed) + 30_000)
		e := load(t, withoutSessions(d.estate()))
		g := compiled(t, e)
		for _, q := range questions(d, e, 12) {
			req := gate.Request{Subject: q.who, Operation: q.operation, Resource: q.where.String(),
				Context: q.request.context(g)}
			why, err := g.Explain(req)
			require.NoError(t, err)
			assert.Equal(t, q.decide(t, g), why.Outcome)
			assert.Equal(t, why.Outcome == gate.Depends, len(why.Left) > 0)
			named := 0
			without := *e
			without.Grants = maps.Clone(e.Grants)
			for _, c := range why.Grants {
				assert.True(t, c.Who.Selects())
				assert.NotEmpty(t, c.Roles)
				assert.NotEmpty(t, c.Where)
				if c.Met {
					named++
					delete(without.Grants, c.ID())
				}
			}
			assert.Equal(t, why.Outcome != gate.Deny, named > 0, "seed %d: %+v", seed, q)
			assert.Equal(t, gate.Deny, q.decide(t, compiled(t, &without)), "seed %d: %+v", seed, q)
			for _, w := range mustWays(t, g, req) {
				met := slices.ContainsFunc(why.Grants, func(c gate.Cause) bool { return c.Met && c.Grant == w.Grant })
				assert.Equal(t, met, w.Who && w.What && w.Where && w.Lent && w.Named && w.Meets, "seed %d: grant %s of %+v", seed,
					w.Grant.ID, q)
			}
		}
		if t.Failed() {
			return
		}
	}
}

func mustWays(t *testing.T, g *gate.Gate, req gate.Request) []gate.Way {
	ways, err := g.Ways(req)
	require.NoError(t, err)
	return ways
}

// Other names and another order change nothing.
func TestRenamingAndReorderingChangeNothing(t *testing.T) {
	for seed := range propertyEstates {
		d := newDraw(uint64(seed) + 40_000)
		text := d.estate()
		renamed := text
		for _, word := range []string{"grant", "block", "g", "s", "r"} { // grants and blocks, groups, scopes, roles
			for i := 9; i >= 0; i-- {
				old := fmt.Sprint(word, i)
				for _, end := range []string{":", ",", "]", "}", " ", "\n"} {
					renamed = strings.ReplaceAll(renamed, old+end, fmt.Sprint(word, "-", 9-i, "x")+end)
				}
			}
		}
		sections := strings.Split(renamed, "\ngrants:\n")
		renamed = strings.Replace(sections[0], "\nsystems:\n",
			"\ngrants:\n"+strings.Split(sections[1], "blocks:\n")[0]+"systems:\n", 1) + "\nblocks:\n" +
			strings.Split(sections[1], "blocks:\n")[1]
		e, other := load(t, text), load(t, renamed)
		require.NotContains(t, slices.Collect(maps.Keys(other.Grants)), "grant0")
		g, h := compiled(t, e), compiled(t, other)
		for _, q := range questions(d, e, 20) {
			assert.Equal(t, q.decide(t, g), q.decide(t, h), "seed %d: %+v", seed, q)
		}
		if t.Failed() {
			return
		}
	}
}

// Holders and reach agree with deciding one by one.
func TestHoldersAreThoseWhoMay(t *testing.T) {
	for seed := range 60 {
		d := newDraw(uint64(seed) + 50_000)
		e := load(t, d.estate())
		g := compiled(t, e)
		q := questions(d, e, 1)[0]
		r, err := g.Place(q.where)
		require.NoError(t, err)
		holders, err := counting.Holders(t.Context(), g, q.request.context(g), counting.PlacesOf(r),
			func(o *estate.Operation) bool { return o.Name == q.operation })
		require.NoError(t, err)
		found := map[estate.Principal]gate.Outcome{}
		for _, h := range holders {
			found[h.Subject] = h.Outcome
		}
		for _, p := range g.Subjects() {
			q.who = p
			assert.Equal(t, found[p], q.decide(t, g), "seed %d: %s", seed, p)
		}
		holdersOfMany(t, seed, d, g, q)
	}
}

// holdersOfMany asks about several resources at once: the answer for each subject is the best of those about one.
func holdersOfMany(t *testing.T, seed int, d draw, g *gate.Gate, q asked) {
	var resources []*estate.Resource
	for r := range g.Estate().Tree.All() {
		if d.chance(60) {
			resources = append(resources, r)
		}
	}
	if len(resources) < 2 {
		return
	}
	ctx := q.request.context(g)
	holders, err := counting.Holders(t.Context(), g, ctx, counting.PlacesOf(resources...),
		func(o *estate.Operation) bool { return o.Level >= estate.Change })
	require.NoError(t, err)
	for _, p := range g.Subjects() {
		best := gate.Deny
		err := g.Answers(p, gate.Sought{Context: ctx, Resources: slices.Values(resources),
			Operations: func(o *estate.Operation) bool { return o.Level >= estate.Change }}, func(a gate.Answer) bool {
			best = max(best, a.Outcome)
			return true
		})
		require.NoError(t, err)
		i := slices.IndexFunc(holders, func(h gate.Answer) bool { return h.Subject == p })
		if best == gate.Deny {
			assert.Negative(t, i, "seed %d: %s", seed, p)
			continue
		}
		require.GreaterOrEqual(t, i, 0, "seed %d: %s", seed, p)
		assert.Equal(t, best, holders[i].Outcome, "seed %d: %s", seed, p)
		assert.True(t, slices.ContainsFunc(resources,
			func(r *estate.Resource) bool { return r.Index == holders[i].Resource.Index }))
		got, err := g.Decide(gate.Request{Subject: p, Operation: holders[i].Operation.Name,
			Resource: holders[i].Resource.Address.String(), Context: ctx})
		require.NoError(t, err)
		assert.Equal(t, best, got, "seed %d: the example of %s", seed, p)
	}
}

// A new member gets what the group gets and nothing that needs tags or another group.
func TestANewMember(t *testing.T) {
	e := load(t, small+`
groups: {crew: {members: ana}, both: {members: group:crew}, tagged: {match: {team: x}}}
grants:
  direct: {to: group:crew, role: look, on: db:sky/a}
  nested: {to: group:both, role: look, on: db:sky/b}
  tags: {to: group:tagged, role: look, on: db:sky}
`)
	with, who := e.WithNewMember("crew")
	g := compiled(t, with)
	for place, want := range map[string]gate.Outcome{"db:sky/a": gate.Allow, "db:sky/b": gate.Allow, "db:sky": gate.Deny} {
		a, err := estate.ParseAddress(place)
		require.NoError(t, err)
		got, err := g.Decide(gate.Request{Subject: who, Operation: "table.read", Resource: a.String(),
			Context: g.NewContext()})
		require.NoError(t, err)
		assert.Equal(t, want, got, place)
	}
	assert.Len(t, e.People, 3, "the estate itself is as it was")
	assert.Len(t, e.Groups["crew"].Members, 1)
}

// Whatever a list selects is found, however far behind it stands.
func TestWhatStandsFarBehindIsFound(t *testing.T) {
	var text strings.Builder
	text.WriteString("hidden-gate: 1\nsystems: {db: {kind: database, resources: {")
	for n := range 1000 {
		fmt.Fprintf(&text, "r%03d: {}, ", n)
	}
	text.WriteString("z: {tags: {team: x}}}}}\n")
	g := compiled(t, load(t, text.String()))
	some, none := term(t, "*:**/z"), term(t, "*:**/y")
	tagged := estate.ResourceTerm{Tags: []estate.Match{{Key: "team", Values: []string{"x"}}}}
	g.LookForAny([]estate.Resources{{some}, {none}, {tagged}})
	assert.True(t, g.CoversAny(estate.Resources{some}))
	assert.True(t, g.CoversAny(estate.Resources{tagged}))
	assert.False(t, g.CoversAny(estate.Resources{none}))
}

// A grant is not taken for another whose list would read the same without quotes.
func TestAHostileTagDoesNotMakeOneListAnother(t *testing.T) {
	g := compiled(t, load(t, `
hidden-gate: 1
systems:
  db: {kind: database, resources: {sky: {tags: {x: a, y: b}}, sea: {tags: {x: "a, y: b"}}}}
people: {ana: {}, bo: {}}
roles: {look: {allow: table.read}}
grants:
  a: {to: ana, role: look, on: {tags: {x: a, y: b}}}
  b: {to: bo, role: look, on: {tags: {x: "a, y: b"}}}
`))
	for who, where := range map[string]string{"ana": "db:sky", "bo": "db:sea"} {
		for _, place := range []string{"db:sky", "db:sea"} {
			got, err := g.Decide(gate.Request{Subject: estate.Principal{ID: who}, Operation: "table.read", Resource: place,
				Context: g.NewContext()})
			require.NoError(t, err)
			assert.Equal(t, place == where, got == gate.Allow, "%s on %s", who, place)
		}
	}
}

// Whoever is said to be the only one is: the one person who may do it at some time; and all who are, are told.
func TestWhoIsAloneIsAlone(t *testing.T) {
	claims := 0
	for seed := range uint64(150) {
		d := newDraw(seed)
		e := load(t, d.estate())
		g := compiled(t, e)
		selects := func(o *estate.Operation) bool { return o.HighRisk || o.Level == estate.Govern }
		all, err := auditing.SingleHolders(t.Context(), g, clock.Beginning, 1000, selects)
		require.NoError(t, err)
		told, found := map[string]auditing.SingleHolder{}, map[string]auditing.SingleHolder{}
		for _, one := range all {
			told[one.Who.ID] = one
		}
		for r := range e.Tree.All() {
			for _, o := range e.Offer(r.System.Kind.ID).On(r.Type) {
				if !selects(o) {
					continue
				}
				var may []string
				for id := range e.People {
					out, err := g.Decide(gate.Request{Subject: estate.Principal{ID: id}, Operation: o.Name,
						Resource: r.Address.String(), Context: g.NewContext()})
					require.NoError(t, err)
					if out != gate.Deny {
						may = append(may, id)
					}
				}
				if len(may) != 1 {
					continue
				}
				one := found[may[0]]
				one.Who.ID = may[0]
				one.Operations = append(one.Operations, o.Name)
				if n := len(one.Resources); n == 0 || one.Resources[n-1] != r.Address.String() {
					one.Resources = append(one.Resources, r.Address.String())
					one.Count++
				}
				found[may[0]] = one
			}
		}
		for id, one := range found {
			slices.Sort(one.Operations)
			one.Operations = slices.Compact(one.Operations)
			found[id] = one
		}
		require.Equal(t, found, told, "seed %d", seed)
		for _, one := range told {
			claims += len(one.Operations)
		}
	}
	require.Greater(t, claims, 100)
}

// What is told of lists and roles at once is what looking at each resource tells.
func TestListsAreCountedAsTheyCover(t *testing.T) {
	some := 0
	for seed := range propertyEstates {
		d := newDraw(uint64(seed) + 60_000)
		e := load(t, d.estate())
		g := compiled(t, e)
		for _, gr := range estate.Sorted(e.Grants) {
			require.Equal(t, len(slices.Collect(g.Selected(gr.On))), g.Count(gr.On), "seed %d: grant %s", seed, gr.ID)
			lists := []estate.Resources{gr.On}
			for _, term := range gr.On { // one by one they are looked for where each points
				lists = append(lists, estate.Resources{term})
			}
			learned, asked := compiled(t, e), compiled(t, e) // many lists at once
			learned.Learn(lists)
			asked.LookForAny(lists)
			for _, list := range lists {
				var covered []int
				for r := range e.Tree.All() {
					if g.Covers(list, r) {
						covered = append(covered, r.Index)
					}
				}
				for _, g := range []*gate.Gate{g, learned, asked} {
					require.Equal(t, covered, slices.Collect(g.Selected(list)), "seed %d: %v", seed, list)
					require.Equal(t, len(covered), g.Count(list), "seed %d: %v", seed, list)
					require.Equal(t, covered != nil, g.CoversAny(list), "seed %d: %v", seed, list)
				}
			}
		}
		for _, role := range estate.Sorted(e.Roles) {
			var used []string
			for _, o := range g.RoleOperations(role.ID) {
				if slices.ContainsFunc(estate.Sorted(e.Grants), func(gr *estate.Grant) bool {
					return slices.ContainsFunc(gr.Roles, func(ref estate.Ref) bool { return g.Includes(ref.ID, role.ID) }) &&
						slices.ContainsFunc(slices.Collect(g.Selected(gr.On)), func(row int) bool {
							r := e.Tree.At(row)
							return e.Offer(r.System.Kind.ID).Valid(o.Name, r.Type) != nil
						})
				}) {
					used = append(used, o.Name)
				}
			}
			require.Equal(t, used, g.Used(role.ID), "seed %d: role %s", seed, role.ID)
			some += len(used)
		}
	}
	require.Positive(t, some)
}

// Of resources that only their owners tell apart, what somebody does not own counts even if the first of them is
// theirs.
func TestHoldersOfWhatOthersOwn(t *testing.T) {
	for _, c := range []struct {
		on, owner string
		want      map[string]string
	}{
		{"db", "false", map[string]string{"ana": "db:sky/b", "bo": "db:sky/a"}},
		{"db", "true", map[string]string{"ana": "db:sky/a"}},
		{"'d*:**'", "false", map[string]string{"ana": "db:sky/b", "bo": "db:sky/a"}}, // by what traits tell
		{"'d*:**'", "true", map[string]string{"ana": "db:sky/a"}},
	} {
		g := compiled(t, load(t, small+"grants: {g: {to: everyone, role: look, on: "+c.on+", when: {owner: "+c.owner+"}}}"))
		var both []*estate.Resource
		for _, text := range []string{"db:sky/a", "db:sky/b"} {
			both = append(both, g.Estate().Listed(mustAddress(text)))
		}
		holders, err := counting.Holders(t.Context(), g, g.NewContext(), counting.PlacesOf(both...),
			func(o *estate.Operation) bool { return o.Name == "table.read" })
		require.NoError(t, err)
		found := map[string]string{}
		for _, h := range holders {
			require.Equal(t, gate.Allow, h.Outcome)
			found[h.Subject.ID] = h.Resource.Address.String()
		}
		assert.Equal(t, c.want, found, "owner: %s", c.owner)
	}
}
