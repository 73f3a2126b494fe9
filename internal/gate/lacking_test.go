package gate_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/auditing"
	"hiddengate/internal/gate/differing"
)

// What requests find missing is told, for that subject, operation and need. Whatever is told is given by the grant that
// is named, in a place that is named, to a subject who has not all of what is needed there.
func TestWhatIsLackingIsWhatRequestsFind(t *testing.T) {
	found, whole := 0, 0
	for seed := range 60 {
		d := newDraw(uint64(seed) + 90_000)
		e := load(t, d.estate())
		g := compiled(t, e)
		all, err := auditing.Lacking(t.Context(), g, 1000)
		require.NoError(t, err)
		told := map[[3]string]bool{} // subject, operation, need
		cells := map[estate.Principal]*differing.Cells{}
		for _, l := range all {
			assert.True(t, slices.IsSortedFunc(l.Subjects, func(a, b estate.Principal) int { return int(a.Kind) - int(b.Kind) }))
			assert.Len(t, l.Places, l.Count)
			assert.Len(t, l.Subjects, l.Number)
			places := map[string]bool{}
			for _, who := range l.Subjects {
				if cells[who] == nil {
					cells[who], err = differing.CompileCells(e, differing.Scene{Only: map[estate.Principal]bool{who: true}})
					require.NoError(t, err)
				}
				told[[3]string{who.String(), l.Operation, l.Need}] = true
				in := lacks(t, cells[who], e, l, who)
				assert.NotEmpty(t, in, "seed %d: grant %s gives %s to %s", seed, l.Grant, l.Operation, who)
				for _, place := range in {
					places[place] = true
				}
			}
			assert.Len(t, places, l.Count, "seed %d: grant %s gives %s on %v", seed, l.Grant, l.Operation, l.Places)
		}
		whole += len(told)
		for _, q := range questions(d, e, 200) {
			o := e.Operations[q.operation]
			r, err := g.Place(q.where)
			require.NoError(t, err)
			if r.Index < 0 || len(o.Needs) == 0 || q.decide(t, g) != gate.Allow {
				continue
			}
			for _, need := range o.Needs {
				at := r
				for at != nil && e.Offer(at.System.Kind.ID).Valid(need, at.Type) == nil {
					at = at.Parent
				}
				if at == nil {
					continue
				}
				got, err := g.Decide(gate.Request{Subject: q.who, Operation: need, Resource: at.Address.String(),
					Context: q.request.context(g)})
				require.NoError(t, err)
				if got == gate.Deny {
					found++
					assert.True(t, told[[3]string{q.who.String(), o.Name, need}], "seed %d: %s may %s on %s and not %s", seed, q.who,
						o.Name, r.Address, need)
				}
			}
		}
		if t.Failed() {
			return
		}
	}
	assert.Greater(t, found, 100)
	assert.Greater(t, whole, 1000)
}

// lacks lists the places named in which the subject, to whom the grant goes, has the operation and not its need
// whenever it has that.
func lacks(t *testing.T, cells *differing.Cells, e *estate.Estate, l auditing.Lack,
	who estate.Principal) (in []string) {
	gr := e.Grants[l.Grant]
	if !slices.Contains(cells.Members(gr.To), who) {
		return nil
	}
	when := map[[2]string]differing.Cell{}
	require.NoError(t, cells.Each(t.Context(), clock.Beginning, func(a differing.Access) bool {
		for p := range a.Piles.All() {
			for at := range p.Addresses() {
				when[[2]string{a.Operation, at}] = a.Cell
			}
		}
		return true
	}))
	for _, place := range l.Places {
		r := e.Tree.At(e.Tree.Find(place))
		at := r
		for at != nil && e.Offer(at.System.Kind.ID).Valid(l.Need, at.Type) == nil {
			at = at.Parent
		}
		has, ok := when[[2]string{l.Operation, place}]
		if !ok || at == nil || !cells.Covers(gr.On, r) {
			continue
		}
		inside, err := cells.Space().Contains(when[[2]string{l.Need, at.Address.String()}].Possible, has.Possible)
		if err == nil && !inside {
			in = append(in, place)
		}
	}
	return in
}

// Of several grants that give an operation the first is told of, each time of those to whom it gives it.
func TestTheFirstGrantThatGivesIsTold(t *testing.T) {
	for policy, want := range map[string][]auditing.Lack{
		"a: {to: [ana, bo], role: edit, on: app}, b: {to: [bo, cai], role: edit, on: app:one}": {
			{Grant: "a", Subjects: people("ana", "bo"), Number: 2, Places: []string{"app", "app:one", "app:two"}, Count: 3},
			{Grant: "b", Subjects: people("cai"), Number: 1, Places: []string{"app:one"}, Count: 1}},
		"a: {to: [ana, bo], role: edit, on: app:one, when: {same: team}}, b: {to: [ana, bo], role: edit, on: app:one}": {
			{Grant: "a", Subjects: people("bo"), Number: 1, Places: []string{"app:one"}, Count: 1},
			{Grant: "b", Subjects: people("ana"), Number: 1, Places: []string{"app:one"}, Count: 1}},
		"a: {to: ana, role: edit, on: app, when: {resource: {team: x}}}, b: {to: ana, role: edit, on: app}": {
			{Grant: "a", Subjects: people("ana"), Number: 1, Places: []string{"app:one"}, Count: 1},
			{Grant: "b", Subjects: people("ana"), Number: 1, Places: []string{"app", "app:two"}, Count: 2}},
		"a: {to: [ana, bo], role: edit, on: app:two}, b: {to: bo, role: see, on: app:two}": {
			{Grant: "a", Subjects: people("ana"), Number: 1, Places: []string{"app:two"}, Count: 1}},
	} {
		g := compiled(t, load(t, `
hidden-gate: 1
systems: {app: {kind: application, resources: {one: {tags: {team: x}}, two: {}}}}
people: {ana: {tags: {team: y}}, bo: {tags: {team: x}}, cai: {}}
roles: {edit: {allow: content.edit}, see: {allow: content.view}}
grants: {`+policy+"}\n"))
		all, err := auditing.Lacking(t.Context(), g, 10)
		require.NoError(t, err)
		for i := range want {
			want[i].Operation, want[i].Need = "content.edit", "content.view"
		}
		assert.Equal(t, want, all, policy)
	}
}

// To whoever owns something a grant that asks for the owner gives it first, and another to all others.
func TestTheOwnersGrantIsToldOfWhatTheyOwn(t *testing.T) {
	g := compiled(t, load(t, `
hidden-gate: 1
systems: {app: {kind: application, resources: {one: {owner: ana}, two: {owner: bo}, three: {}}}}
people: {ana: {}, bo: {}}
roles: {edit: {allow: content.edit}}
grants: {a: {to: everyone, role: edit, on: app, when: {owner: true}}, b: {to: [ana, bo], role: edit, on: app}}
`))
	all, err := auditing.Lacking(t.Context(), g, 10)
	require.NoError(t, err)
	lack := auditing.Lack{Operation: "content.edit", Need: "content.view", Subjects: people("ana", "bo"), Number: 2}
	a, b := lack, lack
	a.Grant, a.Places, a.Count = "a", []string{"app:one", "app:two"}, 2
	b.Grant, b.Places, b.Count = "b", []string{"app", "app:one", "app:three", "app:two"}, 4
	assert.Equal(t, []auditing.Lack{a, b}, all)
}

// Whoever is never active lacks nothing, and whoever is at some times lacks what is needed then.
func TestWhoIsNeverActiveLacksNothing(t *testing.T) {
	g := compiled(t, load(t, `
hidden-gate: 1
systems: {app: {kind: application}}
people:
  ana: {ends: 2031-01-01}
  bo: {status: suspended}
  cai: {starts: 2030-01-01, ends: 2029-01-01}
  dee: {ends: 2030-01-01}
roles: {edit: {allow: content.edit}, see: {allow: content.view}}
grants:
  a: {to: [ana, bo, cai, dee], role: edit, on: app}
  b: {to: dee, role: see, on: app, ends: 2030-06-01}
`))
	all, err := auditing.Lacking(t.Context(), g, 10)
	require.NoError(t, err)
	assert.Equal(t, []auditing.Lack{{Grant: "a", Operation: "content.edit", Need: "content.view", Subjects: people("ana"),
		Number: 1, Places: []string{"app"}, Count: 1}}, all)
}

// What is needed is judged where each resource stands, though nothing tells the resources themselves apart.
func TestANeedIsJudgedWhereEachStands(t *testing.T) {
	g := compiled(t, load(t, `
hidden-gate: 1
edition: 2
catalogs: {rack: {types: [hall, rack, unit], named: {a: rack, b: rack}, inside: {rack: unit}, operations: {
  rack.open: {level: view, types: [rack]}, unit.fill: {level: change, types: [unit], needs: [rack.open]}}}}
systems: {s: {kind: rack, resources: {a: {}, a/u: {}, a/v: {}, b: {tags: {env: x}}, b/u: {tags: {env: ""}}}}}
people: {ana: {}}
roles: {fill: {allow: unit.fill}, open: {allow: rack.open}}
grants: {f: {to: ana, role: fill, on: s}, o: {to: ana, role: open, on: s, when: {resource: {env: x}}}}
`))
	all, err := auditing.Lacking(t.Context(), g, 10)
	require.NoError(t, err)
	assert.Equal(t, []auditing.Lack{{Grant: "f", Operation: "unit.fill", Need: "rack.open", Subjects: people("ana"),
		Number: 1, Places: []string{"s:a/u", "s:a/v"}, Count: 2}}, all)
}

func people(ids ...string) (out []estate.Principal) {
	for _, id := range ids {
		out = append(out, estate.Principal{ID: id})
	}
	return out
}
