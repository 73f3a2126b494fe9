package change_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// What an edit turns is told though tests and guarantees that it does not touch are not judged again: where somebody's
// access differs to what they ask about, where a group has other members, and where a session limits roles.
func TestWhatAnEditTouchesIsJudgedAgain(t *testing.T) {
	before := estateOf(t, `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}, sky/a: {}, sky/b: {}}}}
people: {ana: {}, bo: {}, cai: {}}
groups: {crew: {members: [ana, bo]}, others: {members: [cai]}}
roles: {reader: {allow: [table.read]}, other: {allow: [table.read]}, dropper: {allow: [table.drop]}}
grants:
  crew-reads: {to: group:crew, role: reader, on: "db:sky/a"}
  cai-drops: {to: cai, role: dropper, on: "db:sky/b"}
tests:
  ana-reads: {who: ana, allowed: [table.read on db:sky/a]}
  others-do-not: {who: group:others, denied: [table.read on db:sky/a]}
  ana-gets-no-further: {levels: {ana: {db:sky: use}}}
guarantees:
  never-others: {never: group:others, may: table.read, on: "db:sky/a"}
  only-crew: {only: group:crew, may: table.drop, on: "db:sky/a"}
`)
	put := func(e *estate.Estate, section string, entry estate.Head) *estate.Estate {
		return e.With(estate.Put(section, entry))
	}
	without := *before.Grants["crew-reads"]
	without.To = append(estate.Subjects{{Principal: estate.Principal{ID: "ana"}, Not: true}}, without.To...)
	more := *before.Groups["others"]
	more.Members = append(estate.Subjects{{Principal: estate.Principal{ID: "ana"}}}, more.Members...)
	wider := *before.Grants["cai-drops"]
	wider.To = append(estate.Subjects{{Principal: estate.Principal{ID: "ana"}}}, wider.To...)
	there := wider
	there.On = before.Grants["crew-reads"].On
	limited := estateOf(t, `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}, sky/a: {}}}}
people: {ana: {}, bo: {}}
roles: {reader: {allow: [table.read]}, other: {allow: [table.read]}}
grants:
  reads: {to: ana, role: reader, on: "db:sky/a"}
  reads-too: {to: ana, role: other, on: "db:sky/a"}
tests:
  ana-reads: {who: ana, given: {roles: [reader]}, allowed: [table.read on db:sky/a]}
`)
	past := func(ends string) *estate.Estate {
		return estateOf(t, `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}, sky/a: {}}}}
people: {ana: {}, bo: {}}
roles: {reader: {allow: [table.read]}}
grants: {reads: {to: ana, role: reader, on: "db:sky/a", ends: `+ends+`}}
tests:
  ana-read: {who: ana, given: {time: 2025-09-01T12:00}, allowed: [table.read on db:sky/a]}
`)
	}
	over := past("2026-01-01")
	shorter := over.With(estate.Put("grants", past("2025-06-01").Grants["reads"]))
	for name, c := range map[string]struct {
		before, after *estate.Estate
		want          []change.Turned
	}{
		"a role of several that give the same": {limited, limited.With(estate.Drop("grants", "reads")), []change.Turned{
			{What: "test", ID: "ana-reads", Wrong: "test ana-reads: invalid session: no grant to ana names the role reader"}}},
		"what is over": {over, shorter, []change.Turned{{What: "test", ID: "ana-read"}}},
		"access that a test asks about": {before, put(before, "grants", &without), []change.Turned{
			{What: "test", ID: "ana-gets-no-further"}, {What: "test", ID: "ana-reads"}}},
		"members of a group": {before, put(before, "groups", &more), []change.Turned{
			{What: "test", ID: "others-do-not"}, {What: "guarantee", ID: "never-others"}}},
		"another operation": {before, put(before, "grants", &wider), []change.Turned{
			{What: "test", ID: "ana-gets-no-further"}}},
		"what a guarantee is about": {before, put(before, "grants", &there), []change.Turned{
			{What: "test", ID: "ana-gets-no-further"}, {What: "guarantee", ID: "only-crew"}}},
	} {
		g, err := gate.Compile(c.before, nil)
		require.NoError(t, err)
		for _, how := range []change.How{{}, {Few: -1}, {Few: -1, Gate: g}} {
			how.Since = noon
			effect, err := change.Of(t.Context(), c.before, c.after, how)
			require.NoError(t, err, name)
			turned, err := effect.Turned(t.Context(), noon)
			require.NoError(t, err, name)
			require.Equal(t, c.want, turned, name)
		}
	}
}

// Of few subjects what they gain is told wherever it is, by addresses, patterns, types and tags.
func TestFewGainWhereverTheyAreGiven(t *testing.T) {
	for _, on := range []string{"db:sky/a", "'d*:**/a'", "{type: table}", "{tags: {env: prod}}"} {
		text := `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}, sky/a: {type: table, tags: {env: prod}}, sky/b: {type: view}}}}
people: {ana: {}, bo: {}}
roles: {reader: {allow: [table.read]}}
`
		before := estateOf(t, text)
		after := estateOf(t, text+"grants: {g: {to: ana, role: reader, on: "+on+"}}\n")
		effect, err := change.Of(t.Context(), before, after, change.How{Since: noon, Few: -1})
		require.NoError(t, err)
		require.NotEmpty(t, effect.Lines, on)
		require.Equal(t, "db:sky/a", effect.Lines[0].Piles.First().First(), on)
	}
}
