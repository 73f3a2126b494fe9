package change_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

const library = `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}, sky/t: {}, sky/u: {}, sky/v: {}}}}
people: {ana: {}, bo: {}, cai: {}, dan: {}}
groups: {crew: {members: [ana]}, heads: {members: [cai]}}
scopes: {s: ['db:sky/t']}
roles: {look: {allow: [table.view]}, drop: {allow: [table.drop, table.view]}, wide: {allow: [table.*]}}
grants:
  crew-drops: {to: group:crew, role: drop, on: scope:s}
  bo-looks: {to: bo, role: look, on: 'db:sky'}
  heads-by-night: {to: group:heads, role: wide, on: 'db:sky', when: {hours: '00:00-06:00'}}
  dan-drops: {to: dan, role: drop, on: 'db:sky/v'}
blocks:
  not-dan: {to: dan, deny: table.drop, on: 'db:sky'}
  no-tickets: {deny: table.drop, on: 'db:sky/v', when: {ticket: false}}
`

// gateOf compiles the gate of a workspace of one file, and reads a time in its zone.
func gateOf(t *testing.T, text, at string) (*gate.Gate, clock.Instant) {
	e := estateOf(t, text)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	now, err := e.Zone.ParseTime(at)
	require.NoError(t, err)
	return g, now
}

func TestEditsThatAllowOrStopARequest(t *testing.T) {
	g, at := gateOf(t, library, "2027-11-01T12:00")
	for _, c := range []struct {
		who, where string
		want       []string
	}{
		{"bo", "db:sky/t", []string{
			"membership: hgate set group crew --members +bo", // bo sees it already
			"grant: hgate add grant bo-table-drop --to bo --role drop --on db:sky/t",
			"role: hgate set role look --allow +table.drop",
		}},
		{"ana", "db:sky/u", []string{
			"grant: hgate add grant ana-table-drop --to ana --role drop --on db:sky/u",
			"scope: hgate set grant crew-drops --on +db:sky/u", // for whoever joins the crew, too
			"scope: hgate set scope s --resources +db:sky/u",
		}},
		{"cai", "db:sky/t", []string{
			"membership: hgate set group crew --members +cai",
			"grant: hgate add grant cai-table-drop --to cai --role drop --on db:sky/t",
			"condition: hgate set grant heads-by-night --when \"\"",
		}},
		// the list that a block leaves out is written out, so that `not` has something to take from
		{"dan", "db:sky/v", []string{
			"block: hgate set block no-tickets --to \"everyone,anonymous,not dan\"; hgate set block not-dan --to \"+not dan\"",
			"scope: hgate set block no-tickets --on \"+not db:sky/v\"; hgate set block not-dan --on \"+not db:sky/v\"",
			"block: hgate remove block no-tickets; hgate remove block not-dan",
		}},
		{"ana", "db:sky/t", []string{
			"block: hgate add block ana-table-drop --to ana --deny table.drop --on db:sky/t",
			"membership: hgate set group crew --members -ana",
			"grant: hgate set grant crew-drops --to \"+not ana\"",
			"scope: hgate set grant crew-drops --on \"+not db:sky/t\"",
			"grant: hgate remove grant crew-drops",
		}},
	} {
		ctx := g.NewContext()
		ctx.Time(at)
		fixes, _, err := change.Fixes(t.Context(), g, gate.Request{Subject: estate.Principal{ID: c.who},
			Operation: "table.drop",
			Resource:  c.where, Context: ctx}, at, 100, false, func(word string) string {
			if word == "" || strings.Contains(word, " ") {
				return `"` + word + `"`
			}
			return word
		})
		require.NoError(t, err)
		var got []string
		for _, f := range fixes {
			got = append(got, f.Kind+": "+strings.Join(f.Commands, "; "))
		}
		require.Equal(t, c.want, got, "%s on %s", c.who, c.where)
	}
}

// Of edits that are as good as to what is there, the one comes first that does less to what may come, however many are
// told.
func TestWhatMayComeTellsEditsApart(t *testing.T) {
	g, at := gateOf(t, `hidden-gate: 1
systems: {db: {kind: database, resources: {a: {}, b: {}}}}
people: {ana: {}, bo: {}, cai: {}}
groups: {one: {members: [bo]}, two: {members: [cai]}}
roles: {look: {allow: [table.view]}, read: {allow: [table.read]}}
grants:
  g1: {to: group:one, role: look, on: "db:a"}
  g1-new: {to: group:one, role: read, on: "db:new-*"}
  g2: {to: group:two, role: look, on: "db:a"}
`, "2027-11-01T12:00Z")
	c := g.NewContext()
	c.Time(at)
	for _, told := range []int{1, 2, 100} {
		fixes, _, err := change.Fixes(t.Context(), g, gate.Request{Subject: estate.Principal{ID: "ana"},
			Operation: "table.view", Resource: "db:a", Context: c}, at, told, false, func(s string) string { return s })
		require.NoError(t, err)
		var groups []string
		for _, f := range fixes {
			if f.Kind == "membership" {
				groups = append(groups, strings.Fields(f.Commands[0])[3])
			}
		}
		require.Equal(t, []string{"two", "one"}, groups)
		require.NotNil(t, fixes[0].Effect)
		require.Equal(t, told > 1, fixes[1].Effect != nil)
	}
}

// Where many edits might do it, the broadest of them are left untried, and the narrowest is found, wherever it stands.
func TestTheBroadestOfManyEditsAreLeftOut(t *testing.T) {
	var groups, grants strings.Builder
	for n := range 40 {
		id, on := fmt.Sprintf("g%02d", n), "db"
		if n >= 33 {
			on = "db:a"
		}
		fmt.Fprintf(&groups, "  %s: {members: [bo]}\n", id)
		fmt.Fprintf(&grants, "  %s: {to: group:%s, role: look, on: \"%s\"}\n", id, id, on)
	}
	g, at := gateOf(t, `hidden-gate: 1
systems: {db: {kind: database, resources: {a: {}, b: {}, c: {}}}}
people: {ana: {}, bo: {}}
roles: {look: {allow: [table.view]}, every: {allow: [table.*]}}
scopes: {elsewhere: ["db:b"]}
groups:
`+groups.String()+`  outer: {members: [group:g33]}
  wide: {members: [group:g34, group:g35, group:g36, group:g37, group:g38, group:g39]}
grants:
`+grants.String()+`  outer: {to: group:outer, role: look, on: "db:b"}
  wide: {to: group:wide, role: every, on: db}
  narrow: {to: [ana, bo], role: look, on: scope:elsewhere}
`, "2027-11-01T12:00Z")
	c := g.NewContext()
	c.Time(at)
	fixes, untried, err := change.Fixes(t.Context(), g, gate.Request{Subject: estate.Principal{ID: "ana"},
		Operation: "table.view", Resource: "db:a", Context: c}, at, 6, false, func(s string) string { return s })
	require.NoError(t, err)
	var told []string
	for _, f := range fixes {
		told = append(told, fmt.Sprint(f.Commands[0], " ", f.Weight))
	}
	require.Equal(t, []string{
		"hgate set group g33 --members +ana 1", // by which ana comes into the outer one, too, and has db:b already
		"hgate add grant ana-table-view --to ana --role look --on db:a 1",
	}, told[:2])
	require.Contains(t, told, "hgate set scope elsewhere --resources +db:a 2")
	require.Contains(t, told, "hgate set grant narrow --on +db:a 2")
	for _, f := range fixes {
		require.LessOrEqual(t, f.Weight, 2, f.Commands) // none by which ana would come into the wide group
	}
	require.Len(t, fixes, 12)
	require.Equal(t, 41+1+2-12, untried)
}

// What is proposed is what a file can say: ids begin with a letter or digit, and no list has `not` entries alone.
func TestProposalsAreWhatFilesCanSay(t *testing.T) {
	g, at := gateOf(t, `hidden-gate: 1
systems: {db: {kind: database}}
people: {ana: {}, bo: {}}
services: {bot: {}}
groups: {crew: {members: [ana, not bo]}}
roles: {look: {allow: [server.view]}}
grants: {g: {to: [group:crew, anonymous], role: look, on: db}}
blocks: {b: {to: service:bot, deny: only view, on: 'db:x'}}
`, "2027-11-01T12:00Z")
	proposed := 0
	for _, who := range []estate.Principal{{ID: "ana"}, {Kind: estate.IsService, ID: "bot"}, {Kind: estate.IsAnonymous}} {
		c := g.NewContext()
		c.Time(at)
		req := gate.Request{Subject: who, Operation: "server.view", Resource: "db", Context: c}
		fixes, _, err := change.Fixes(t.Context(), g, req, at, 100, false,
			func(s string) string { return s })
		require.NoError(t, err)
		for _, f := range fixes {
			proposed++
			for _, command := range f.Commands {
				words := strings.Fields(command)
				require.NoError(t, estate.CheckID(words[3]), command)
				require.NotEqual(t, "hgate set group crew --members -ana", command)
			}
		}
	}
	require.Greater(t, proposed, 3)
}
