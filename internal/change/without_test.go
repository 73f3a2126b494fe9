package change_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/policyfile"
)

// What goes without an entry is lost where nothing else gives it.
func TestWithoutAnEntrySomeLoseWhatNothingElseGives(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}, sky/t: {}}}}
people: {ana: {}, bo: {}}
groups: {crew: {members: [ana, bo]}, lead: {members: [ana]}}
roles: {look: {allow: [table.view]}, drop: {include: [look], allow: [table.drop]}}
grants:
  crew-looks: {to: group:crew, role: look, on: db}
  lead-drops: {to: group:lead, role: drop, on: 'db:sky'}
`)}})
	require.NoError(t, err)
	for _, c := range []struct {
		section, id string
		lost        map[string][]string // who loses what
	}{
		{"grants", "crew-looks", map[string][]string{"bo": {"table.view"}}}, // the lead has it through the other role
		{"grants", "lead-drops", map[string][]string{"ana": {"table.drop"}}},
		{"roles", "look", map[string][]string{"ana": {"table.view"}, "bo": {"table.view"}}},
		{"roles", "drop", map[string][]string{"ana": {"table.drop"}}},
		{"groups", "lead", map[string][]string{"ana": {"table.drop"}}},
		{"groups", "crew", map[string][]string{"bo": {"table.view"}}},
	} {
		effect, err := change.Of(t.Context(), e, change.Without(e, c.section, c.id), change.How{})
		require.NoError(t, err)
		lost := map[string][]string{}
		for _, l := range effect.Lines {
			require.Equal(t, change.Loses, l.Way)
			for _, who := range l.Subjects {
				lost[who.ID] = append(lost[who.ID], l.Operations...)
			}
		}
		require.Equal(t, c.lost, lost, "%s %s", c.section, c.id)
	}
}
