package gate_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

const small = `hidden-gate: 1
timezone: Atlantic/Azores
systems: {db: {kind: database, unlisted: judge, resources: {sky: {}, sky/a: {owner: ana}, sky/b: {owner: ''}},
      owner: bo}}
people: {ana: {}, bo: {}, cai: {status: invited}}
roles: {look: {allow: table.read}, wide: {include: look, allow: table.drop}}
`

// ask decides one request about the small estate with more text behind it; at is a local time or "" for open.
func ask(t *testing.T, more, who, operation, where, at string, say func(*gate.Context)) string {
	e := load(t, small+more)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	c := g.NewContext()
	if at != "" {
		now, err := e.Zone.ParseTime(at)
		require.NoError(t, err)
		c.Time(now)
	}
	if say != nil {
		say(c)
	}
	p, err := estate.ParsePrincipal(who)
	require.NoError(t, err)
	a, err := estate.ParseAddress(where)
	require.NoError(t, err)
	outcome, err := g.Decide(gate.Request{Subject: p, Operation: operation, Resource: a.String(), Context: c})
	require.NoError(t, err)
	return outcome.String()
}

func TestEdgesOfTime(t *testing.T) {
	grant := func(dates string) string { return "grants: {g: {to: ana, role: look, on: db, " + dates + "}}" }
	for _, c := range []struct{ dates, at, want string }{
		{"starts: 2027-03-28", "2027-03-27T23:59:59.999999", "deny"},
		{"starts: 2027-03-28", "2027-03-28T01:00", "allow"},
		{"ends: 2027-03-27", "2027-03-27T23:59:59.999999", "allow"},
		{"ends: 2027-03-27", "2027-03-28T01:00", "deny"},
		{"starts: 2027-05-01T08:00", "2027-05-01T08:00", "allow"},
		{"starts: 2027-05-01T08:00", "2027-05-01T07:59:59.999999", "deny"},
		{"ends: 2027-05-01T08:00", "2027-05-01T08:00", "deny"},
		{"ends: 2027-05-01T08:00", "2027-05-01T07:59:59.999999", "allow"},
		{"when: {hours: mon 07:00-08:00}", "2027-05-03T07:00", "allow"},
		{"when: {hours: mon 07:00-08:00}", "2027-05-03T08:00", "deny"},
		{"when: {hours: sun 22:00-02:00}", "2027-05-03T01:59", "allow"},
		{"when: {hours: sun 22:00-02:00}", "2027-05-02T01:59", "deny"},
		{"when: {hours: sun 00:00-01:00}", "2026-10-25T00:30-01:00", "allow"},
		{"when: {hours: sun 00:00-01:00}", "2026-10-25T00:30+00:00", "allow"},
		{"starts: 2027-05-01", "", "depends"},
		{"when: {any: [{hours: 00:00-12:00}, {hours: 12:00-24:00}]}", "", "allow"},
	} {
		assert.Equal(t, c.want, ask(t, grant(c.dates), "ana", "table.read", "db:sky/a", c.at, nil), "%s at %s", c.dates, c.at)
	}
}

func TestWhoWhatWhere(t *testing.T) {
	owned := "grants: {g: {to: everyone, role: wide, on: db, when: {owner: true}}}"
	assert.Equal(t, "allow", ask(t, owned, "ana", "table.read", "db:sky/a", "", nil))
	assert.Equal(t, "deny", ask(t, owned, "bo", "table.read", "db:sky/a", "", nil))
	assert.Equal(t, "allow", ask(t, owned, "bo", "table.read", "db:sky", "", nil), "inherited from the system")
	assert.Equal(t, "deny", ask(t, owned, "bo", "table.read", "db:sky/b", "", nil), "cleared")
	assert.Equal(t, "allow", ask(t, owned, "ana", "table.drop", "db:sky/a/new", "", nil),
		"an unlisted place has the owner above it")
	assert.Equal(t, "deny", ask(t, "grants: {g: {to: everyone, role: look, on: db}}", "cai", "table.read", "db:sky/a", "",
		nil), "invited is inactive")
	assert.Equal(t, "deny", ask(t, "grants: {g: {to: everyone, role: look, on: db}}", "anonymous", "table.read",
		"db:sky/a", "", nil))
	assert.Equal(t, "allow", ask(t, "grants: {g: {to: anonymous, role: look, on: db}}", "anonymous", "table.read",
		"db:sky/a", "", nil))
	stopped := "grants: {g: {to: [everyone, anonymous], role: look, on: db}}\nblocks: {b: {deny: all, on: db:sky/a}}"
	assert.Equal(t, "deny", ask(t, stopped, "ana", "table.read", "db:sky/a", "", nil))
	assert.Equal(t, "deny", ask(t, stopped, "anonymous", "table.read", "db:sky/a", "", nil),
		"a block without `to` stops anonymous too")
}

func TestOwnersTellResourcesApart(t *testing.T) {
	grant := "grants: {g: {to: ana, role: look, on: {owner: ana}}}"
	assert.Equal(t, "allow", ask(t, grant, "ana", "table.read", "db:sky/a", "", nil))
	assert.Equal(t, "deny", ask(t, grant, "ana", "table.read", "db:sky/b", "", nil))
	assert.Equal(t, "allow", ask(t, grant, "ana", "table.read", "db:sky/a/new", "", nil))
	assert.Equal(t, "deny", ask(t, grant, "ana", "table.read", "db:sky/new", "", nil))
}

func TestTwoGrantsCoverARequestTogether(t *testing.T) {
	both := "grants: {g: {to: ana, role: look, on: db, when: {mfa: true}}, h: {to: ana, role: look, on: db, when: {mfa: " +
		"false}}}"
	assert.Equal(t, "allow", ask(t, both, "ana", "table.read", "db:sky/a", "", nil))
	ways := "grants: {g: {to: ana, role: look, on: db, when: {sign-in: [password, passkey, certificate, key]}}, h: {to: " +
		"ana, role: look, on: db, when: {sign-in: token}}}"
	assert.Equal(t, "allow", ask(t, ways, "ana", "table.read", "db:sky/a", "", nil))
	nets := "grants: {g: {to: ana, role: look, on: db, when: {network: 0.0.0.0/0}}, h: {to: ana, role: look, on: db, " +
		"when: {network: '::/0'}}}"
	assert.Equal(t, "allow", ask(t, nets, "ana", "table.read", "db:sky/a", "", nil))
	attribute := "grants: {g: {to: ana, role: look, on: db, when: {context: {device: own}}}, h: {to: ana, role: look, " +
		"on: db, when: {not: {context: {device: own}}}}}"
	assert.Equal(t, "allow", ask(t, attribute, "ana", "table.read", "db:sky/a", "", nil))
	assert.Equal(t, "depends", ask(t, "grants: {g: {to: ana, role: look, on: db, when: {not: {context: {device: ''}}}}}",
		"ana", "table.read", "db:sky/a", "", nil))
}

// How long ago somebody signed in is asked by conditions and roles; a request that does not say it is not helped.
func TestHowLongAgoSomebodySignedIn(t *testing.T) {
	const recent = "grants: {g: {to: ana, role: look, on: db, when: {signed-in-within: 1h}}}"
	const later = "grants: {g: {to: ana, role: look, on: db, when: {not: {signed-in-within: 1h}}}}"
	const block = "grants: {g: {to: ana, role: look, on: db}}\nblocks: {b: {deny: all, on: db, when: {not: " +
		"{signed-in-within: 8h}}}}"
	const role = "---\nroles: {fresh: {allow: table.read, signed-in-within: 30m}, over: {include: fresh}}\n" +
		"grants: {g: {to: ana, role: over, on: db}}"
	for _, c := range []struct{ ago, recent, later, block, role string }{
		{"1m", "allow", "deny", "allow", "allow"}, {"30m", "allow", "deny", "allow", "allow"},
		{"31m", "allow", "deny", "allow", "deny"}, {"60m", "allow", "deny", "allow", "deny"},
		{"61m", "deny", "allow", "allow", "deny"}, {"8h", "deny", "allow", "allow", "deny"},
		{"481m", "deny", "allow", "deny", "deny"}, {"30d", "deny", "allow", "deny", "deny"},
		{"longer", "deny", "allow", "deny", "deny"}, {"", "depends", "depends", "depends", "depends"},
	} {
		say := func(x *gate.Context) {
			if c.ago == "" {
				return
			}
			fact := estate.FactNamed("signed-in-within")
			word, err := fact.Parse(c.ago)
			require.NoError(t, err)
			x.Say(fact, word)
		}
		assert.Equal(t, c.recent, ask(t, recent, "ana", "table.read", "db:sky/a", "", say), c)
		assert.Equal(t, c.later, ask(t, later, "ana", "table.read", "db:sky/a", "", say), c)
		assert.Equal(t, c.block, ask(t, block, "ana", "table.read", "db:sky/a", "", say), c)
		assert.Equal(t, c.role, ask(t, role, "ana", "table.read", "db:sky/a", "", say), c)
	}
	_, err := estate.FactNamed("signed-in-within").Parse("soon")
	assert.ErrorContains(t, err, "or longer")
}

func TestTwoBlocksStopARequestTogether(t *testing.T) {
	always := "grants: {g: {to: ana, role: look, on: db}}\n"
	both := always +
		"blocks: {b: {deny: table.read, on: db, when: {mfa: true}}, c: {deny: all, on: db:sky, when: {mfa: false}}}"
	assert.Equal(t, "deny", ask(t, both, "ana", "table.read", "db:sky/a", "", nil))
	assert.Equal(t, "depends", ask(t, both, "ana", "table.read", "db:ground", "", nil), "where one of them is in force")
	assert.Equal(t, "deny", ask(t, both, "ana", "table.read", "db:ground", "",
		func(c *gate.Context) { c.Flag(estate.FactNamed("mfa"), true) }))
	dates := "grants: {g: {to: ana, role: look, on: db, ends: 2027-06-30}}\nblocks: {b: {deny: table.read, on: " +
		"db, ends: 2027-06-30}}"
	assert.Equal(t, "deny", ask(t, dates, "ana", "table.read", "db:sky/a", "", nil),
		"it never begins before the grant ends")
}

func TestAHopelessConditionNamesItsEntry(t *testing.T) {
	text := small + "grants:\n  g:\n    to: ana\n    role: look\n    on: db\n    when:\n      not:\n        any:\n"
	n := 7
	next := func(below int) int { n = (n*1103515245 + 12345) & 0x7fffffff; return n / 7 % below }
	for range 400 {
		text += "          - {context: {"
		seen := map[int]bool{}
		for len(seen) < 3 {
			if a := next(60); !seen[a] {
				seen[a] = true
				text += string(rune('a'+a%26)) + string(rune('a'+a/26)) + ": " + string(rune('x'+next(3))) + ", "
			}
		}
		text += "}}\n"
	}
	_, err := gate.Compile(load(t, text), nil)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "hidden-gate.yaml:8:3: grant g: the conditions are too complex to decide")
}

// One name has several spellings in Unicode. They are the same address and the same pattern, in a file as in a request.
func TestAddressesAreTheSameHoweverTheirLettersAreComposed(t *testing.T) {
	const composed, apart = "caf\u00e9", "cafe\u0301"
	for _, listed := range []string{composed, apart} {
		for _, granted := range []string{"s:" + composed, "s:" + apart, "s:*\u00e9", "s:c*e\u0301", "s:cafe%CC%81"} {
			e := load(t,
				fmt.Sprintf("hidden-gate: 1\nsystems: {s: {kind: database, unlisted: judge, resources: {%q: {}}}}\npeople: {ana: "+
					"{}}\nroles: {look: {allow: [schema.view, table.view]}}\ngrants: {g: {to: ana, role: look, on: %q}}\n", listed,
					granted))
			require.Equal(t, 2, e.Tree.Len())
			g, err := gate.Compile(e, nil)
			require.NoError(t, err)
			for _, asked := range []string{"s:" + composed, "s:" + apart, "s:caf%C3%A9"} {
				got, err := g.Decide(gate.Request{Subject: estate.Principal{ID: "ana"}, Operation: "schema.view", Resource: asked,
					Context: g.NewContext()})
				require.NoError(t, err)
				require.Equal(t, gate.Allow, got, "%+q listed, %+q granted, %+q asked", listed, granted, asked)
				got, err = g.Decide(gate.Request{Subject: estate.Principal{ID: "ana"}, Operation: "table.view", Resource: asked +
					"/x", Context: g.NewContext()})
				require.NoError(t, err)
				require.Equal(t, gate.Allow, got, "%+q", asked)
			}
		}
	}
	for _, hidden := range []string{"s:a\u202eb", "s:a%E2%80%AEb", "s:a\u200bb", "s:a%0Ab"} {
		_, err := estate.ParseAddress(hidden)
		require.Error(t, err, "%+q", hidden)
	}
}
