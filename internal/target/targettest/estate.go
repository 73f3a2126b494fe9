package targettest

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/target"
)

// Estate is a policy of so many accounts, each in two groups, and tables in schemas of a hundred, with what a database
// has of them.
func Estate(b testing.TB, accounts, tables int) (*gate.Gate, *target.State) {
	var people, groups, places, grants strings.Builder
	places.WriteString("at,type,owner\ndb:accounts,,\n")
	state := &target.State{Places: []target.Place{{Path: "", Type: "server"}}}
	for i := range accounts {
		fmt.Fprintf(&people, "p%d,\"g%d;g%d\"\n", i, i%97, 97+i%31)
		fmt.Fprintf(&places, "db:accounts/p%d,,p%d\n", i, i)
	}
	for i := range 128 {
		fmt.Fprintf(&groups, "  g%d: {}\n", i)
		fmt.Fprintf(&grants, "  a%d: {to: group:g%d, role: r, on: ['db:s%d', 'db:s%d/t1']}\n", i, i, i%(tables/100),
			(i+1)%(tables/100))
	}
	for i := range tables {
		if i%100 == 0 {
			fmt.Fprintf(&places, "db:s%d,schema,\n", i/100)
			state.Places = append(state.Places, target.Place{Path: fmt.Sprintf("s%d", i/100), Type: "schema"})
		}
		fmt.Fprintf(&places, "db:s%d/t%d,table,\n", i/100, i%100)
		state.Places = append(state.Places, target.Place{Path: fmt.Sprintf("s%d/t%d", i/100, i%100), Type: "table"})
	}
	e, err := policyfile.Load(fstest.MapFS{
		"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\nedition: 2\n" +
			"inventories: [{people: people.csv}, {resources: places.csv}]\n" +
			"systems: {db: {kind: database}}\nroles: {r: {allow: [session.open, table.read, table.insert]}}\ngroups:\n" +
			groups.String() + "grants:\n" + grants.String() + "  c: {to: everyone, role: r, on: {in: db, exactly: true}}\n")},
		"people.csv": {Data: []byte("id,groups\n" + people.String())},
		"places.csv": {Data: []byte(places.String())},
	})
	require.NoError(b, err)
	g, err := gate.Compile(e, nil)
	require.NoError(b, err)
	return g, state
}
