package change_test

import (
	"maps"
	"math/rand/v2"
	"slices"
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

// lead leads the crew and may hand out the crew's roles in the crew's parts of the dome, to the crew, for thirty days at most.
const delegated = `hidden-gate: 1
owner: root
ignore: [drafts/**]
check: {direct-grant: warning}
catalogs:
  dome: {based-on: device-console, operations: {dome.open: {level: use}, dome.spin: {level: use, exclusive: true}}}
systems:
  dome: {kind: dome, precedence: [keeper], resources: {slit: {tags: {crew: yes}}, motor: {tags: {crew: no}, owner: boss}, spare: {}, spare/rail: {tags: {crew: yes}}}}
  vault: {kind: database, owner: boss, resources: {gold: {}}}
  open: {kind: dome, unlisted: judge, resources: {q1: {}, q2: {tags: {crew: yes}}}}
people: {lead: {}, ana: {}, bo: {tags: {team: none}}, boss: {}, root: {}, late: {ends: 2026-12-05}, gone: {status: left}, ill: {status: suspended}, past: {ends: 2026-01-01}, mate: {tags: {desk: a}}}
services: {robot: {owner: lead}, other: {}, bot: {owner: group:owners, tags: {desk: b}}}
groups:
  crew: {members: [ana, late]}
  leads: {members: [lead, gone, ill, past]}
  keepers: {members: [boss], owner: boss}
  autos: {match: {team: auto}}
  empty: {members: [boss]}
  void: {}
  approvers: {members: [boss]}
  owners: {members: [boss]}
  watched: {members: [bo]}
  spared: {members: [boss]}
  pals: {members: [bo], stewards: group:minders}
  minders: {members: [boss]}
  strong: {members: [boss]}
roles:
  opener: {allow: [dome.open, unit.view]}
  watcher: {allow: [unit.view, log.view]}
  keeper: {allow: [from view]}
  spinner: {allow: [dome.spin]}
  viewer: {allow: [unit.view]}
  counted: {allow: [unit.view], at-most: 2}
  stands: {include: [counted], allow: [log.view]}
  ended: {allow: [dome.open], ends: 2026-06-01}
  has-ended: {include: [ended], allow: [unit.view]}
  sworn: {allow: [unit.view], acknowledge: Read the rules.}
scopes:
  crew-parts: {in: dome, tags: {crew: yes}}
  ours: {in: open, tags: {crew: yes}}
grants:
  crew-watches: {to: group:crew, role: watcher, on: scope:crew-parts, ends: 2026-12-15}
  keepers-keep: {to: group:keepers, role: keeper, on: [dome, vault]}
  autos-open: {to: group:autos, role: opener, on: "dome:slit"}
  lend: {to: group:keepers, role: keeper, on: "dome:slit", on-request: {longest: 1h, approvers: [boss, group:approvers], approvals: 1, reason: true}}
  ours: {to: bo, role: opener, on: scope:ours}
  desks: {to: group:watched, role: opener, on: dome, when: {subject: {desk: a}}}
  masters: {to: [bo, mate], role: watcher, on: dome}
  strong-open: {to: group:strong, role: opener, on: open}
  robots: {to: service:robot, role: viewer, on: "dome:spare"}
blocks:
  no-vault: {to: [everyone, anonymous], deny: [from change], on: vault, when: {not: {mfa: true}}}
  no-parts: {to: [group:watched], deny: [log.view], on: {in: dome, tags: {crew: no}}}
  no-mates: {to: [everyone, not group:spared], deny: [log.view], on: "dome:spare", when: {subject: {desk: a}}}
separations:
  two: {roles: [opener, keeper], within: person}
  mixed: {roles: [spinner, watcher], within: session}
delegations:
  leads-hand-out: {to: group:leads, may-grant: [opener, watcher], within: [up to use], on: scope:crew-parts, to-members-of: group:crew, longest: 30d, may-edit: [group:crew]}
  fills: {to: lead, may-edit: group:strong, within: [up to view]}
tests:
  bo-stays-out: {who: bo, given: {time: 2026-11-23T12:00Z}, denied: dome.open on dome:motor}
  watched-stay-out: {who: group:watched, given: {time: 2026-11-23T12:00Z}, denied: dome.open on vault}
guarantees:
  none: {never: group:watched, may: all, on: vault}
  keepers-only: {only: group:keepers, may: [from change], on: {in: dome, tags: {crew: no}}}
`

func estateFrom(t testing.TB, text string) *estate.Estate {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	require.NoError(t, err, text)
	return e
}

// judged tells what of an edit, old to new text by turns, is not the author's to make.
func judged(t testing.TB, by string, edits ...string) []change.Breach {
	text := delegated
	for i := 0; i+1 < len(edits); i += 2 {
		require.Equal(t, 1, strings.Count(text, edits[i]), edits[i])
		text = strings.Replace(text, edits[i], edits[i+1], 1)
	}
	now, err := clock.UTC.ParseTime("2026-11-23T12:00Z")
	require.NoError(t, err)
	author, err := estate.ParsePrincipal(by)
	require.NoError(t, err)
	breaches, err := change.Judge(estateFrom(t, delegated), estateFrom(t, text), author, now)
	require.NoError(t, err)
	return breaches
}

// parts is the crew's parts of the dome in a grant.
const parts = `{in: "dome:slit", tags: {crew: yes}}`

func grant(body string) []string { return []string{"grants:\n", "grants:\n  new: " + body + "\n"} }

// permitted are edits that the lead may make.
var permitted = map[string][]string{
	"a grant within all limits":     grant("{to: ana, role: opener, on: " + parts + ", ends: 2026-12-20}"),
	"to the crew":                   grant("{to: group:crew, role: opener, on: " + parts + ", ends: 2026-12-20}"),
	"exactly the delegation's on":   grant("{to: group:crew, role: opener, on: scope:crew-parts, ends: 2026-12-20}"),
	"on request, for a month":       grant("{to: group:crew, role: opener, on: scope:crew-parts, on-request: {longest: 30d}}"),
	"two roles":                     grant("{to: [ana, late], roles: [opener, watcher], on: scope:crew-parts, ends: 2026-12-01}"),
	"somebody joins the crew":       {"crew: {members: [ana, late]}", "crew: {members: [ana, late, bo]}"},
	"somebody new joins the crew":   {"crew: {members: [ana, late]}", "crew: {members: [ana, late, nova]}", "people: {", "people: {nova: {name: Nova}, "},
	"somebody new":                  {"people: {", "people: {nova: {}, "},
	"somebody leaves the crew":      {"crew: {members: [ana, late]}", "crew: {members: [ana]}"},
	"a grant is taken away":         {"  crew-watches: {to: group:crew, role: watcher, on: scope:crew-parts, ends: 2026-12-15}\n", ""},
	"a grant beside a separation":   {"  masters: {to: [bo, mate], role: watcher, on: dome}\n", ""},
	"a grant ends sooner":           {"ends: 2026-12-15", "ends: 2026-12-01"},
	"a grant ends later":            {"ends: 2026-12-15", "ends: 2026-12-20"},
	"a grant is about less":         {"role: opener, on: \"dome:slit\"}", "role: opener, on: " + parts + "}"},
	"a title":                       {"opener: {allow", "opener: {title: Opens the dome, allow"},
	"why":                           {"crew-watches: {to", "crew-watches: {why: They watch., to"},
	"a title of a rule":             {"none: {never", "none: {title: Nobody in the vault, never"},
	"joins, and is granted at once": {"crew: {members: [ana, late]}", "crew: {members: [ana, late, bo]}", "grants:\n", "grants:\n  new: {to: bo, role: opener, on: scope:crew-parts, ends: 2026-12-20}\n"},
	"a new block":                   {"blocks:\n", "blocks:\n  more: {to: ana, deny: all, on: dome}\n"},
	"a new guarantee":               {"guarantees:\n", "guarantees:\n  more: {never: ana, may: all, on: vault}\n"},
	"a new test":                    {"tests:\n", "tests:\n  more: {who: ana, given: {time: 2026-11-23T12:00Z}, denied: all on vault}\n"},
	"a new separation":              {"separations:\n", "separations:\n  more: {roles: [viewer, sworn], within: person}\n"},
	"a new role":                    {"roles:\n", "roles:\n  more: {allow: [from view]}\n"},
	"a role has less":               {"watcher: {allow: [unit.view, log.view]}", "watcher: {allow: [unit.view]}"},
	"a new scope":                   {"scopes:\n", "scopes:\n  more: vault\n"},
	"a new, empty group":            {"groups:\n", "groups:\n  more: {}\n"},
	"somebody in a group of nobody": {"void: {}", "void: {members: [bo]}"},
	"a person's end comes sooner":   {"late: {ends: 2026-12-05}", "late: {ends: 2026-12-01}"},
	"somebody is suspended":         {"ana: {}", "ana: {status: suspended}"},
	"last seen":                     {"ana: {}", "ana: {last-seen: 2026-11-01}"},
	"a name":                        {"ana: {}", "ana: {name: Ana}"},
	"a resource without meaning":    {"spare: {}, ", "spare: {}, shelf: {}, "},
	"another id of a role":          {"  viewer: {allow", "  looker: {allow", "role: viewer, on", "role: looker, on"},
	"another id of a group":         {"crew: {members", "team: {members", "crew-watches: {to: group:crew", "crew-watches: {to: group:team", "to-members-of: group:crew, longest: 30d, may-edit: [group:crew]", "to-members-of: group:team, longest: 30d, may-edit: [group:team]"},
	"another id of a grant":         {"masters: {to", "mistresses: {to"},
	"acknowledged by oneself":       {"ends: 2026-12-15}", "ends: 2026-12-15, acknowledged: [{role: watcher, by: lead, why: Read.}]}"},
	"nothing":                       {},
}

func TestALeadMayDoWhatIsDelegated(t *testing.T) {
	for name, edits := range permitted {
		assert.Empty(t, judged(t, "lead", edits...), name)
	}
}

func TestTheOwnerOfTheWorkspaceMayDoAnything(t *testing.T) {
	assert.Empty(t, judged(t, "root", "delegations:\n", "delegations:\n  mine: {to: lead, may-grant: keeper, on: everything}\n", "check: {direct-grant: warning}", "check: {direct-grant: off}"))
	assert.Empty(t, judged(t, "boss", "vault: {kind: database, owner: boss,", "vault: {kind: database, owner: boss, title: Mine,"), "the owner of an entry")
	assert.NotEmpty(t, judged(t, "boss", "check: {direct-grant: warning}", "check: {direct-grant: off}"))
}

// Each is a way to get, or give, more than what was delegated, with the rule that refuses it.
var tricks = []struct {
	rule  change.Rule
	name  string
	by    string // lead, where it is left out
	edits []string
}{
	{change.GrantInside, "a role that is not delegated", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: keeper, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "one delegated role and one that is not", "", []string{"grants:\n", "grants:\n  new: {to: ana, roles: [opener, viewer], on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "a role outside whose operations are a subset", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: viewer, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "a role that is counted", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: counted, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "a role that goes first", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: spinner, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "to somebody outside the crew", "", []string{"grants:\n", "grants:\n  new: {to: bo, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "to everyone", "", []string{"grants:\n", "grants:\n  new: {to: everyone, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "to anonymous", "", []string{"grants:\n", "grants:\n  new: {to: anonymous, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "to everyone but the lead", "", []string{"grants:\n", "grants:\n  new: {to: [everyone, not lead], role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "to oneself", "", []string{"grants:\n", "grants:\n  new: {to: lead, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "to ones own service", "", []string{"grants:\n", "grants:\n  new: {to: service:robot, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "elsewhere", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: \"dome:motor\", ends: 2026-12-20}\n"}},
	{change.GrantInside, "in another system", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: open, ends: 2026-12-20}\n"}},
	{change.GrantInside, "where nothing is yet", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: \"dome:annex/*\", ends: 2026-12-20}\n"}},
	{change.GrantInside, "on a place that may lose its tag", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: \"dome:slit\", ends: 2026-12-20}\n"}},
	{change.GrantInside, "on everything with the tag", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: {tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "on everything", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: everything, ends: 2026-12-20}\n"}},
	{change.GrantInside, "on another value of the tag too", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: {in: dome, tags: {crew: [yes, no]}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "on a system that may come", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: {in: \"d*\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "for too long", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2027-06-20}\n"}},
	{change.GrantInside, "without an end", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}}\n"}},
	{change.GrantInside, "later, for too long", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, starts: 2027-05-01, ends: 2027-06-20}\n"}},
	{change.GrantInside, "to a group that others fill", "", []string{"grants:\n", "grants:\n  new: {to: group:autos, role: watcher, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "to an empty group", "", []string{"grants:\n", "grants:\n  new: {to: group:void, role: watcher, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "on request, for long", "", []string{"grants:\n", "grants:\n  new: {to: group:crew, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, on-request: {longest: 90d}}\n"}},
	{change.GrantInside, "on request, elsewhere", "", []string{"grants:\n", "grants:\n  new: {to: group:crew, role: opener, on: vault, on-request: {longest: 1h}}\n"}},
	{change.GrantInside, "to somebody who is suspended", "", []string{"grants:\n", "grants:\n  new: {to: ill, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "under a condition, for long", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, when: {mfa: true}}\n"}},
	{change.GrantInside, "to a group of ones own", "", []string{"groups:\n", "groups:\n  mine: {members: [ana]}\n", "grants:\n", "grants:\n  new: {to: group:mine, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "a copy of a counted role", "", []string{"roles:\n", "roles:\n  copy: {allow: [unit.view]}\n", "grants:\n", "grants:\n  new: {to: ana, role: copy, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
	{change.GrantInside, "a later end", "", []string{"ends: 2026-12-15", "ends: 2027-12-15"}},
	{change.GrantInside, "no end", "", []string{"ends: 2026-12-15}\n  keepers", "why: So}\n  keepers"}},
	{change.GrantInside, "a condition is taken out", "", []string{", when: {subject: {desk: a}}}\n  masters", "}\n  masters"}},
	{change.GrantInside, "a condition asks less", "", []string{"when: {subject: {desk: a}}}\n  masters", "when: {subject: {desk: [a, b]}}}\n  masters"}},
	{change.GrantInside, "one more subject", "", []string{"masters: {to: [bo, mate]", "masters: {to: [bo, mate, ana]"}},
	{change.GrantInside, "one more role", "", []string{"role: watcher, on: dome}", "roles: [watcher, opener], on: dome}"}},
	{change.GrantInside, "one more place", "", []string{"role: watcher, on: dome}", "role: watcher, on: [dome, open]}"}},
	{change.GrantInside, "standing, and no more on request", "", []string{", on-request: {longest: 1h, approvers: [boss, group:approvers], approvals: 1, reason: true}", ""}},
	{change.GrantInside, "approval gets easier", "", []string{"approvals: 1", "approvals: 0"}},
	{change.GrantInside, "it is lent for longer", "", []string{"longest: 1h", "longest: 9h"}},
	{change.GrantInside, "without a reason", "", []string{", reason: true", ""}},
	{change.GainDelegated, "a scope gets wider", "", []string{"ours: {in: open, tags: {crew: yes}}", "ours: {in: open}"}},
	{change.GainDelegated, "a tag brings a place that is judged into a scope", "", []string{"open: {kind: dome, unlisted: judge,", "open: {kind: dome, unlisted: judge, tags: {crew: yes},"}},
	{change.GainDelegated, "a tag brings what may come into a scope", "", []string{"q1: {}", "q1: {tags: {crew: yes}}"}},
	{change.GainDelegated, "somebody without any delegation retags", "bo", []string{"q1: {}", "q1: {tags: {crew: yes}}"}},
	{change.GainDelegated, "somebody without any delegation retags what may be listed one day", "ana", []string{"spare: {}, ", "spare: {tags: {crew: yes}}, "}},
	{change.GainDelegated, "a tag makes somebody a member", "", []string{"bo: {tags: {team: none}}", "bo: {tags: {team: auto}}"}},
	{change.GainDelegated, "a service by its tag", "", []string{"services: {robot: {owner: lead}", "services: {robot: {owner: lead, tags: {team: auto}}"}},
	{change.GainDelegated, "somebody new by a tag", "", []string{"people: {", "people: {nova: {tags: {team: auto}}, "}},
	{change.GainDelegated, "a member of a group of others", "", []string{"keepers: {members: [boss], owner: boss}", "keepers: {members: [boss, ana], owner: boss}"}},
	{change.GainDelegated, "a member of a group without owner", "", []string{"watched: {members: [bo]}", "watched: {members: [bo, mate]}"}},
	{change.GainDelegated, "an empty group in a strong one", "", []string{"autos: {match: {team: auto}}", "autos: {match: {team: auto}, members: [group:void]}"}},
	{change.GainDelegated, "a group of ones own in a strong one", "", []string{"groups:\n", "groups:\n  mine: {stewards: lead}\n", "keepers: {members: [boss]", "keepers: {members: [boss, group:mine]"}},
	{change.GainDelegated, "everyone in a group", "", []string{"watched: {members: [bo]}", "watched: {members: [bo, everyone]}"}},
	{change.GainDelegated, "a not entry is taken out", "", []string{"keepers-keep: {to: group:keepers", "keepers-keep: {to: [group:keepers, bo]"}},
	{change.GainByGrant, "a tag that a grant asks for", "", []string{"bo: {tags: {team: none}}", "bo: {tags: {team: none, desk: a}}"}},
	{change.BlockStands, "the tag by which a block stops", "", []string{"mate: {tags: {desk: a}}", "mate: {}"}},
	{change.BlockStands, "another value of that tag", "", []string{"mate: {tags: {desk: a}}", "mate: {tags: {desk: c}}"}},
	{change.RuleKeepsPlaces, "a place leaves a block by its tag", "", []string{"motor: {tags: {crew: no}, owner: boss}", "motor: {tags: {crew: maybe}, owner: boss}"}},
	{change.BlockStands, "out of a group that is blocked", "", []string{"watched: {members: [bo]}", "watched: {}"}},
	{change.BlockStands, "into a group that a block spares", "", []string{"spared: {members: [boss]}", "spared: {members: [boss, mate]}"}},
	{change.BlockStands, "an empty group into one that a block spares", "", []string{"spared: {members: [boss]}", "spared: {members: [boss, group:void]}"}},
	{change.NotToSelf, "joins the crew oneself", "", []string{"crew: {members: [ana, late]}", "crew: {members: [ana, late, lead]}"}},
	{change.NotToSelf, "ones service joins the crew", "", []string{"crew: {members: [ana, late]}", "crew: {members: [ana, late, service:robot]}"}},
	{change.NotToSelf, "ones group joins the crew", "", []string{"crew: {members: [ana, late]}", "crew: {members: [ana, late, group:leads]}"}},
	{change.NotToSelf, "everyone joins the crew", "", []string{"crew: {members: [ana, late]}", "crew: {members: [ana, late, everyone]}"}},
	{change.JoinCeiling, "somebody joins a group beyond the ceiling", "", []string{"strong: {members: [boss]}", "strong: {members: [boss, bo]}"}},
	{change.JoinCeiling, "an empty group joins beyond the ceiling", "", []string{"strong: {members: [boss]}", "strong: {members: [boss, group:void]}"}},
	{change.NoPower, "approves by a group", "", []string{"approvers: {members: [boss]}", "approvers: {members: [boss, lead]}"}},
	{change.NoPower, "an empty group approves", "", []string{"approvers: {members: [boss]}", "approvers: {members: [boss, group:void]}"}},
	{change.NoPower, "one approves oneself", "", []string{"approvers: [boss, group:approvers]", "approvers: [boss, group:approvers, lead]"}},
	{change.NoPower, "everyone approves", "", []string{"approvers: [boss, group:approvers]", "approvers: [everyone]"}},
	{change.NoPower, "joins a group that owns", "", []string{"owners: {members: [boss]}", "owners: {members: [boss, lead]}"}},
	{change.NoPower, "an empty group in one that owns", "", []string{"owners: {members: [boss]}", "owners: {members: [boss, group:void]}"}},
	{change.NoPower, "joins a group that looks after another", "", []string{"minders: {members: [boss]}", "minders: {members: [boss, lead]}"}},
	{change.NoPower, "somebody looks after a group", "", []string{"empty: {members: [boss]}", "empty: {members: [boss], stewards: lead}"}},
	{change.NoPower, "one more leads", "", []string{"leads: {members: [lead, gone, ill, past]}", "leads: {members: [lead, gone, ill, past, ana]}"}},
	{change.NoPower, "an empty group leads", "", []string{"leads: {members: [lead, gone, ill, past]}", "leads: {members: [lead, gone, ill, past, group:void]}"}},
	{change.NoPower, "a delegation to one more", "", []string{"delegations:\n  leads-hand-out: {to: group:leads", "delegations:\n  leads-hand-out: {to: [group:leads, ana]"}},
	{change.NoPower, "a delegation reaches more people", "", []string{"to-members-of: group:crew", "to-members-of: [group:crew, group:void]"}},
	{change.EntryOwner, "a delegation gets wider", "", []string{"within: [up to use]", "within: [up to govern]"}},
	{change.EntryOwner, "a delegation lets oneself", "", []string{"longest: 30d", "longest: 30d, to-self: true"}},
	{change.EntryOwner, "a delegation lets for longer", "", []string{"longest: 30d", "longest: 90d"}},
	{change.EntryOwner, "a delegation of one more role", "", []string{"may-grant: [opener, watcher]", "may-grant: [opener, watcher, viewer]"}},
	{change.EntryOwner, "a delegation of one more group", "", []string{"may-edit: [group:crew]", "may-edit: [group:crew, group:pals]"}},
	{change.EntryOwner, "a delegation elsewhere", "", []string{"on: scope:crew-parts, to-members", "on: dome, to-members"}},
	{change.EntryOwner, "a delegation of ones own", "", []string{"delegations:\n", "delegations:\n  mine: {to: lead, may-grant: keeper, on: everything}\n"}},
	{change.EntryOwner, "a delegation is gone", "", []string{"  leads-hand-out: {to: group:leads, may-grant: [opener, watcher], within: [up to use], on: scope:crew-parts, to-members-of: group:crew, longest: 30d, may-edit: [group:crew]}\n", "  x: {to: boss, may-grant: viewer}\n"}},
	{change.EntryOwner, "a block is taken out", "", []string{"  no-vault: {to: [everyone, anonymous], deny: [from change], on: vault, when: {not: {mfa: true}}}\n", ""}},
	{change.EntryOwner, "a block stops fewer", "", []string{"to: [everyone, anonymous], deny", "to: [everyone, anonymous, not ana], deny"}},
	{change.EntryOwner, "a block stops less", "", []string{"deny: [from change]", "deny: [from govern]"}},
	{change.EntryOwner, "a block stops more", "", []string{"deny: [from change]", "deny: [from view]"}},
	{change.EntryOwner, "a block stops elsewhere", "", []string{"on: vault, when", "on: \"vault:gold\", when"}},
	{change.EntryOwner, "a block stops under a condition", "", []string{"when: {not: {mfa: true}}", "when: {not: {mfa: true}, ticket: true}"}},
	{change.EntryOwner, "a block ends", "", []string{"when: {not: {mfa: true}}}", "when: {not: {mfa: true}}, ends: 2026-12-01}"}},
	{change.EntryOwner, "a separation allows more", "", []string{"two: {roles: [opener, keeper], within: person}", "two: {roles: [opener, keeper, watcher], at-most: 2, within: person}"}},
	{change.EntryOwner, "a separation is of sessions", "", []string{"two: {roles: [opener, keeper], within: person}", "two: {roles: [opener, keeper], within: session}"}},
	{change.EntryOwner, "a separation is gone", "", []string{"  two: {roles: [opener, keeper], within: person}\n", ""}},
	{change.EntryOwner, "a separation of other roles", "", []string{"mixed: {roles: [spinner, watcher]", "mixed: {roles: [spinner, viewer]"}},
	{change.EntryOwner, "a finding is accepted", "", []string{"crew-watches: {to: group:crew,", "crew-watches: {accept: {finding: expired, why: so}, to: group:crew,"}},
	{change.EntryOwner, "a finding of a resource is accepted", "", []string{"slit: {tags: {crew: yes}}", "slit: {tags: {crew: yes}, accept: {finding: unlisted-address, why: so}}"}},
	{change.EntryOwner, "a finding of a new entry is accepted", "", []string{"scopes:\n", "scopes:\n  more: {resources: vault, accept: {finding: unused-scope, why: so}}\n"}},
	{change.EntryOwner, "a test is taken out", "", []string{"  bo-stays-out: {who: bo, given: {time: 2026-11-23T12:00Z}, denied: dome.open on dome:motor}\n", ""}},
	{change.EntryOwner, "a test expects less", "", []string{"denied: dome.open on dome:motor", "denied: dome.open on dome:slit"}},
	{change.EntryOwner, "a test at another time", "", []string{"bo-stays-out: {who: bo, given: {time: 2026-11-23T12:00Z}", "bo-stays-out: {who: bo, given: {time: 2026-11-23T12:00Z, mfa: false}"}},
	{change.EntryOwner, "a guarantee says less", "", []string{"none: {never: group:watched, may: all, on: vault}", "none: {never: group:watched, may: table.drop, on: vault}"}},
	{change.EntryOwner, "a guarantee is gone", "", []string{"  none: {never: group:watched, may: all, on: vault}\n", ""}},
	{change.EntryOwner, "a guarantee of others", "", []string{"none: {never: group:watched", "none: {never: bo"}},
	{change.EntryOwner, "an operation gets a lower level", "", []string{"dome.open: {level: use}", "dome.open: {level: view}"}},
	{change.EntryOwner, "an operation stays with nobody", "", []string{"dome.spin: {level: use, exclusive: true}", "dome.spin: {level: use}"}},
	{change.EntryOwner, "a catalog gets one more operation", "", []string{"dome.open: {level: use}", "dome.open: {level: use}, dome.burn: {level: use}"}},
	{change.EntryOwner, "a catalog of ones own", "", []string{"catalogs:\n", "catalogs:\n  mine: {based-on: device-console}\n"}},
	{change.EntryOwner, "what another owns", "", []string{"vault: {kind: database, owner: boss,", "vault: {kind: database, owner: boss, title: Mine,"}},
	{change.EntryOwner, "a resource that another owns", "", []string{"motor: {tags: {crew: no}, owner: boss}", "motor: {tags: {crew: no}, owner: lead}"}},
	{change.EntryOwner, "a tag of what another owns", "", []string{"motor: {tags: {crew: no}, owner: boss}", "motor: {tags: {crew: no, more: yes}, owner: boss}"}},
	{change.EntryOwner, "what another owns is gone", "", []string{", motor: {tags: {crew: no}, owner: boss}", "", "denied: dome.open on dome:motor", "denied: dome.open on dome:slit"}},
	{change.EntryOwner, "a resource becomes ones own", "", []string{"slit: {tags: {crew: yes}}", "slit: {tags: {crew: yes}, owner: lead}"}},
	{change.EntryOwner, "a service becomes ones own where something as long stood", "", []string{"bot: {owner: group:owners, tags: {desk: b}}", "bot: {owner: group:leads,  tags: {desk: b}}"}},
	{change.EntryOwner, "a service becomes ones own", "", []string{"other: {}", "other: {owner: lead}"}},
	{change.EntryOwner, "a service becomes ones groups", "", []string{"other: {}", "other: {owner: group:leads}"}},
	{change.EntryOwner, "a role becomes ones own", "", []string{"viewer: {allow", "viewer: {owner: lead, allow"}},
	{change.EntryOwner, "a new resource in what another owns", "", []string{"gold: {}", "gold: {}, mine: {owner: lead}"}},
	{change.EntryOwner, "unlisted addresses are judged", "", []string{"vault: {kind: database, owner: boss,", "vault: {kind: database, owner: boss, unlisted: judge,"}},
	{change.EntryOwner, "unlisted addresses are judged in what nobody owns", "", []string{"dome: {kind: dome, precedence", "dome: {kind: dome, unlisted: judge, precedence"}},
	{change.EntryOwner, "who goes first", "", []string{"precedence: [keeper]", "precedence: [opener, keeper]"}},
	{change.EntryOwner, "of another kind", "", []string{"vault: {kind: database, owner: boss, resources", "vault: {kind: server, owner: boss, resources"}},
	{change.EntryOwner, "a persons end", "", []string{"ends: 2026-12-05", "ends: 2029-12-31"}},
	{change.EntryOwner, "a persons end is taken out", "", []string{"late: {ends: 2026-12-05}", "late: {}"}},
	{change.EntryOwner, "somebody comes back", "", []string{"gone: {status: left}", "gone: {}"}},
	{change.EntryOwner, "somebody suspended comes back", "", []string{"ill: {status: suspended}", "ill: {status: active}"}},
	{change.EntryOwner, "somebody is for emergencies", "", []string{"ana: {}", "ana: {reserve: true}"}},
	{change.EntryOwner, "somebody new is for emergencies", "", []string{"people: {", "people: {nova: {reserve: true}, "}},
	{change.EntryOwner, "an address of mail", "", []string{"ana: {}", "ana: {email: x@ternhollow.example}"}},
	{change.EntryOwner, "more may hold a role", "", []string{"at-most: 2", "at-most: 5"}},
	{change.EntryOwner, "nobody counts who holds a role", "", []string{", at-most: 2", ""}},
	{change.EntryOwner, "nothing to acknowledge", "", []string{", acknowledge: Read the rules.", ""}},
	{change.EntryOwner, "a group fills itself otherwise", "", []string{"autos: {match: {team: auto}}", "autos: {match: {team: none}}"}},
	{change.EntryOwner, "a group fills itself", "", []string{"void: {}", "void: {match: {team: none}}"}},
	{change.WorkspaceOwner, "a severity", "", []string{"check: {direct-grant: warning}", "check: {direct-grant: off}"}},
	{change.WorkspaceOwner, "a file is not read any more", "", []string{"ignore: [drafts/**]", "ignore: [drafts/**, rules/**]"}},
	{change.WorkspaceOwner, "the clock", "", []string{"hidden-gate: 1\n", "hidden-gate: 1\ntimezone: Atlantic/Azores\n"}},
	{change.WorkspaceOwner, "the workspace becomes ones own", "", []string{"owner: root\n", "owner: lead\n"}},
	{change.WorkspaceOwner, "nobodys workspace", "", []string{"owner: root\n", ""}},
	{change.WorkspaceOwner, "losses", "", []string{"owner: root\n", "owner: root\nlosses: delegated\n"}},
	{change.WorkspaceOwner, "who does not stay", "", []string{"owner: root\n", "owner: root\ntemporary: {kind: x}\n"}},
	{change.WorkspaceOwner, "who is dormant", "", []string{"owner: root\n", "owner: root\ndormant-after: 900d\n"}},
	{change.RoleKeeps, "the role gets more", "", []string{"opener: {allow: [dome.open, unit.view]}", "opener: {allow: [dome.open, unit.view, position.set]}"}},
	{change.RoleKeeps, "the role gets what is nowhere yet", "", []string{"watcher: {allow: [unit.view, log.view]}", "watcher: {allow: [unit.view, log.view, store.view]}"}},
	{change.RoleKeeps, "the role includes another", "", []string{"watcher: {allow: [unit.view", "watcher: {include: keeper, allow: [unit.view"}},
	{change.RoleKeeps, "a role of nobody gets more", "", []string{"viewer: {allow: [unit.view]}", "viewer: {allow: [unit.view, log.view]}"}},
	{change.RoleKeeps, "an ended role goes on", "", []string{"ended: {allow: [dome.open], ends: 2026-06-01}", "ended: {allow: [dome.open], ends: 2027-06-01}"}},
	{change.RoleKeeps, "what an ended role gave becomes the roles own", "", []string{"has-ended: {include: [ended], allow: [unit.view]}", "has-ended: {allow: [unit.view, dome.open]}"}},
	{change.RoleKeeps, "operations are copied in place of a counted role", "", []string{"stands: {include: [counted], allow: [log.view]}", "stands: {allow: [unit.view, log.view]}"}},
	{change.Reaches, "a tag widens where a delegation reaches", "", []string{"spare: {}, ", "spare: {tags: {crew: yes}}, "}},
	{change.Reaches, "a scope widens where a delegation reaches", "", []string{"crew-parts: {in: dome, tags: {crew: yes}}", "crew-parts: {in: dome}"}},
	{change.Reaches, "a scope of another system", "", []string{"crew-parts: {in: dome, tags: {crew: yes}}", "crew-parts: [{in: dome, tags: {crew: yes}}, open]"}},
	{change.RuleKeepsPlaces, "a tag narrows a guarantee", "", []string{"motor: {tags: {crew: no}, owner: boss}", "motor: {owner: boss}"}},
	{change.RuleKeepsPeople, "a guarantee about fewer", "", []string{"watched: {members: [bo]}", "watched: {members: [boss]}"}},
	{change.RuleKeepsPeople, "a guarantee that only these may, about more", "", []string{"keepers: {members: [boss], owner: boss}", "keepers: {members: [boss, bo], owner: boss}"}},
	{change.RuleKeepsPeople, "an empty group in a guarantee that only these may", "", []string{"keepers: {members: [boss], owner: boss}", "keepers: {members: [boss, group:void], owner: boss}"}},
	{change.OwnAcceptance, "acknowledged for somebody else", "", []string{"ends: 2026-12-15}", "ends: 2026-12-15, acknowledged: [{role: watcher, by: boss, why: Read.}]}"}},
	{change.OwnAcceptance, "acknowledged for somebody else in a new grant", "", []string{"grants:\n", "grants:\n  new: {to: ana, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20, acknowledged: [{role: opener, by: boss, why: Read.}]}\n"}},
	{change.AuthorActive, "somebody who has left", "gone", []string{"crew: {members: [ana, late]}", "crew: {members: [ana, late, bo]}"}},
	{change.AuthorActive, "somebody who is suspended", "ill", []string{"crew: {members: [ana, late]}", "crew: {members: [ana, late, bo]}"}},
	{change.AuthorActive, "somebody who has ended", "past", []string{"crew: {members: [ana, late]}", "crew: {members: [ana, late, bo]}"}},
	{change.GrantInside, "somebody with no delegation", "ana", []string{"grants:\n", "grants:\n  new: {to: late, role: opener, on: {in: \"dome:slit\", tags: {crew: yes}}, ends: 2026-12-20}\n"}},
}

func TestTricksAreSeenThrough(t *testing.T) {
	require.Greater(t, len(tricks), 100)
	seen := map[change.Rule]int{}
	names := map[string]bool{}
	for _, trick := range tricks {
		require.False(t, names[trick.name], trick.name)
		names[trick.name] = true
		by := trick.by
		if by == "" {
			by = "lead"
		}
		var rules []change.Rule
		for _, b := range judged(t, by, trick.edits...) {
			rules = append(rules, b.Rule)
		}
		assert.Contains(t, rules, trick.rule, trick.name)
		seen[trick.rule]++
	}
	for rule := range change.Sentences {
		if rule != change.LossDelegated { // which has a test of its own
			assert.Positive(t, seen[rule], "no trick is refused by %s", rule)
		}
	}
}

// What the lead may not do nobody may who has no delegation.
func TestTricksOfSomebodyWithoutDelegation(t *testing.T) {
	for _, trick := range tricks {
		if trick.by == "" {
			assert.NotEmpty(t, judged(t, "mate", trick.edits...), trick.name)
		}
	}
}

// apply makes edits in turn; ok is false where one does not find what it changes.
func apply(text string, edits []string) (_ string, ok bool) {
	for i := 0; i+1 < len(edits); i += 2 {
		if strings.Count(text, edits[i]) != 1 {
			return text, false
		}
		text = strings.Replace(text, edits[i], edits[i+1], 1)
	}
	return text, true
}

// What may be done in turn may be done at once, and what may not be done may not be done beside something else, nor after it.
func TestChangesMayBeSplitAndPutTogether(t *testing.T) {
	now, err := clock.UTC.ParseTime("2026-11-23T12:00Z")
	require.NoError(t, err)
	judge := func(before, after string) int {
		e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(after)}})
		if err != nil {
			return -1 // the two do not go together
		}
		breaches, err := change.Judge(estateFrom(t, before), e, estate.Principal{ID: "lead"}, now)
		require.NoError(t, err)
		return len(breaches)
	}
	names := slices.Sorted(maps.Keys(permitted))
	d := rand.New(rand.NewPCG(7, 8))
	together, beside := 0, 0
	for range smallEstates(150) {
		one, other := names[d.IntN(len(names))], names[d.IntN(len(names))]
		first, okFirst := apply(delegated, permitted[one])
		both, okBoth := apply(first, permitted[other])
		if !okFirst || !okBoth || one == other {
			continue
		}
		if after := judge(first, both); after == 0 {
			together++
			assert.LessOrEqual(t, judge(delegated, both), 0, "%s, then %s", one, other)
		}
	}
	for range smallEstates(150) {
		one, trick := names[d.IntN(len(names))], tricks[d.IntN(len(tricks))]
		first, okFirst := apply(delegated, permitted[one])
		both, okBoth := apply(first, trick.edits)
		if trick.by != "" || !okFirst || !okBoth {
			continue
		}
		if judge(first, both) > 0 { // what one has done before may make a trick none
			beside++
			assert.NotZero(t, judge(delegated, both), "%s beside %s", trick.name, one)
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
	breaches, err := change.Judge(with("title: lead"), with("owner: lead"), estate.Principal{ID: "lead"}, now)
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
		out, err := change.Judge(estateFrom(t, text), estateFrom(t, strings.Replace(text, from, to, 1)), estate.Principal{ID: "lead"}, now)
		require.NoError(t, err)
		return out
	}
	assert.Empty(t, judge("role: watcher, on: scope:crew-parts, ends: 2026-12-15", "role: watcher, on: scope:crew-parts, ends: 2026-12-10"))
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
