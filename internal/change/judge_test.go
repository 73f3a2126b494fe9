package change_test

import (
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/escalation"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

func estateFrom(t testing.TB, text string) *estate.Estate {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	require.NoError(t, err)
	return e
}

func TestTheOwnerOfTheWorkspaceMayDoAnything(t *testing.T) {
	assert.Empty(t, judged(t, "root", "delegations:\n",
		"delegations:\n  mine: {to: lead, may-grant: keeper, on: everything}\n", "check: {direct-grant: warning}",
		"check: {direct-grant: off}"))
	assert.Empty(t, judged(t, "boss", "vault: {kind: database, owner: boss,",
		"vault: {kind: database, owner: boss, title: Mine,"), "the owner of an entry")
	assert.NotEmpty(t, judged(t, "boss", "check: {direct-grant: warning}", "check: {direct-grant: off}"))
}

// sampled says that some of the changes are enough: with the race detector, and to see a flipped rule at once.
func sampled() bool { return os.Getenv("HGATE_SAMPLE") != "" || testing.Short() }

// Each change of the tables is its author's, or refused by the rule that is named.
func TestWhoseChangeItIs(t *testing.T) {
	seen := map[change.Rule]int{}
	all := changes(t)
	assert.GreaterOrEqual(t, len(all), 332)
	for n, c := range all {
		if sampled() && n%4 > 0 {
			continue
		}
		breaches := c.judge(t, c.by)
		if c.rule == "yours" {
			assert.Empty(t, breaches, c.name)
			continue
		}
		seen[c.rule]++
		var rules []change.Rule
		for _, b := range breaches {
			rules = append(rules, b.Rule)
			assert.False(t, b.Would != "" && (b.Rule == change.BlockStands || b.Rule == change.GainByGrant),
				"no delegation helps: %s", c.name)
		}
		assert.Contains(t, rules, c.rule, c.name)
	}
	for rule := range change.Sentences {
		if rule != change.LossDelegated && !sampled() { // the first has a test of its own
			assert.Positive(t, seen[rule], "nothing is refused by %s", rule)
		}
	}
}

// What the lead may not do nobody may who has no delegation.
func TestNobodyWithoutDelegationMayDoWhatTheLeadMayNot(t *testing.T) {
	without := map[string]string{delegated: "mate", lab: "temp", yard: "temp"}
	for n, c := range changes(t) {
		if c.by == "lead" && c.rule != "yours" && n%5 == 0 { // each takes its time
			assert.NotEmpty(t, c.judge(t, without[c.before]), c.name)
		}
	}
}

// What may be done in turn may be done at once, and what may not be done may not be done beside something else, nor
// after it.
func TestChangesMayBeSplitAndPutTogether(t *testing.T) {
	judge := func(before, after string) int {
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(after)}})
		if err != nil {
			return -1 // the two do not go together
		}
		breaches, err := change.Judge(t.Context(), estateFrom(t, before), e, estate.Principal{ID: "lead"}, noon)
		require.NoError(t, err)
		return len(breaches)
	}
	theirs, refused := map[string][]tried{}, map[string][]tried{}
	for _, c := range changes(t) {
		of := refused
		if c.rule == "yours" {
			of = theirs
		}
		if c.by == "lead" {
			of[c.before] = append(of[c.before], c)
		}
	}
	d := rand.New(rand.NewPCG(7, 8))
	together, beside := 0, 0
	for n := range smallEstates(160) {
		base := []string{delegated, lab}[n%2]
		one := theirs[base][d.IntN(len(theirs[base]))]
		others := theirs[base]
		if n%4 > 1 {
			others = refused[base]
		}
		other := others[d.IntN(len(others))]
		first, okFirst := apply(base, one.edits)
		both, okBoth := apply(first, other.edits)
		if !okFirst || !okBoth || one.name == other.name {
			continue
		}
		switch after := judge(first, both); {
		case after == 0 && other.rule == "yours":
			together++
			assert.LessOrEqual(t, judge(base, both), 0, "%s, then %s", one.name, other.name)
		case after > 0 && other.rule != "yours": // what one has done before may make a trick none
			beside++
			assert.NotZero(t, judge(base, both), "%s beside %s", other.name, one.name)
		}
	}
	assert.Greater(t, together, 5)
	assert.Greater(t, beside, 5)
}

// A service that nobody owned is somebody's to take over no more if the new text is as long as the old one.
func TestOwnershipIsToldWhateverStoodThere(t *testing.T) {
	with := func(text string) *estate.Estate {
		return estateFrom(t, strings.Replace(delegated, "other: {}", "other: {"+text+"}", 1))
	}
	now, err := clock.UTC.ParseTime("2026-11-23T12:00Z")
	require.NoError(t, err)
	breaches, err := change.Judge(t.Context(), with("title: lead"), with("owner: lead"), estate.Principal{ID: "lead"}, now)
	require.NoError(t, err)
	require.NotEmpty(t, breaches)
	require.Equal(t, change.EntryOwner, breaches[0].Rule)
}

// Where taking away is delegated, nobody takes away what they could not hand out.
func TestLossesMayBeDelegated(t *testing.T) {
	judge := func(from, to string) []change.Breach {
		text := strings.Replace(delegated, "owner: root\n", "owner: root\nlosses: delegated\n", 1)
		require.Equal(t, 1, strings.Count(text, from), from)
		now, err := clock.UTC.ParseTime("2026-11-23T12:00Z")
		require.NoError(t, err)
		out, err := change.Judge(t.Context(), estateFrom(t, text), estateFrom(t, strings.Replace(text, from, to, 1)),
			estate.Principal{ID: "lead"}, now)
		require.NoError(t, err)
		return out
	}
	assert.Empty(t, judge("role: watcher, on: scope:crew-parts, ends: 2026-12-15",
		"role: watcher, on: scope:crew-parts, ends: 2026-12-10"))
	for _, b := range judge("  masters: {to: [bo, mate], role: watcher, on: dome}\n", "") {
		assert.Equal(t, change.LossDelegated, b.Rule)
	}
	assert.NotEmpty(t, judge("  masters: {to: [bo, mate], role: watcher, on: dome}\n", ""))
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
		out, err := change.Judge(t.Context(), both[0], both[1], estate.Principal{ID: "lead"},
			clock.Of(time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)))
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
		out, err := change.Judge(t.Context(), both[0], both[1], estate.Principal{ID: "lead"},
			clock.Of(time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)))
		require.NoError(t, err)
		return out
	}
	assert.Empty(t, judge(""))
	assert.Empty(t, judge("within: up to change, "))
	assert.NotEmpty(t, judge("within: up to use, "))
}

// Whoever looks after a group fills it, with themselves too, and can do no more: what can be got step by step and whose
// change it is say the same.
func TestStewardsFillTheirGroup(t *testing.T) {
	const text = `hidden-gate: 1
owner: boss
systems: {db: {kind: database, resources: {s: {}}}}
people: {boss: {}, lead: {}, ana: {}, bo: {}}
groups:
  crew: {members: [bo], stewards: lead}
  inner: {members: [bo]}
  strong: {members: [boss]}
roles: {reads: {allow: [table.read]}, drops: {allow: [table.drop]}}
grants:
  crew-drops: {to: group:crew, role: drops, on: "db:s"}
  strong-reads: {to: group:strong, role: reads, on: "db:s"}
`
	for edit, yours := range map[[2]string]bool{
		{"crew: {members: [bo]", "crew: {members: [bo, ana]"}:                         true,
		{"crew: {members: [bo]", "crew: {members: [bo, lead]"}:                        true,
		{"crew: {members: [bo]", "crew: {members: [ana]"}:                             true,
		{"crew: {members: [bo], stewards: lead}", "crew: {members: [bo]}"}:            true,
		{"strong: {members: [boss]", "strong: {members: [boss, ana]"}:                 false,
		{"strong: {members: [boss]", "strong: {members: [boss, group:crew]"}:          false,
		{"grants:\n", "grants:\n  more: {to: group:crew, role: reads, on: 'db:s'}\n"}: false,
	} {
		require.Equal(t, 1, strings.Count(text, edit[0]), edit[0])
		breaches, err := change.Judge(t.Context(), estateFrom(t, text),
			estateFrom(t, strings.Replace(text, edit[0], edit[1], 1)),
			estate.Principal{ID: "lead"}, noon)
		require.NoError(t, err)
		assert.Equal(t, yours, len(breaches) == 0, "%s: %v", edit[1], breaches)
	}
	e := estateFrom(t, text)
	ways, err := escalation.Work(t.Context(), e, noon, nil)
	require.NoError(t, err)
	at, err := estate.ParseAddress("db:s")
	require.NoError(t, err)
	_, can, err := ways.Chain(estate.Principal{ID: "lead"}, e.Operations["table.drop"], e.Listed(at))
	require.NoError(t, err)
	assert.True(t, can)
	_, can, err = ways.Chain(estate.Principal{ID: "lead"}, e.Operations["table.read"], e.Listed(at))
	require.NoError(t, err)
	assert.False(t, can)
}
