package gate_test

import (
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

const stores = `
hidden-gate: 1
systems:
  db: {kind: database, unlisted: judge, tags: {team: x}, resources: {sky: {owner: ana}, sky/a: {tags: {embargo: yes}}}}
people: {ana: {tags: {team: x}}, bo: {tags: {team: y}}}
groups: {crew: {members: [ana, bo]}}
roles: {look: {allow: [table.read, only view]}, alter: {allow: [only change]}}
grants:
  crew: {to: group:crew, role: look, on: [db, not db:ground], when: {hours: daily 08:00-20:00}}
  own: {to: everyone, role: alter, on: "db:s*", when: {any: [{owner: true}, {same: team, mfa: true}]}}
  far: {to: bo, role: look, on: {in: db, tags: {embargo: yes}}, when: {network: 10.0.0.0/8}}
blocks: {b: {deny: table.drop, on: db:sky/b, when: {not: {mfa: true}}}}
`

// Deciding takes no memory: listed or not, allowed or depending, with conditions on the request, the subject and the resource.
func TestDecidingAllocatesNothing(t *testing.T) {
	g := compiled(t, load(t, stores))
	at, err := g.Estate().Zone.ParseTime("2027-01-01T12:00")
	require.NoError(t, err)
	outcomes := map[gate.Outcome]int{}
	for _, full := range []bool{true, false} {
		c := g.NewContext()
		c.Time(at)
		if full {
			c.Network(netip.MustParseAddr("10.1.2.3"))
			c.MFA(true)
		}
		for _, who := range []string{"ana", "bo"} {
			for _, what := range []string{"table.read", "table.drop", "table.view"} {
				for _, where := range []string{"db:sky", "db:sky/a", "db:sky/b", "db:sky/new/one", "db:ground/x"} {
					req := gate.Request{Subject: estate.Principal{ID: who}, Operation: what, Resource: where, Context: c}
					got, err := g.Decide(req)
					require.NoError(t, err)
					outcomes[got]++
					assert.Zero(t, testing.AllocsPerRun(10, func() { _, _ = g.Decide(req) }), "%s %s %s", who, what, where)
				}
			}
		}
	}
	assert.Len(t, outcomes, 3, "%v", outcomes)
}

// Forks answer side by side as the gate they come from.
func TestForksAgree(t *testing.T) {
	for seed := range 6 {
		d := newDraw(uint64(seed) + 70_000)
		e := load(t, d.estate())
		g := compiled(t, e)
		all := questions(d, e, 200)
		var want []gate.Outcome
		for _, q := range all {
			want = append(want, q.decide(t, g))
		}
		var wait sync.WaitGroup
		for range 4 {
			f := g.Fork()
			wait.Go(func() {
				for i, q := range all {
					got, err := f.Decide(gate.Request{Subject: q.who, Operation: q.operation, Resource: q.where.String(), Context: q.request.context(f)})
					assert.NoError(t, err)
					assert.Equal(t, want[i], got)
				}
			})
		}
		wait.Wait()
	}
}
