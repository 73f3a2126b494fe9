package survey_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/survey"
)

func TestScopesThatShareSomething(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
systems: {db: {kind: database, resources: {a: {}, a/x: {tags: {env: prod}}, a/y: {}, b: {},
      b/x: {tags: {env: prod}}}}, app: {kind: application}}
scopes:
  every: [everything]
  a: ['db:a']
  prod: [{tags: {env: prod}}]
  again: [{in: 'db:*/x', exactly: true}]
  app: [app]
`)}})
	require.NoError(t, err)
	got, err := survey.Overlaps(e)
	require.NoError(t, err)
	require.Equal(t, []survey.Overlap{
		{"every", "a", 3, 4, 0, "db:a"},
		{"again", "prod", 2, 0, 0, "db:a/x"},
		{"every", "again", 2, 5, 0, "db:a/x"},
		{"every", "prod", 2, 5, 0, "db:a/x"},
		{"a", "again", 1, 2, 1, "db:a/x"},
		{"a", "prod", 1, 2, 1, "db:a/x"},
		{"every", "app", 1, 6, 0, "app"},
	}, got)

	var come []string
	for _, a := range newplace.Newcomers(e, e.Scopes["again"].Resources) {
		come = append(come, a.String())
	}
	require.Equal(t, []string{"db:new/x"}, come) // each other place has its x already
}
