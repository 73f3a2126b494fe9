package change_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
)

// Whoever comes to own something one day is told of, where a grant asks for the owner and nobody owns anything yet.
func TestWhoMayComeToOwnSomethingIsTold(t *testing.T) {
	const text = `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}}}}
people: {ana: {}, bo: {}}
roles: {dropper: {allow: [table.drop]}}
grants: {
`
	before, after := estateOf(t, text+"}\n"),
		estateOf(t, text+"  own: {to: everyone, role: dropper, on: db, when: {owner: true}}\n}\n")
	effect, err := change.Of(t.Context(), before, after, change.How{Since: noon})
	require.NoError(t, err)
	require.Empty(t, effect.Lines, "nobody owns anything yet")
	var who []string
	for i := range effect.Coming {
		for _, p := range effect.Coming[i].Subjects {
			who = append(who, p.String())
		}
	}
	require.Equal(t, "ana bo", strings.Join(who, " "))
}
