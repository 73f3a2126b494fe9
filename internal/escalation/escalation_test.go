package escalation_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/escalation"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
	"hiddengate/internal/verify"
)

// world is a small estate that can be written, changed by a step, and read again.
type world struct {
	tags      map[string]map[string]string // of each item
	members   map[string][]string
	stewards  map[string]string
	roles     map[string][]string
	grants    []string
	onRequest map[string]string // the same without `on-request`
	rest      string
}

var operations = []string{"box.look", "box.wipe", "box.open", "box.give", "box.edit", "box.mark"}

const kinds = `hidden-gate: 1
catalogs:
  box:
    types: [box, item]
    operations:
      box.look: {level: view, types: [box, item]}
      box.wipe: {level: govern, types: [box, item]}
      box.open: {level: change, types: [box, account], opens: accounts}
      box.give: {level: change, types: [box, item, account], opens: members}
      box.edit: {level: change, types: [box, item], opens: roles}
      box.mark: {level: change, types: [item], opens: tags}
people: {p0: {}, p1: {}, p2: {tags: {a: x}}, p3: {}}
`

func (w *world) text() string {
	var b strings.Builder
	b.WriteString(kinds)
	b.WriteString("systems:\n  one:\n    kind: box\n    resources:\n      own/p0: {type: account, owner: p0}\n      " +
		"own/p1: {type: account, owner: p1}\n")
	for _, item := range slices.Sorted(maps.Keys(w.tags)) {
		if item == "z" {
			continue
		}
		fmt.Fprintf(&b, "      %s: {%s}\n", item, tagsText(w.tags[item]))
	}
	fmt.Fprintf(&b, "  two:\n    kind: box\n    resources: {z: {%s}}\ngroups:\n", tagsText(w.tags["z"]))
	for _, g := range slices.Sorted(maps.Keys(w.members)) {
		fmt.Fprintf(&b, "  %s: {members: [%s]%s}\n", g, strings.Join(w.members[g], ", "), w.stewards[g])
	}
	b.WriteString("roles:\n")
	for _, r := range slices.Sorted(maps.Keys(w.roles)) {
		fmt.Fprintf(&b, "  %s: {allow: [%s]}\n", r, strings.Join(w.roles[r], ", "))
	}
	b.WriteString("grants:\n" + strings.Join(w.grants, "") + w.rest)
	return b.String()
}

func tagsText(tags map[string]string) string {
	if len(tags) == 0 {
		return ""
	}
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(tags)) {
		parts = append(parts, k+": "+tags[k])
	}
	return "tags: {" + strings.Join(parts, ", ") + "}"
}

func (w *world) clone() *world {
	out := *w
	out.tags, out.members, out.roles, out.grants = maps.Clone(w.tags), maps.Clone(w.members), maps.Clone(w.roles),
		slices.Clone(w.grants)
	return &out
}

func drawn(seed uint64) *world {
	r := rand.New(rand.NewPCG(seed, 4))
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	w := &world{
		tags: map[string]map[string]string{"x": {}, "y": {}, "own": {}, "z": {}}, members: map[string][]string{},
		stewards: map[string]string{}, roles: map[string][]string{},
		onRequest: map[string]string{},
	}
	for _, item := range []string{"x", "y"} {
		if r.IntN(2) == 0 {
			w.tags[item] = map[string]string{one("a", "b"): one("x", "y")}
		}
	}
	for _, g := range []string{"g0", "g1"} {
		w.members[g] = []string{one("p0", "p1", "p2", "p3")}
		if r.IntN(2) == 0 {
			w.stewards[g] = ", stewards: [" + one("p0", "p1", "p2", "p3", "group:g0", "group:g1") + "]"
		}
	}
	for i := range 4 {
		w.roles[fmt.Sprint("r", i)] = []string{one(operations...), one(operations...)}
	}
	for i := range 3 + r.IntN(3) {
		on := one("one", "one:x", "one:own", "one:own/p0", "{in: one, tags: {a: x}}", "{tags: {b: [x, y]}}", "two",
			"[one, 'not one:y']", "{type: account}")
		when := one("", "", ", when: {owner: true}", ", when: {same: a}")
		id := fmt.Sprint("gr", i)
		line := fmt.Sprintf("{to: [%s], role: r%d, on: %s%s", one("p0", "p1", "p2", "p3", "group:g0", "group:g1"), r.IntN(4),
			on, when)
		if r.IntN(4) == 0 {
			w.onRequest[id] = line + "}"
			line += ", on-request: {longest: 1h, approvers: p0}"
		}
		w.grants = append(w.grants, "  "+id+": "+line+"}\n")
	}
	if r.IntN(2) == 0 {
		w.rest += fmt.Sprintf("blocks:\n  bl: {to: [%s], deny: [%s], on: %s}\n", one("everyone", "p0", "p1"),
			one(operations...), one("{tags: {a: x}}", "one:x", "{in: one, tags: {b: x}}"))
	}
	if r.IntN(2) == 0 {
		w.rest += fmt.Sprintf("delegations:\n  de: {to: %s, may-grant: r0, on: %s, to-self: true%s}\n",
			one("p1", "p2", "group:g1"), one("one", "two"), one("", ", within: [up to change]", ", may-edit: group:g0"))
	}
	return w
}

func scaled(n int) int { return shape.Drawn(n, 1, testing.Short()) }

// Whatever a patient person finds by taking one step after another, reading the files again after each, is found, and
// in as few steps; and nothing else.
func TestWaysAreWhatTakingStepsFinds(t *testing.T) {
	chains := map[int]int{}
	for seed := range uint64(scaled(60)) {
		w := drawn(seed)
		ways, err := escalation.Work(t.Context(), w.load(t), 0, nil)
		require.NoError(t, err)
		w.played(t, ways, func(at string, want int, could bool, chain escalation.Chain, ok bool) {
			if could || ok && len(chain.Steps) <= deepest {
				require.Equal(t, could, ok, "seed %d: %s", seed, at)
				require.Equal(t, want, len(chain.Steps), "seed %d: %s%+v", seed, at, chain)
				chains[want]++
			}
		})
	}
	t.Log("chains by steps:", chains)
	if shape.DrawsAll(testing.Short()) {
		require.Greater(t, chains[2], 20)
	}
}

// played lets everybody take steps, and holds what they come to against the ways, operation by operation: in how many
// steps they could do it, if they could, and the chain that is told, if one is.
func (w *world) played(t *testing.T, ways *escalation.Ways,
	each func(at string, want int, could bool, chain escalation.Chain, ok bool)) {
	e := w.load(t)
	for _, who := range []string{"p0", "p1", "p2", "p3"} {
		p := player{t: t, first: w, seen: map[string]bool{}, got: map[string]int{}}
		p.play([]actor{{w, who, estate.Address{}}}, 0)
		for r := range e.Tree.All() {
			for _, o := range e.Offer("box").On(r.Type) {
				chain, ok, err := ways.Chain(estate.Principal{ID: who}, o, r)
				require.NoError(t, err)
				want, could := p.got[o.Name+" "+r.Address.String()]
				each(fmt.Sprintf("%s %s %s\n%s", who, o.Name, r.Address, w.text()), want, could, chain, ok)
			}
		}
	}
}

// Where joining a group takes something away, a way on which somebody does not join it may be overlooked; then it is
// said.
func TestWhatIsNotLookedAtIsSaid(t *testing.T) {
	overlooked, told := 0, 0
	for seed := range uint64(scaled(60)) {
		w := drawn(seed + 1000)
		if seed%2 == 0 {
			w.stewards = map[string]string{"g0": ", stewards: [p3]", "g1": ", stewards: [p3]"}
		}
		for i := range w.grants {
			w.grants[i] = strings.Replace(w.grants[i], "to: [group:g0]", "to: [group:g0, not group:g1]", 1)
		}
		w.rest = strings.Replace(w.rest, "to: [everyone], deny", "to: [group:g0], deny", 1)
		ways, err := escalation.Work(t.Context(), w.load(t), 0, nil)
		require.NoError(t, err)
		unseen := ways.Unseen()
		w.played(t, ways, func(at string, _ int, could bool, _ escalation.Chain, ok bool) {
			if could && !ok {
				require.NotEmpty(t, unseen, "seed %d: %s", seed, at)
				overlooked++
			}
		})
		told += len(unseen)
	}
	t.Log("overlooked:", overlooked, "groups told:", told)
	if shape.DrawsAll(testing.Short()) {
		require.Positive(t, overlooked)
	}
}

func (w *world) load(t *testing.T) *estate.Estate {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(w.text())}})
	require.NoError(t, err, w.text())
	return e
}

// deepest is how many steps a player takes at most.
const deepest = 2

// actor is somebody as whom the player can act in a place, in the world that its own steps made.
type actor struct {
	world *world
	who   string
	where estate.Address
}

// A guarantee fails by steps just where a chain leads to what it rules out, and whoever can be got to in reach is told.
func TestProofsAndHoldersCountWhatChainsReach(t *testing.T) {
	fails := 0
	for seed := range uint64(scaled(60)) {
		w := drawn(1000 + seed)
		e := w.load(t)
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		ways, err := escalation.Work(t.Context(), e, 0, []*gate.Gate{nil, g}[seed%2])
		require.NoError(t, err)
		prover := verify.NewProver(g, verify.Of{Ways: ways})
		at := g.NewContext()
		for _, name := range operations {
			o := e.Operations[name]
			reached := map[string]bool{}
			var resources []*estate.Resource
			for r := range e.Tree.All() {
				if e.Offer("box").Valid(name, r.Type) == nil {
					continue
				}
				resources = append(resources, r)
				for _, who := range []string{"p0", "p1", "p2", "p3"} {
					_, ok, err := ways.Chain(estate.Principal{ID: who}, o, r)
					require.NoError(t, err)
					reached[who] = reached[who] || ok
				}
			}
			holders, err := ways.Holders(t.Context(), at, g, counting.PlacesOf(resources...),
				func(one *estate.Operation) bool { return one == o })
			require.NoError(t, err)
			told := map[string]bool{}
			for _, h := range holders {
				told[h.Subject.ID] = true
			}
			for who, is := range reached {
				require.Equal(t, is, told[who], "seed %d: %s %s\n%s", seed, who, name, w.text())
				v, err := prover.Judge(t.Context(), &estate.Guarantee{
					Object: estate.Object{ID: "g"}, Kind: "never", Subjects: estate.Subjects{{Principal: estate.Principal{ID: who}}},
					May: estate.Operations{{Name: name}}, On: estate.Resources{{Everything: true}},
				})
				require.NoError(t, err)
				require.Equal(t, !is, v.Holds(), "seed %d: %s %s\n%s", seed, who, name, w.text())
				if !v.Holds() {
					fails++
					require.Equal(t, who, v.Witness.Reached[0].Subject.ID)
				}
			}
		}
	}
	t.Log(fails, "guarantees failed")
	if shape.DrawsAll(testing.Short()) {
		require.Greater(t, fails, 100)
	}
}

// Of several ways to what was asked for, the shortest is told, whichever comes first.
func TestTheShortestWayIsTold(t *testing.T) {
	for _, places := range [][]string{{"one:x", "one:y"}, {"one:y", "one:x"}} {
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(kinds +
			"systems: {one: {kind: box, resources: {x: {}, y: {}}}}\n" +
			"groups: {g: {members: p3, stewards: p0}}\nroles: {w: {allow: box.wipe}}\n" +
			"grants: {a: {to: group:g, role: w, on: one:x}, " +
			"b: {to: group:g, role: w, on: one:y, on-request: {longest: 1h}}}\n")}})
		require.NoError(t, err)
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		w, err := escalation.Work(t.Context(), e, 0, nil)
		require.NoError(t, err)
		var resources []*estate.Resource
		for _, place := range places {
			a, err := estate.ParseAddress(place)
			require.NoError(t, err)
			resources = append(resources, e.Listed(a))
		}
		holders, err := w.Holders(t.Context(), g.NewContext(), g, counting.PlacesOf(resources...),
			func(o *estate.Operation) bool { return o.Name == "box.wipe" })
		require.NoError(t, err)
		for _, h := range holders {
			if h.Subject.ID == "p0" {
				require.Len(t, h.Chain.Steps, 1, "%v", places)
				require.Equal(t, "one:x", h.Resource.Address.String())
			}
		}
		require.Contains(t, fmt.Sprint(holders), "p0")
	}
}

// What can be got of places that may come is no finding; of places that are listed it is one.
func TestMoreIsOfWhatIsListed(t *testing.T) {
	for where, found := range map[string]int{"{tags: {a: later}}": 0, "one:area": 0, "{tags: {a: x}}": 1, "one": 1} {
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(kinds +
			"systems: {one: {kind: box, unlisted: judge, resources: {x: {tags: {a: x}}, y: {}}}}\n" +
			"groups: {g: {members: p3, stewards: p0}}\nroles: {w: {allow: box.wipe}}\n" +
			"grants: {a: {to: group:g, role: w, on: " + where + "}}\n")}})
		require.NoError(t, err)
		w, err := escalation.Work(t.Context(), e, 0, nil)
		require.NoError(t, err)
		more, err := w.More(t.Context(), func(o *estate.Operation) bool { return o.Name == "box.wipe" })
		require.NoError(t, err)
		require.Len(t, more, found, where)
	}
}

// What somebody has already is no more than they have.
func TestMoreIsWhatSomebodyHasNot(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(kinds +
		"systems: {one: {kind: box, resources: {x: {}}}}\ngroups: {g: {members: p3, stewards: p0}}\n" +
		"roles: {w: {allow: [box.wipe, box.look]}, l: {allow: box.look}}\n" +
		"grants: {a: {to: group:g, role: w, on: one}, b: {to: p0, role: l, on: one}}\n")}})
	require.NoError(t, err)
	w, err := escalation.Work(t.Context(), e, 0, nil)
	require.NoError(t, err)
	more, err := w.More(t.Context(), func(*estate.Operation) bool { return true })
	require.NoError(t, err)
	require.Len(t, more, 1)
	require.Equal(t, []string{"box.wipe"}, more[0].Operations)
}

func TestSteps(t *testing.T) {
	for _, c := range []struct {
		what, policy             string
		who, operation, resource string
		want                     string // the steps, "" if there are none
	}{
		{"as somebody else one writes into the other's roles",
			"roles: {o: {allow: box.open}, e: {allow: box.edit}}\ngrants: {a: {to: p2, role: o, on: one:own}, b: {to: p1, " +
				"role: e, on: one:own}}\nblocks: {c: {to: p1, deny: box.wipe, on: one}}",
			"p2", "box.wipe", "one:own/x",
			"p2 signs in as p1, p1 rewrites one:own, p2 takes roles in one:own, p2 rewrites one:own"},
		{"and the other may do it then",
			"roles: {o: {allow: box.open}, e: {allow: box.edit}}\ngrants: {a: {to: p2, role: o, on: one}, b: {to: p1, " +
				"role: e, on: one:x}}",
			"p2", "box.wipe", "one:x", "p2 signs in as p1, p1 rewrites one:x"},
		{"one's own blocks stay behind",
			"roles: {o: {allow: box.open}, w: {allow: box.wipe}}\ngrants: {a: {to: p2, role: o, on: 'one:own/p1'}, b: " +
				"{to: p1, role: w, on: one}}\nblocks: {c: {to: p2, deny: box.wipe, on: one}}",
			"p2", "box.wipe", "one:x", "p2 signs in as p1"},
		{"only in the account's system",
			"roles: {o: {allow: box.open}, w: {allow: box.wipe}}\ngrants: {a: {to: p2, role: o, on: 'one:own/p1'}, b: " +
				"{to: p1, role: w, on: two}}",
			"p2", "box.wipe", "two:z", ""},
		{"tags suit what one has as it is",
			"groups: {g: {members: p3, stewards: p0}}\nroles: {m: {allow: box.mark}, w: {allow: box.wipe}, v: {allow: " +
				"box.look}}\ngrants: {a: {to: p0, role: m, on: one}, b: {to: group:g, role: w, on: {tags: {a: x}}}, d: {to: p0, " +
				"role: v, on: {tags: {a: x}}}}",
			"p0", "box.wipe", "one:x", ""},
		{"tags take a block away",
			"roles: {m: {allow: [box.mark, box.wipe]}}\ngrants: {a: {to: p0, role: m, on: one}}\nblocks: {b: {deny: box.wipe, " +
				"on: {tags: {a: y}}}}",
			"p0", "box.wipe", "one:y", "p0 tags one:y"},
		{"a block of the group that is joined",
			"groups: {g: {members: p3, stewards: p0}}\nroles: {w: {allow: box.wipe}}\ngrants: {b: {to: group:g, role: w, on: " +
				"one}}\nblocks: {c: {to: group:g, deny: box.wipe, on: one:x}}",
			"p0", "box.wipe", "one:x", ""},
		{"asked for in the group that is joined",
			"groups: {g: {members: p3, stewards: p0}}\nroles: {w: {allow: box.wipe}}\ngrants: {b: {to: group:g, role: w, on: " +
				"one, on-request: {longest: 1h}}}",
			"p0", "box.wipe", "one:x", "p0 joins g, p0 asks for b"},
		{"what one may hand to oneself",
			"roles: {w: {allow: box.wipe}}\ndelegations: {d: {to: p0, may-grant: w, on: one, to-self: true}}",
			"p0", "box.wipe", "one:x", "p0 hands out by d"},
		{"what one may hand to others alone",
			"roles: {w: {allow: box.wipe}}\ndelegations: {d: {to: p0, may-grant: w, on: one}}",
			"p0", "box.wipe", "one:x", ""},
		{"what one may hand to those whom one is not among",
			"roles: {w: {allow: box.wipe}}\n" +
				"delegations: {d: {to: p0, may-grant: w, on: one, to-self: true, to-members-of: p3}}",
			"p0", "box.wipe", "one:x", ""},
		{"a group that may be filled within the ceiling",
			"groups: {g: {members: p3}}\nroles: {w: {allow: box.wipe}}\ngrants: {b: {to: group:g, role: w, on: one}}\n" +
				"delegations: {d: {to: p0, may-edit: group:g, within: box.wipe, to-self: true}}",
			"p0", "box.wipe", "one:x", "p0 joins g"},
		{"a group beyond the ceiling",
			"groups: {g: {members: p3}}\nroles: {w: {allow: box.wipe}}\ngrants: {b: {to: group:g, role: w, on: one}}\n" +
				"delegations: {d: {to: p0, may-edit: group:g, within: box.look, to-self: true}}",
			"p0", "box.wipe", "one:x", ""},
		{"a group in the group that is granted to",
			"groups: {g: {members: p3, stewards: p0}, h: {members: group:g}}\nroles: {w: {allow: box.wipe}}\n" +
				"grants: {b: {to: group:h, role: w, on: one}}",
			"p0", "box.wipe", "one:x", "p0 joins g"},
		{"asked for in a group that stands in another",
			"groups: {g: {members: p3, stewards: p0}, h: {members: group:g}}\nroles: {w: {allow: box.wipe}}\n" +
				"grants: {b: {to: group:h, role: w, on: one, on-request: {longest: 1h}}}",
			"p0", "box.wipe", "one:x", "p0 joins g, p0 asks for b"},
		{"asked for in a group by all but oneself",
			"groups: {g: {members: p3, stewards: p0}}\nroles: {w: {allow: box.wipe}}\n" +
				"grants: {b: {to: [group:g, not p0], role: w, on: one, on-request: {longest: 1h}}}",
			"p0", "box.wipe", "one:x", ""},
	} {
		t.Run(c.what, func(t *testing.T) {
			text := kinds +
				"systems: {one: {kind: box, resources: {own: {}, own/x: {}, own/p1: {type: account, owner: p1}, x: {}, y: {tags: " +
				"{a: y}}}}, two: {kind: box, resources: {z: {}}}}\n" + c.policy +
				fmt.Sprintf("\nguarantees: {g: {never: %s, may: %s, on: {in: '%s', exactly: true}}}\n", c.who, c.operation,
					c.resource)
			e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
			require.NoError(t, err)
			g, err := gate.Compile(e, nil)
			require.NoError(t, err)
			ways, err := escalation.Work(t.Context(), e, 0, nil)
			require.NoError(t, err)
			at, err := estate.ParseAddress(c.resource)
			require.NoError(t, err)
			who := estate.Principal{ID: c.who}
			chain, ok, err := ways.Chain(who, e.Operations[c.operation], e.Listed(at))
			require.NoError(t, err)
			var got []string
			for _, s := range chain.Steps {
				what := map[escalation.Kind]string{escalation.Asks: "asks for " + s.Entry, escalation.Joins: "joins " + s.Entry,
					escalation.SignsIn: "signs in as " + s.Who.ID, escalation.Hands: "hands out by " + s.Entry,
					escalation.Acts: "acts as " + s.Who.ID, escalation.Assigns: "takes roles in " + s.Where.String(),
					escalation.Rewrites: "rewrites " + s.Where.String(), escalation.Tags: "tags " + s.Where.String()}
				got = append(got, s.Subject.ID+" "+what[s.Kind])
			}
			require.Equal(t, c.want, strings.Join(got, ", "))
			v, err := verify.NewProver(g, verify.Of{Ways: ways}).Judge(t.Context(), e.Guarantees["g"])
			require.NoError(t, err)
			require.Equal(t, ok, !v.Holds())
		})
	}
}

// player takes steps, as itself and as those whose accounts it has opened.
type player struct {
	t     *testing.T
	first *world
	seen  map[string]bool
	got   map[string]int // the fewest steps, by operation and resource
}

func (p *player) play(chain []actor, steps int) {
	last := chain[len(chain)-1]
	key := fmt.Sprint(last.who, last.where, steps, last.world.text())
	if p.seen[key] {
		return
	}
	p.seen[key] = true
	e := last.world.load(p.t)
	g, err := gate.Compile(e, nil)
	require.NoError(p.t, err)
	who := estate.Principal{ID: last.who}
	may := func(o *estate.Operation, r *estate.Resource) bool {
		if last.where.System != "" && !r.Address.Inside(last.where) {
			return false
		}
		when, err := g.Possible(who, o.Name, r)
		require.NoError(p.t, err)
		left, err := g.Space().And(when, g.Space().Between(0, clock.End))
		require.NoError(p.t, err)
		return left != 0
	}
	next := func(change func(*world)) {
		if steps < deepest {
			with := last.world.clone()
			change(with)
			p.play(append(slices.Clip(chain), actor{with, last.who, last.where}), steps+1)
		}
	}
	as := func(other string, where estate.Address) {
		if last.where.System != "" && where.Inside(last.where) {
			where = last.where // further in, as yet another
		}
		if steps < deepest {
			p.play(append(slices.Clip(chain), actor{p.first, other, where}), steps+1)
		}
	}
	give := func(role string, allow []string, on string) {
		next(func(w *world) {
			w.roles[role] = allow
			w.grants = append(w.grants, fmt.Sprintf("  %s: {to: %s, role: %s, on: %s}\n", role, last.who, role, on))
		})
	}
	for r := range e.Tree.All() {
		for _, o := range e.Offer("box").On(r.Type) {
			if !may(o, r) {
				continue
			}
			if known, ok := p.got[o.Name+" "+r.Address.String()]; !ok || steps < known {
				p.got[o.Name+" "+r.Address.String()] = steps
			}
			at := r.Address.String()
			switch system := (estate.Address{System: r.Address.System}); {
			case o.Name == "box.open" && r.Type == "account":
				if r.Owner != nil && r.Owner.ID != last.who {
					as(r.Owner.ID, system)
				}
			case o.Name == "box.open":
				for _, other := range []string{"p0", "p1", "p2", "p3"} {
					if other != last.who {
						as(other, r.Address)
					}
				}
			case o.Name == "box.give":
				// Whoever the player came here as can be given them.
				if r.Type == "account" {
					at = system.System
				}
				for i, a := range chain {
					if steps == deepest || r.Type == "account" && (r.Owner == nil || a.who != r.Owner.ID) {
						continue
					}
					with, id := a.world.clone(), fmt.Sprint("given-", a.who, steps)
					with.roles[id] = p.all()
					with.grants = append(with.grants, fmt.Sprintf("  %s: {to: %s, role: %s, on: %s}\n", id, a.who, id, at))
					p.play(append(slices.Clone(chain[:i]), actor{with, a.who, a.where}), steps+1)
				}
			case o.Name == "box.edit":
				give("edited-"+last.who+fmt.Sprint(steps), []string{"all"}, at)
			case o.Name == "box.mark" && steps < deepest:
				for _, a := range chain {
					p.mark(a, r, steps+1)
				}
			}
		}
	}
	for id, line := range p.first.onRequest {
		if gr := e.Grants[id]; g.Selects(gr.To, who) {
			next(func(w *world) {
				w.grants = append(w.grants, "  asked-"+id+last.who+fmt.Sprint(steps)+": "+"{to: ["+last.who+line[strings.Index(line,
					"]"):]+"\n")
			})
		}
	}
	join := func(group string) {
		if !g.InGroup(who, group) {
			next(func(w *world) { w.members[group] = append(slices.Clip(w.members[group]), last.who) })
		}
	}
	for id, group := range e.Groups {
		if g.Selects(group.Stewards, who) {
			join(id)
		}
	}
	for _, d := range e.Delegations {
		if !g.Selects(d.To, who) {
			continue
		}
		var allow []string
		for _, o := range g.RoleOperations("r0") {
			if d.Within == nil || d.Within.Fit(o, e.Edition) {
				allow = append(allow, o.Name)
			}
		}
		if len(allow) > 0 {
			give("handed-"+last.who+fmt.Sprint(steps), allow, d.On[0].String())
		}
		for _, m := range d.MayEdit {
			join(m.ID)
		}
	}
}

// all lists the operations that some role gives.
func (p *player) all() (out []string) {
	for _, id := range []string{"r0", "r1", "r2", "r3"} {
		out = append(out, p.first.roles[id]...)
	}
	return out
}

// mark tries all tags on a resource, and looks at what one's own grants give there then.
func (p *player) mark(a actor, r *estate.Resource, steps int) {
	for _, first := range []string{"", "x", "y"} {
		for _, second := range []string{"", "x", "y"} {
			w := p.first.clone()
			w.tags[r.Address.Path] = map[string]string{}
			for key, v := range map[string]string{"a": first, "b": second} {
				if v != "" {
					w.tags[r.Address.Path][key] = v
				}
			}
			e := w.load(p.t)
			g, err := gate.Compile(e, nil)
			require.NoError(p.t, err)
			with := e.Listed(r.Address)
			for _, o := range e.Offer("box").On(r.Type) {
				when, err := g.Possible(estate.Principal{ID: a.who}, o.Name, with)
				require.NoError(p.t, err)
				if when == 0 {
					continue
				}
				key := o.Name + " " + r.Address.String()
				if known, ok := p.got[key]; !ok || steps < known {
					p.got[key] = steps
				}
				if o.Name == "box.edit" && steps < deepest || o.Name == "box.give" && steps < deepest {
					allow := []string{"all"}
					if o.Name == "box.give" {
						allow = p.all()
					}
					then := p.first.clone()
					then.roles["later"] = allow
					then.grants = append(then.grants, fmt.Sprintf("  later: {to: %s, role: later, on: %s}\n", a.who, r.Address))
					p.play([]actor{{then, a.who, a.where}}, steps+1)
				}
			}
		}
	}
}
