package change_test

import (
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

// lead leads the crew and may hand out the crew's roles in the dome, to the crew, for thirty days at most.
const delegated = `hidden-gate: 1
ignore: [drafts/**]
check: {direct-grant: warning}
catalogs:
  dome: {based-on: device-console, operations: {dome.open: {level: use}}}
systems:
  dome: {kind: dome, resources: {slit: {tags: {crew: yes}}, motor: {tags: {crew: no}, owner: boss}}}
  vault: {kind: database, owner: boss, resources: {gold: {}}}
people: {lead: {}, ana: {}, bo: {tags: {team: none}}, boss: {}, late: {ends: 2026-12-05}}
services: {robot: {owner: lead}, other: {}}
groups:
  crew: {members: [ana, late]}
  leads: {members: [lead]}
  keepers: {members: [boss], owner: boss}
  autos: {match: {team: auto}}
  empty: {members: [boss]}
roles:
  opener: {allow: [dome.open, unit.view]}
  watcher: {allow: [unit.view, log.view]}
  keeper: {allow: [from view]}
scopes:
  crew-parts: {in: dome, tags: {crew: yes}}
grants:
  crew-watches: {to: group:crew, role: watcher, on: dome, ends: 2026-12-15}
  keepers-keep: {to: group:keepers, role: keeper, on: everything}
  autos-open: {to: group:autos, role: opener, on: "dome:slit"}
  lend: {to: group:keepers, role: keeper, on: "dome:slit", on-request: {longest: 1h, approvers: boss, approvals: 1, reason: true}}
blocks:
  no-vault: {to: [everyone, anonymous], deny: [from change], on: vault, when: {not: {mfa: true}}}
separations:
  two: {roles: [opener, keeper], within: person}
delegations:
  leads-hand-out: {to: group:leads, may-grant: [opener, watcher], within: [up to use], on: scope:crew-parts, to-members-of: group:crew, longest: 30d, may-edit: [group:crew]}
tests:
  bo-stays-out: {who: bo, given: {time: 2026-11-23T12:00Z}, denied: all on dome}
guarantees:
  none: {never: bo, may: all, on: vault}
`

// judged tells what of an edit, old to new text by turns, is not the lead's to make.
func judged(t *testing.T, by string, edits ...string) []string {
	load := func(text string) *estate.Estate {
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
		require.NoError(t, err, text)
		return e
	}
	text := delegated
	for i := 0; i+1 < len(edits); i += 2 {
		require.Equal(t, 1, strings.Count(text, edits[i]), edits[i])
		text = strings.Replace(text, edits[i], edits[i+1], 1)
	}
	now, err := clock.UTC.ParseTime("2026-11-23T12:00Z")
	require.NoError(t, err)
	breaches, err := change.Judge(load(delegated), load(text), estate.Principal{ID: by}, now)
	require.NoError(t, err)
	var out []string
	for _, b := range breaches {
		out = append(out, b.Message)
	}
	return out
}

func TestALeadMayDoWhatIsDelegated(t *testing.T) {
	grants := "grants:\n"
	for name, edits := range map[string][]string{
		"a grant within all limits":     {grants, "grants:\n  new: {to: ana, role: opener, on: \"dome:slit\", ends: 2026-12-20}\n"},
		"to the crew":                   {grants, "grants:\n  new: {to: group:crew, role: opener, on: \"dome:slit\", ends: 2026-12-20}\n"},
		"somebody joins the crew":       {"crew: {members: [ana, late]}", "crew: {members: [ana, late, bo]}"},
		"somebody leaves the crew":      {"crew: {members: [ana, late]}", "crew: {members: [ana]}"},
		"a grant is taken away":         {"  crew-watches: {to: group:crew, role: watcher, on: dome, ends: 2026-12-15}\n", ""},
		"a grant ends sooner":           {"ends: 2026-12-15", "ends: 2026-12-01"},
		"a title":                       {"opener: {allow", "opener: {title: Opens the dome, allow"},
		"joins, and is granted at once": {"crew: {members: [ana, late]}", "crew: {members: [ana, late, bo]}", grants, "grants:\n  new: {to: bo, role: opener, on: \"dome:slit\", ends: 2026-12-20}\n"},
		"a block stops more":            {"deny: [from change]", "deny: [from view]"},
		"nothing":                       {},
	} {
		assert.Empty(t, judged(t, "lead", edits...), name)
	}
}

// Each is a way to get, or give, more than what was delegated.
func TestTricksAreSeenThrough(t *testing.T) {
	grants := "grants:\n"
	grant := func(body string) []string { return []string{grants, "grants:\n  new: " + body + "\n"} }
	tricks := map[string][]string{
		"a role that is not delegated":               grant(`{to: ana, role: keeper, on: "dome:slit", ends: 2026-12-20}`),
		"to somebody outside the crew":               grant(`{to: bo, role: opener, on: "dome:slit", ends: 2026-12-20}`),
		"to everyone":                                grant(`{to: everyone, role: opener, on: "dome:slit", ends: 2026-12-20}`),
		"to oneself":                                 grant(`{to: lead, role: opener, on: "dome:slit", ends: 2026-12-20}`),
		"to one's own service":                       grant(`{to: service:robot, role: opener, on: "dome:slit", ends: 2026-12-20}`),
		"elsewhere":                                  grant(`{to: ana, role: opener, on: "dome:motor", ends: 2026-12-20}`),
		"where nothing is yet":                       grant(`{to: ana, role: opener, on: "dome:annex/*", ends: 2026-12-20}`),
		"for too long":                               grant(`{to: ana, role: opener, on: "dome:slit", ends: 2027-06-20}`),
		"without an end":                             grant(`{to: ana, role: opener, on: "dome:slit"}`),
		"to a group that others fill":                grant(`{to: group:autos, role: watcher, on: "dome:slit", ends: 2026-12-20}`),
		"on request, for long":                       grant(`{to: group:crew, role: opener, on: "dome:slit", on-request: {longest: 90d}}`),
		"a later end":                                {"ends: 2026-12-15", "ends: 2027-12-15"},
		"a person's end":                             {"ends: 2026-12-05", "ends: 2029-12-31"},
		"the role gets more":                         {"opener: {allow: [dome.open, unit.view]}", "opener: {allow: [dome.open, unit.view, position.set]}"},
		"the role gets what is nowhere yet":          {"watcher: {allow: [unit.view, log.view]}", "watcher: {allow: [unit.view, log.view, store.view]}"},
		"the role includes another":                  {"watcher: {allow: [unit.view", "watcher: {include: keeper, allow: [unit.view"},
		"the scope gets wider":                       {"crew-parts: {in: dome, tags: {crew: yes}}", "crew-parts: {in: dome}"},
		"a tag brings a resource into the scope":     {"motor: {tags: {crew: no}, owner: boss}", "motor: {tags: {crew: yes}, owner: boss}"},
		"a tag makes somebody a member":              {"bo: {tags: {team: none}}", "bo: {tags: {team: auto}}"},
		"a group fills itself otherwise":             {"autos: {match: {team: auto}}", "autos: {match: {team: none}}"},
		"a member of a group of others":              {"keepers: {members: [boss], owner: boss}", "keepers: {members: [boss, ana], owner: boss}"},
		"joins the crew oneself":                     {"crew: {members: [ana, late]}", "crew: {members: [ana, late, lead]}"},
		"one's service joins the crew":               {"crew: {members: [ana, late]}", "crew: {members: [ana, late, service:robot]}"},
		"a service becomes one's own, with a grant":  {"other: {}", "other: {owner: lead}", grants, "grants:\n  new: {to: service:other, role: opener, on: \"dome:slit\", ends: 2026-12-20}\n"},
		"the delegation gets wider":                  {"within: [up to use]", "within: [up to govern]"},
		"the delegation lets oneself":                {"longest: 30d", "longest: 30d, to-self: true"},
		"a delegation of one's own":                  {"delegations:\n", "delegations:\n  mine: {to: lead, may-grant: keeper, on: everything}\n"},
		"one more leads":                             {"leads: {members: [lead]}", "leads: {members: [lead, ana]}"},
		"a block is taken out":                       {"  no-vault: {to: [everyone, anonymous], deny: [from change], on: vault, when: {not: {mfa: true}}}\n", "  some: {deny: all, on: vault}\n"},
		"a block stops fewer":                        {"to: [everyone, anonymous], deny", "to: [everyone, anonymous, not ana], deny"},
		"a block stops less":                         {"deny: [from change]", "deny: [from govern]"},
		"a block stops elsewhere":                    {"on: vault, when", "on: vault:gold, when"},
		"a block stops under a condition":            {"when: {not: {mfa: true}}", "when: {not: {mfa: true}, ticket: true}"},
		"a separation allows more":                   {"two: {roles: [opener, keeper], within: person}", "two: {roles: [opener, keeper, watcher], at-most: 2, within: person}"},
		"a separation is of sessions":                {"within: person", "within: session"},
		"a severity":                                 {"check: {direct-grant: warning}", "check: {direct-grant: off}"},
		"a finding is accepted":                      {"crew-watches: {to: group:crew,", "crew-watches: {accept: {finding: expired, why: so}, to: group:crew,"},
		"a file is not read any more":                {"ignore: [drafts/**]", "ignore: [drafts/**, rules/**]"},
		"an operation gets a lower level":            {"dome.open: {level: use}", "dome.open: {level: view}"},
		"a catalog makes an operation apply to more": {"dome.open: {level: use}", "dome.open: {level: use}, dome.burn: {level: use}"},
		"approval gets easier":                       {"approvals: 1", "approvals: 0"},
		"one approves oneself":                       {"approvers: boss", "approvers: [boss, lead]"},
		"it is lent for longer":                      {"longest: 1h", "longest: 9h"},
		"an owner takes it over":                     {"slit: {tags: {crew: yes}}", "slit: {tags: {crew: yes}, owner: lead}", "grants:\n", "grants:\n  own: {to: everyone, role: keeper, on: dome, when: {owner: true}}\n"},
		"what another owns":                          {"vault: {kind: database, owner: boss,", "vault: {kind: database, owner: boss, title: Mine,"},
		"a resource that another owns":               {"motor: {tags: {crew: no}, owner: boss}", "motor: {tags: {crew: no}, owner: lead}"},
		"a test is taken out":                        {"  bo-stays-out: {who: bo, given: {time: 2026-11-23T12:00Z}, denied: all on dome}\n", "  other: {who: ana, given: {time: 2026-11-23T12:00Z}, denied: table.drop on vault}\n"},
		"a guarantee says less":                      {"none: {never: bo, may: all, on: vault}", "none: {never: bo, may: table.drop, on: vault}"},
		"unlisted addresses are judged":              {"vault: {kind: database, owner: boss,", "vault: {kind: database, owner: boss, unlisted: judge,"},
		"somebody looks after a group":               {"empty: {members: [boss]}", "empty: {members: [boss], stewards: lead}"},
		"the clock":                                  {"hidden-gate: 1\n", "hidden-gate: 1\ntimezone: Atlantic/Azores\n"},
	}
	require.Greater(t, len(tricks), 40)
	for name, edits := range tricks {
		assert.NotEmpty(t, judged(t, "lead", edits...), name)
	}
	assert.NotEmpty(t, judged(t, "ana", grant(`{to: late, role: opener, on: "dome:slit", ends: 2026-12-20}`)...), "somebody with no delegation")
	assert.Empty(t, judged(t, "boss", "vault: {kind: database, owner: boss,", "vault: {kind: database, owner: boss, title: Mine,"), "the owner")
}

// What is gained without a grant being touched is held against the delegation too, each of its limits by itself.
func TestEachLimitOfADelegationHolds(t *testing.T) {
	const text = `hidden-gate: 1
systems: {dome: {kind: device-console}}
people: {lead: {}, bo: {}}
groups: {autos: {match: {team: auto}}}
roles: {opener: {allow: unit.view}, watcher: {allow: log.view}}
grants: {autos-open: {to: group:autos, role: opener, on: dome}}
delegations: {hand-out: {to: lead, may-grant: opener, on: dome}}
`
	judge := func(limit, who string) []change.Breach {
		var both [2]*estate.Estate
		for i, tags := range []string{"{}", "{tags: {team: auto}}"} {
			full := strings.Replace(strings.Replace(text, who+": {}", who+": "+tags, 1), "on: dome}}\n", limit+"on: dome}}\n", 2)
			full = strings.Replace(full, "role: opener, "+limit, "role: opener, ", 1) // the grant has no such limit
			e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(full)}})
			require.NoError(t, err, full)
			both[i] = e
		}
		out, err := change.Judge(both[0], both[1], estate.Principal{ID: "lead"}, clock.Of(time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)))
		require.NoError(t, err)
		return out
	}
	assert.Empty(t, judge("", "bo"))
	assert.Empty(t, judge("to-self: true, ", "lead"))
	assert.NotEmpty(t, judge("", "lead"), "to oneself")
	assert.NotEmpty(t, judge("longest: 30d, ", "bo"), "for too long")
	assert.NotEmpty(t, judge("within: from change, ", "bo"), "beyond the ceiling")
}

// Whoever may fill a group can not give more by it than the delegation's ceiling, whatever the group has.
func TestJoiningAGroupHasTheCeilingOfItsDelegation(t *testing.T) {
	judge := func(ceiling string) []change.Breach {
		var both [2]*estate.Estate
		for i, members := range []string{"[ana]", "[ana, bo]"} {
			e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
systems: {dome: {kind: device-console}}
people: {lead: {}, ana: {}, bo: {}}
groups: {crew: {members: ` + members + `}}
roles: {keeper: {allow: settings.change}}
grants: {crew-keeps: {to: group:crew, role: keeper, on: dome}}
delegations: {fill: {to: lead, may-edit: group:crew, ` + ceiling + `on: dome}}
`)}})
			require.NoError(t, err)
			both[i] = e
		}
		out, err := change.Judge(both[0], both[1], estate.Principal{ID: "lead"}, clock.Of(time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)))
		require.NoError(t, err)
		return out
	}
	assert.Empty(t, judge(""))
	assert.Empty(t, judge("within: up to change, "))
	assert.NotEmpty(t, judge("within: up to use, "))
}
