package gate_test

import (
	"fmt"
	"net/netip"
	"strings"
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

// Deciding takes no memory: listed or not, allowed or depending, with conditions on the request, the subject and the
// resource.
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
			c.Flag(estate.FactNamed("mfa"), true)
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

// Forks answer side by side as the gate they come from, and so does what many share.
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
		shared := g.Share().Decide
		for _, decide := range []func(gate.Request) (gate.Outcome, error){g.Fork().Decide, g.Fork().Decide, shared, shared,
			shared} {
			wait.Go(func() {
				for i, q := range all {
					got, err := decide(gate.Request{Subject: q.who, Operation: q.operation, Resource: q.where.String(),
						Context: q.request.context(g)})
					assert.NoError(t, err)
					assert.Equal(t, want[i], got)
				}
			})
		}
		wait.Wait()
	}
}

// A group that only owns, and addresses that nobody has asked about, are looked at for the first time on several cores
// at once.
func TestForksLearnApart(t *testing.T) {
	text := strings.Replace(stores, "sky: {owner: ana}", "sky: {owner: group:owners}", 1)
	text = strings.Replace(text, "groups: {", "groups: {owners: {members: [bo, group:more]}, more: {members: ana}, ", 1)
	text = strings.Replace(text, "blocks:",
		"  tagged: {to: ana, role: look, on: {in: \"db:*/new-*\", tags: {team: x}}}\nblocks:", 1)
	g := compiled(t, load(t, text))
	ask := func(g *gate.Gate) (out []string) {
		for i := range 200 {
			for _, where := range []string{"db:sky", fmt.Sprintf("db:sky/new-%d/x", i), fmt.Sprintf("db:part-%d/old", i)} {
				for _, who := range []string{"ana", "bo"} {
					got, err := g.Decide(gate.Request{Subject: estate.Principal{ID: who}, Operation: "table.update", Resource: where,
						Context: g.NewContext()})
					assert.NoError(t, err)
					out = append(out, got.String())
				}
				assert.Len(t, g.Members(estate.Subjects{{Principal: estate.Principal{Kind: estate.IsEveryone}},
					{Principal: estate.Principal{ID: "bo"}, Not: true}}), 1)
			}
		}
		return out
	}
	forks := []*gate.Gate{g.Fork(), g.Fork(), g.Fork()}
	answers := make([][]string, len(forks))
	var wait sync.WaitGroup
	for i, f := range forks {
		wait.Go(func() { answers[i] = ask(f) })
	}
	wait.Wait()
	want := ask(compiled(t, load(t, text)))
	assert.Contains(t, want, "allow")
	for _, got := range answers {
		assert.Equal(t, want, got)
	}
}
