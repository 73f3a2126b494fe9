package change_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

// A test and a guarantee that name a scope come out otherwise once it is another place, though nobody's access differs.
func TestAnotherScopeTurnsWhatNamesIt(t *testing.T) {
	policy := `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}, moon: {}}}}
people: {ana: {}, bo: {}}
roles: {drop: {allow: [schema.view, schema.drop]}}
scopes: {here: ['db:sky'], wrapped: [scope:here]}
grants: {ana-drops: {to: ana, role: drop, on: 'db:sky'}}
tests: {ana-not: {who: ana, given: {time: 2031-03-01T10:00}, denied: [all on scope:wrapped]}}
guarantees: {not-ana: {never: [ana], may: all, on: scope:wrapped}}
`
	before, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(policy)}})
	require.NoError(t, err)
	other, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(
		strings.Replace(policy, "here: ['db:sky']", "here: ['db:moon']", 1))}})
	require.NoError(t, err)
	after := before.With(estate.Put("scopes", other.Scopes["here"]))
	for _, few := range []int{0, -1} {
		effect, err := change.Of(t.Context(), before, after, change.How{Few: few})
		require.NoError(t, err)
		require.Empty(t, effect.Lines)
		turned, err := effect.Turned(t.Context(), 1_900_000_000_000_000)
		require.NoError(t, err)
		require.Equal(t, []change.Turned{{What: "test", ID: "ana-not", Passes: true},
			{What: "guarantee", ID: "not-ana", Passes: true}}, turned)
	}
}
