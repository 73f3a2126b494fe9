package change

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
)

const relistedSettings = "hidden-gate: 1\ninventories: [{resources: list.ndjson}]\n"

const relistedPolicy = `people: {ana: {}, bo: {}}
roles: {reader: {allow: [table.read]}}
grants:
  here: {to: ana, role: reader, on: "db:a"}
  tagged: {to: bo, role: reader, on: {tags: {env: prod}}}
  anywhere: {to: bo, role: reader, on: [box, "box:away/t"]}
scopes: {prod: {tags: {env: prod}}}
tests:
  prod-is-readable: {who: ana, allowed: table.read on scope:prod}
`

const relistedSystems = "systems: {db: {kind: database}, box: {kind: database}}\n"

const relistedList = `{"at": "db:first"}
{"at": "db:a/t", "tags": {"env": "prod"}}
{"at": "db:b/t"}
{"at": "box:c"}
`

// editOf gives what an edit does that is read again in part.
func editOf(t *testing.T, systems, list string) *Effect {
	return editsFor(t, relistedPolicy, systems, list)[0]
}

// editsFor is the same for a policy, with a gate at hand and without one.
func editsFor(t *testing.T, policy, systems, list string) (out [2]*Effect) {
	files := func(systems, list string) fstest.MapFS {
		return fstest.MapFS{
			"hidden-gate.yaml": {Data: []byte(relistedSettings)}, "policy.yaml": {Data: []byte(policy)},
			"systems.yaml": {Data: []byte(systems)}, "list.ndjson": {Data: []byte(list)}}
	}
	was, is := files(relistedSystems, relistedList), files(systems, list)
	before, err := policyfile.Load(was)
	require.NoError(t, err)
	after, err := policyfile.Reload(was, is, before, []string{"systems.yaml", "list.ndjson"})
	require.NoError(t, err)
	require.True(t, after.Shares(before, "grants"), "it was read as a whole")
	g, err := gate.Compile(before, nil)
	require.NoError(t, err)
	for k, how := range []How{{Gate: g, Few: -1}, {Few: -1}} {
		out[k], err = Of(t.Context(), before, after, how)
		require.NoError(t, err)
	}
	return out
}

func swap(text, old, now string) string { return strings.Replace(text, old, now, 1) }

// A test is run again where what it asks about is listed otherwise, though nobody's access differs.
func TestATestOfOtherResourcesIsRunAgain(t *testing.T) {
	effect := editOf(t, relistedSystems, swap(relistedList, `"db:b/t"}`, `"db:b/t", "tags": {"env": "prod"}}`))
	require.Len(t, effect.Lines, 1)
	require.Equal(t, []estate.Principal{{ID: "bo"}}, effect.Lines[0].Subjects)
	c, err := effect.Consequences(t.Context(), 0)
	require.NoError(t, err)
	require.Equal(t, []Turned{{What: "test", ID: "prod-is-readable"}}, c.Turned)
}

// Of one resource more a guarantee is proved that says somebody may do something, though nobody gains anything, and one
// that says somebody may not, where they gain it.
func TestGuaranteesOfOneResourceMoreAreProvedAgain(t *testing.T) {
	policy := relistedPolicy + `guarantees:
  somebody: {at-least: 1, may: table.read, on: ["db:a", "db:c"]}
  not-ana: {never: ana, may: table.read, on: ["db:b", "db:a/u"]}
`
	for more, turned := range map[string]string{"db:c/new": "somebody", "db:a/u": "not-ana", "db:d": ""} {
		for _, effect := range editsFor(t, policy, relistedSystems, relistedList+`{"at": "`+more+"\"}\n") {
			c, err := effect.Consequences(t.Context(), 0)
			require.NoError(t, err)
			var told []string
			for _, one := range c.Turned {
				told = append(told, one.ID)
			}
			require.Equal(t, turned, strings.Join(told, " "), more)
		}
	}
}

// Whatever is added under a resource inherits its tags, and is decided about as these say now.
func TestWhatInheritsFromOtherTagsIsTold(t *testing.T) {
	effect := editOf(t, relistedSystems, swap(relistedList, `"db:b/t"}`, `"db:b", "tags": {"env": "prod"}}`))
	require.NotEmpty(t, effect.Coming)
	for _, l := range effect.Coming {
		require.Equal(t, []estate.Principal{{ID: "bo"}}, l.Subjects)
		require.Equal(t, Gains, l.Way)
	}
}

// A system that decides about what no inventory lists gives more on addresses that grants name, though it lists the
// same.
func TestASystemThatJudgesIsTold(t *testing.T) {
	effect := editOf(t, swap(relistedSystems, "box: {kind: database}", "box: {kind: database, unlisted: judge}"),
		relistedList)
	require.Len(t, effect.Lines, 1)
	require.Equal(t, "box:away/t", effect.Lines[0].Piles.First().First())
}
