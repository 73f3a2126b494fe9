package estate_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/policyfile"
)

// An estate from an instant on is the same one where nothing is over or has begun by then; else the rest is shared.
func TestFromSharesWhatTheClockDoesNotChange(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
systems: {db: {kind: database}}
people: {ana: {}, bo: {ends: 2027-06-30}, cai: {away: [{starts: 2027-05-01, ends: 2027-06-30}]}}
services: {bot: {starts: 2027-06-01}}
roles: {look: {allow: table.read}, old: {allow: table.read, ends: 2027-06-30}}
grants: {a: {to: ana, role: look, on: db}, b: {to: bo, role: look, on: db, starts: 2027-06-01}}
blocks: {c: {deny: table.drop, on: db, ends: 2027-06-30}}
`)}})
	require.NoError(t, err)
	at, err := e.Zone.ParseTime("2027-01-01T00:00")
	require.NoError(t, err)
	require.Same(t, e, e.From(at))
	at, err = e.Zone.ParseTime("2027-07-01T00:00")
	require.NoError(t, err)
	later := e.From(at)
	require.Same(t, e.People["ana"], later.People["ana"])
	require.Same(t, e.Grants["a"], later.Grants["a"])
	require.Same(t, e.Roles["look"], later.Roles["look"])
	require.Nil(t, later.Grants["b"].Starts)
	require.Empty(t, later.Blocks)
	require.Empty(t, later.Roles["old"].Allow)
	require.Equal(t, "left", later.People["bo"].Status)
	require.Empty(t, later.People["cai"].Away)
	require.Nil(t, later.Services["bot"].Starts)
	require.NotNil(t, e.Grants["b"].Starts)
}
