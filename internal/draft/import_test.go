package draft

import (
	"fmt"
	"maps"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/directory"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

// imported is a workspace of which some people came from the observatory's directory, and some from elsewhere.
const imported = `hidden-gate: 1
people:
  ana: {name: "Ana", tags: {source: directory}}
  ben: {tags: {source: directory}}
  cara: {tags: {source: directory}, status: left}
  dora: {tags: {source: elsewhere}}
  edna: {}
groups:
  crew: {members: [ana, ben, dora, edna, not cara], tags: {source: directory}}
  ours: {members: [ana, ben]}
`

// afterImport gives the estate that an import makes of a workspace.
func afterImport(t *testing.T, text string, from *directory.People, most Share) (*estate.Estate, Imported, error) {
	files := fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}}
	e, err := policyfile.Load(files)
	require.NoError(t, err)
	d := New(files, e)
	done, err := d.Import(from, "directory", "", most)
	if err != nil {
		return nil, done, err
	}
	after, err := policyfile.Load(d.FS())
	require.NoError(t, err)
	return after, done, nil
}

func statuses(e *estate.Estate) map[string]string {
	out := map[string]string{}
	for id, s := range e.People {
		out[id] = s.Status
	}
	return out
}

func TestWhoIsGoneFromADirectoryHasLeftAndNobodyElse(t *testing.T) {
	after, done, err := afterImport(t, imported, &directory.People{People: []directory.Person{{ID: "ana"}}},
		Share{Number: 1})
	require.NoError(t, err)
	assert.Equal(t, []string{"ben"}, done.Gone)
	assert.Equal(t, map[string]string{"ana": "active", "ben": "left", "cara": "left", "dora": "active", "edna": "active"},
		statuses(after))
}

func TestAnImportTellsWhatItDid(t *testing.T) {
	after, done, err := afterImport(t, imported, &directory.People{People: []directory.Person{
		{ID: "ana", Name: "Ana Lind"}, {ID: "ben"}, {ID: "cara"}, {ID: "finn", Email: "finn@ternhollow.example"},
	}}, Share{})
	require.NoError(t, err)
	assert.Equal(t, Imported{Added: 1, Updated: 2, Back: 1}, done)
	assert.Equal(t, "active", after.People["cara"].Status)
	assert.Equal(t, "Ana Lind", after.People["ana"].Name)
	assert.Equal(t, "directory", after.People["finn"].Tags.Get(SourceTag))
}

func TestNoMoreAreTakenForGoneThanMayBe(t *testing.T) {
	nobody := &directory.People{}
	for most, refused := range map[Share]bool{
		{Number: 2}: false, {Number: 1}: true, {Number: 100, Percent: true}: false, {Number: 99, Percent: true}: true,
		{Number: 1, Percent: true}: true, {}: true, {Percent: true}: true,
	} {
		_, _, err := afterImport(t, imported, nobody, most) // ana and ben are gone
		assert.Equal(t, refused, err != nil, "%v", most)
	}
	// Of a few, one in a hundred is one.
	_, _, err := afterImport(t, imported, &directory.People{People: []directory.Person{{ID: "ana"}}}, Share{1, true})
	assert.NoError(t, err)
}

func TestWhoIsProtectedNeitherLeavesNorEndsByAnImport(t *testing.T) {
	protected := "hidden-gate: 1\npeople: {ana: {protected: true, tags: {source: directory}}}\n"
	_, _, err := afterImport(t, protected, &directory.People{}, Share{Number: 5})
	assert.ErrorContains(t, err, "ana is gone from directory, and protected")
	for _, p := range []directory.Person{{ID: "ana", Status: "suspended"}, {ID: "ana", Ends: "2031-01-01"}} {
		_, _, err := afterImport(t, protected, &directory.People{People: []directory.Person{p}}, Share{})
		assert.ErrorContains(t, err, "who is protected", "%v", p)
	}
	after, _, err := afterImport(t, protected, &directory.People{People: []directory.Person{{ID: "ana", Name: "Ana"}}},
		Share{})
	require.NoError(t, err)
	assert.Equal(t, "Ana", after.People["ana"].Name)
}

func membersOf(g *estate.Group) []string {
	var out []string
	for _, m := range g.Members {
		out = append(out, m.String())
	}
	return out
}

func TestOfAGroupThatCameFromADirectoryItsOwnMembersAreIts(t *testing.T) {
	all := []directory.Person{{ID: "ana"}, {ID: "ben"}}
	after, _, err := afterImport(t, imported, &directory.People{People: all, Groups: []directory.Group{
		{ID: "crew", Members: []string{"ana"}}, {ID: "ours", Members: []string{"ana"}},
		{ID: "new", About: "New here", Members: []string{"ben"}},
	}}, Share{})
	require.NoError(t, err)
	assert.Equal(t, []string{"ana", "dora", "edna", "not cara"}, membersOf(after.Groups["crew"]),
		"ben came from it and is taken out, those of others stay")
	assert.Equal(t, []string{"ana", "ben"}, membersOf(after.Groups["ours"]),
		"a group that did not come from it loses nobody")
	assert.Equal(t, []string{"ben"}, membersOf(after.Groups["new"]))
	assert.Equal(t, "directory", after.Groups["new"].Tags.Get(SourceTag))
	assert.Equal(t, []string{"crew", "new", "ours"}, slices.Sorted(maps.Keys(after.Groups)))
}

func TestCopiedAccessTakesAwayWhatIsTakenAway(t *testing.T) {
	files := fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
systems: {db: {kind: database}}
people: {ana: {tags: {team: domes}}, ben: {tags: {team: domes}}, cara: {}}
groups:
  crew: {members: [ana, not cara]}
  domes: {match: {team: domes}}
  shut: {members: [cara, not ana]}
roles: {look: {allow: up to view}}
grants: {most: {to: [everyone, not ana], role: look, on: db}, one: {to: ana, role: look, on: db}}
blocks: {no: {to: ana, deny: all, on: db}}
`)}}
	e, err := policyfile.Load(files)
	require.NoError(t, err)
	copied := func(to string) (*estate.Estate, []string) {
		d := New(files, e)
		left, err := d.CopyAccess(estate.Principal{ID: "ana"}, estate.Principal{ID: to},
			func(string, string) bool { return false })
		require.NoError(t, err)
		after, err := policyfile.Load(d.FS())
		require.NoError(t, err)
		return after, left
	}
	after, left := copied("ben")
	assert.Empty(t, left, "the tags put both into the group")
	assert.Equal(t, []string{"ana", "not cara", "ben"}, membersOf(after.Groups["crew"]))
	assert.Equal(t, []string{"cara", "not ana", "not ben"}, membersOf(after.Groups["shut"]))
	assert.Equal(t, "[everyone not ana not ben]", fmtTerms(after.Grants["most"].To))
	assert.Equal(t, "[ana ben]", fmtTerms(after.Grants["one"].To))
	assert.Equal(t, "[ana ben]", fmtTerms(after.Blocks["no"].To))
	_, left = copied("cara")
	assert.Equal(t, []string{"domes"}, left)
}

func fmtTerms(list estate.Subjects) string {
	var out []string
	for _, t := range list {
		out = append(out, t.String())
	}
	return fmt.Sprint(out)
}
