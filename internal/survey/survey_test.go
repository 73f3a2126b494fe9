package survey

import (
	"fmt"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/starter"
)

func compile(t *testing.T, text string) *gate.Gate {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	return g
}

func TestNearestNamesTheOneThingThatIsLacking(t *testing.T) {
	const base = `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}, sky/a: {owner: bo}, sea: {}}}}
people: {ana: {tags: {team: x}}, bo: {}}
groups: {crew: {members: bo}}
roles: {reader: {allow: table.read}, viewer: {allow: table.view}, late: {allow: table.read, ends: 2020-01-01}}
`
	for _, c := range [][2]string{
		{"{to: ana, role: reader, on: db, on-request: {longest: 90m, approvers: group:crew, approvals: 2}}",
			"approval: on request, for up to 90m, with 2 approvals by group:crew"},
		{"{to: ana, role: reader, on: db, when: {mfa: true}}", "condition: it asks: with a second factor"},
		{"{to: ana, role: reader, on: db, when: {hours: mon 07:00-08:00}}", "condition: it asks: mon 07:00-08:00"},
		{"{to: ana, role: reader, on: db, when: {owner: true}}", "condition: it asks: the owner; bo owns db:sky/a"},
		{"{to: ana, role: reader, on: db, when: {subject: {team: y}}}", "condition: it asks: the subject's team is y"},
		{"{to: ana, role: reader, on: db, ends: 2026-01-01}", "date: it is in force through 2026-01-01"},
		{"{to: group:crew, role: reader, on: db}", "membership: it goes to group:crew"},
		{"{to: ana, role: reader, on: db:sea}", "scope: it covers db:sea"},
		{"{to: ana, role: viewer, on: db}", "operation: role viewer lacks table.read"},
		{"{to: group:crew, role: reader, on: db:sea}", ""}, // two things
		{"{to: group:crew, role: viewer, on: db}", ""},
		{"{to: group:crew, role: reader, on: db, ends: 2026-01-01}", ""},
		{"{to: ana, role: viewer, on: db:sea}", ""},
		{"{to: group:crew, role: reader, on: db, on-request: {longest: 1h}}", ""},
		{"{to: ana, role: late, on: db, on-request: {longest: 1h}}", ""},
		{"{to: ana, role: late, on: db:sea}", ""},
		{"{to: ana, role: reader, on: db, when: {mfa: true, network: 10.0.0.0/8}}",
			"condition: it asks: with a second factor, from 10.0.0.0/8"},
		{"{to: ana, role: reader, on: db, when: {mfa: true, hours: mon 07:00-08:00}}",
			"condition: it asks: with a second factor, mon 07:00-08:00"},
		{"{to: ana, role: reader, on: db, when: {owner: true, subject: {team: y}}}",
			"condition: it asks: the owner, the subject's team is y; bo owns db:sky/a"},
		{"{to: ana, role: late, on: db}", "date: role late is in force through 2020-01-01"},
	} {
		text, want := c[0], c[1]
		g := compile(t, base+"grants: {g: "+text+"}")
		c := g.NewContext()
		at, err := g.Estate().Zone.ParseTime("2027-12-01T22:00")
		require.NoError(t, err)
		c.Time(at)
		c.Flag(estate.FactNamed("mfa"), false)
		a, err := estate.ParseAddress("db:sky/a")
		require.NoError(t, err)
		addr, err := estate.ParseAddr("192.0.2.1")
		require.NoError(t, err)
		c.Network(addr)
		near, err := Nearest(g, gate.Request{Subject: estate.Principal{ID: "ana"}, Operation: "table.read",
			Resource: a.String(), Context: c})
		require.NoError(t, err)
		got := ""
		for _, n := range near {
			got += n.Lacks + ": " + n.Detail
		}
		assert.Equal(t, want, got, text)
	}
}

// What is blocked altogether has no way in.
func TestABlockLeavesNoWayIn(t *testing.T) {
	g := compile(t, `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}}}}
people: {ana: {}}
roles: {reader: {allow: table.read}}
grants: {g: {to: ana, role: reader, on: db, when: {mfa: true}}}
blocks: {b: {deny: all, on: db}}
`)
	near, err := Nearest(g, gate.Request{Subject: estate.Principal{ID: "ana"}, Operation: "table.read", Resource: "db:sky",
		Context: g.NewContext()})
	require.NoError(t, err)
	assert.Empty(t, near)
}

// Folding loses nothing: unfolded, the rows say of every pair what deciding it says.
func TestFoldedReachSaysTheSameAsEveryDecision(t *testing.T) {
	e, err := policyfile.Load(starter.Demo())
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	at, err := e.Zone.ParseTime("2027-12-01T10:00")
	require.NoError(t, err)
	for _, who := range g.Subjects() {
		c := g.NewContext()
		c.Time(at)
		rows, err := Reach(g, who, c)
		require.NoError(t, err)
		folded := map[string]gate.Outcome{}
		for _, row := range rows {
			for r := range e.Tree.All() {
				if r != row.Resource && !(row.Inside && r.Inside(row.Resource)) {
					continue
				}
				for _, o := range row.Operations {
					if e.Offer(r.System.Kind.ID).Valid(o.Name, r.Type) != nil {
						folded[fmt.Sprint(r.Address, o.Name)] = row.Outcome
					}
				}
			}
		}
		plain := map[string]gate.Outcome{}
		seen := map[*estate.Resource]bool{}
		require.NoError(t, g.Reach(who, c, func(a gate.Answer) bool {
			plain[fmt.Sprint(a.Resource.Address, a.Operation.Name)] = a.Outcome
			for r := a.Resource; r != nil && a.Operation.Level == estate.View; r = r.Parent {
				seen[r] = true
			}
			return true
		}))
		assert.Equal(t, plain, folded, who.String())
		visible, err := Visible(g, who, c)
		require.NoError(t, err)
		assert.Len(t, visible, len(seen), who.String())
	}
}

// Who is no more active lacks a date, whatever else a grant says.
func TestWhoIsGoneLacksADate(t *testing.T) {
	g := compile(t, `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}}}}
people: {ana: {ends: 2020-01-01}}
roles: {reader: {allow: table.read}}
grants: {g: {to: ana, role: reader, on: db}}
`)
	c := g.NewContext()
	at, err := g.Estate().Zone.ParseTime("2027-12-01T22:00")
	require.NoError(t, err)
	c.Time(at)
	near, err := Nearest(g, gate.Request{Subject: estate.Principal{ID: "ana"}, Operation: "table.read", Resource: "db:sky",
		Context: c})
	require.NoError(t, err)
	require.Len(t, near, 1)
	assert.Equal(t, "date", near[0].Lacks)
	assert.Contains(t, near[0].Detail, "ana is active through 2020-01-01")
}

// A cover says how many people can do what is lent on request, beside those who stand for it.
func TestACoverCountsWhatIsLent(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
catalogs: {rack: {types: [rack], operations: {rack.fill: {level: change}}}}
systems: {s: {kind: rack}}
people: {ana: {}, bo: {}, cai: {}}
roles: {fill: {allow: rack.fill}}
grants: {g: {to: ana, role: fill, on: s}, h: {to: [ana, bo], role: fill, on: s, on-request: {longest: 1h}}}
`)}})
	require.NoError(t, err)
	rows, err := Cover(t.Context(), e, Watch{Least: 1, What: func(*estate.Operation) bool { return true }})
	require.NoError(t, err)
	require.Len(t, rows, 1)
	require.Equal(t, [2]int{1, 2}, [2]int{rows[0].Number, rows[0].Lent})
}
