package simulated

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/standin"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

const reading = `hidden-gate: 1
edition: 2
systems: {real: {kind: cloud-account, resources: {area: {type: area}, accounts/p0: {owner: p0}}}}
people: {p0: {}}
groups: {crew: {members: p0}}
roles:
  sees: {allow: store.view, session: 8h}
  makes: {include: sees, allow: store.create, idle: 30m}
  both: {include: [sees, makes]}
grants:
  sees: {to: group:crew, role: sees, on: real}
  makes: {to: group:crew, role: makes, on: real}
  two: {to: group:crew, roles: [sees, makes], on: real}
`

// A token is narrowed to the teams for grants of its roles and no others; one whose roles give nothing is not told.
func TestTokensAreNarrowedToTheirRoles(t *testing.T) {
	b := newBench(t, trials["cloud"])
	g := targettest.Load(t, reading)
	snap, err := b.system.Read(t.Context())
	require.NoError(t, err)
	a := b.Arrange(g, snap, nil)
	ends := clock.Of(targettest.At.Time().Add(time.Hour))
	a.Tokens = map[string][]target.Token{"p0": {{ID: "whole", Hash: "h", Ends: ends},
		{ID: "narrow", Hash: "h", Ends: ends, Roles: []string{"sees"}},
		{ID: "wide", Hash: "h", Ends: ends, Roles: []string{"makes", "sees"}},
		{ID: "nothing", Hash: "h", Ends: ends, Roles: []string{"both"}}}}
	plan := snap.Plan(a)
	next := nextOf(t, plan)
	teams := map[string][]string{}
	for id, token := range next.Accounts["p0"].Tokens {
		teams[id] = token.Teams
		assert.Equal(t, ends.Time().UTC(), *token.Ends)
	}
	assert.Equal(t, map[string][]string{"whole": nil, "narrow": {"hgate:real:sees"},
		"wide": {"hgate:real:makes", "hgate:real:sees", "hgate:real:two"}}, teams)
	assert.Contains(t, plan.Left, "the token nothing of p0 is not told: no team gives what its roles give")
}

// The sessions of a role's holders are as short as it and what it includes say; where something asks how long ago
// somebody signed in, all are over by then, and what asks so is given.
func TestSessionsAreAsShortAsRolesSay(t *testing.T) {
	b := newBench(t, trials["device"])
	policy := replacedIn(t, reading, "cloud-account", "device-console", "{type: area}", "{}", "store.view", "unit.view",
		"store.create", "unit.restart")
	limits := func(policy string) (out map[string][2]int64) {
		snap, err := b.system.Read(t.Context())
		require.NoError(t, err)
		out = map[string][2]int64{}
		for name, team := range nextOf(t, snap.Plan(b.Arrange(targettest.Load(t, policy), snap, nil))).Teams {
			out[name] = [2]int64{team.Session, team.Idle}
		}
		return out
	}
	assert.Equal(t, map[string][2]int64{"hgate:real:sees": {28800, 0}, "hgate:real:makes": {28800, 1800},
		"hgate:real:two": {28800, 1800}}, limits(policy))
	asks := replacedIn(t, policy, "role: makes, on: real}", "role: makes, on: real, when: {signed-in-within: 15m}}",
		"sees: {allow", "sees: {signed-in-within: 1h, allow")
	assert.Equal(t, map[string][2]int64{"hgate:real:sees": {900, 0}, "hgate:real:makes": {900, 1800},
		"hgate:real:two": {900, 1800}}, limits(asks))
	d := newBench(t, trials["application"]) // where somebody may choose a role that is not hgate's
	chosen, err := d.system.Read(t.Context())
	require.NoError(t, err)
	own := replacedIn(t, asks, "device-console", "application", "unit.view", "area.view", "unit.restart", "area.create")
	account := nextOf(t, chosen.Plan(d.Arrange(targettest.Load(t, own), chosen, nil))).Accounts["p0"]
	assert.Equal(t, standin.Limits{Session: 900}, account.Limits)
	elsewhere := replacedIn(t, policy, "systems: {", "systems: {gone: {kind: database}, ") +
		"  there: {to: group:crew, role: sees, on: gone, when: {signed-in-within: 15m}}\n"
	assert.Equal(t, int64(28800), limits(elsewhere)["hgate:real:sees"][0])
	c := newBench(t, trials["cloud"]) // where programs come without signing in
	snap, err := c.system.Read(t.Context())
	require.NoError(t, err)
	asks = replacedIn(t, reading, "role: makes, on: real}", "role: makes, on: real, when: {signed-in-within: 15m}}",
		"  two: {to: group:crew, roles: [sees, makes], on: real}\n", "")
	made := nextOf(t, snap.Plan(c.Arrange(targettest.Load(t, asks), snap, nil))).Teams["hgate:real:makes"].Permits
	assert.Equal(t, standin.Permits{".": {"see-stores"}}, made)
}

// nextOf reads which settings a plan puts in place.
func nextOf(t *testing.T, plan *target.Plan) (next standin.Access) {
	require.NoError(t, json.Unmarshal([]byte(plan.Script), &next))
	return next
}

// replacedIn puts texts in place of others, in pairs.
func replacedIn(t *testing.T, text string, pairs ...string) string {
	for i := 0; i < len(pairs); i += 2 {
		require.Contains(t, text, pairs[i])
		text = strings.ReplaceAll(text, pairs[i], pairs[i+1])
	}
	return text
}
