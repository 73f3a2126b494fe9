package finding

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
)

const base = `hidden-gate: 1
systems:
  db: {kind: database, resources: {sky: {}, sky/a: {}, sky/b: {tags: {x: y}}}}
people: {ana: {}, bo: {}}
groups: {crew: {members: [ana]}}
`

// Two keys that nobody has, as OpenSSH writes them.
const (
	keyOne = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcH"
	keyTwo = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAkJCQkJCQkJCQkJCQkJCQkJCQkJCQkJCQkJCQkJCQkJ"
)

func runOn(t *testing.T, text string) []Found {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(base + text)}})
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	now, err := clock.UTC.ParseTime("2026-11-23T12:00Z")
	require.NoError(t, err)
	found, err := Run(t.Context(), g, now)
	require.NoError(t, err)
	return found
}

func TestEveryFindingIsKnownToTheFiles(t *testing.T) {
	var codes []string
	for _, f := range All {
		codes = append(codes, f.Code)
		assert.NotEmpty(t, f.Doc)
		assert.NotEmpty(t, f.Cure)
	}
	assert.Equal(t, estate.FindingCodes, codes)
}

// Each text brings exactly the findings named, as severity and code, and the one beside it brings none of them.
func TestFindings(t *testing.T) {
	for _, c := range []struct {
		want []string
		bad  string
		good string
	}{
		{[]string{"warning direct-grant"},
			"roles: {r: {allow: server.view}}\ngrants: {g: {to: ana, role: r, on: db}}",
			"roles: {r: {allow: server.view}}\ngrants: {g: {to: group:crew, role: r, on: db}}"},
		{[]string{"error unknown-operation"}, "roles: {r: {allow: [server.veiw, table.read]}}",
			"roles: {r: {allow: [server.view, table.read]}}"},
		{[]string{"error unknown-operation"}, "blocks: {b: {deny: tabel.drop, on: db}}",
			"blocks: {b: {deny: table.drop, on: db}}"},
		{[]string{"warning matches-nothing"}, `scopes: {s: "db:moon/*"}`, `scopes: {s: "db:sky/*"}`},
		{[]string{"error matches-nothing"}, `blocks: {b: {deny: all, on: "db:moon*"}}`,
			`blocks: {b: {deny: all, on: "db:sk*"}}`},
		{[]string{"error matches-nothing"}, `scopes: {s: [db, not db:moon*]}`, `scopes: {s: [db, not db:sk*]}`},
		{[]string{"warning matches-nothing"}, `scopes: {s: [db:sky, not db]}`, `scopes: {s: [db, not db:sky]}`},
		{[]string{"warning matches-nothing"}, `groups: {g: {match: {team: x}}}`,
			`groups: {g: {match: {team: x}, members: ana}}`},
		{[]string{"warning matches-nothing"}, `groups: {g: {members: [ana, not group:crew]}}`,
			`groups: {g: {members: [ana, bo, not group:crew]}}`},
		{[]string{"warning matches-nothing"}, `roles: {r: {allow: [moon.*]}}`, `roles: {r: {allow: [table.*]}}`},
		{[]string{"warning unlisted-address"}, "scopes: {s: db:sky/c}", "scopes: {s: db:sky/a}"},
		{[]string{"warning missing-need"},
			"roles: {r: {allow: [table.update, table.read]}}\ngrants: {g: {to: group:crew, role: r, on: db:sky/a}}",
			"roles: {r: {allow: [table.update, table.read, session.open]}}\ngrants: {g: {to: group:crew, role: r, on: " +
				"[db:sky/a, db]}}"},
		{[]string{"warning missing-need"},
			"roles: {r: {allow: [server.stop]}, v: {allow: server.view}}\ngrants: {g: {to: group:crew, role: r, on: db}, h: " +
				"{to: group:crew, role: v, on: db, when: {mfa: true}}}",
			"roles: {r: {allow: [server.stop]}, v: {allow: server.view}}\ngrants: {g: {to: group:crew, role: r, on: db, when: " +
				"{mfa: true}}, h: {to: group:crew, role: v, on: db}}"},
		{[]string{"warning never-in-force"},
			"roles: {r: {allow: server.view}}\ngrants: {g: {to: group:crew, role: r, on: db, when: {mfa: true, not: {mfa: " +
				"true}}}}",
			"roles: {r: {allow: server.view}}\ngrants: {g: {to: group:crew, role: r, on: db, when: {mfa: true, not: {ticket: " +
				"true}}}}"},
		{[]string{"note expired"}, "people: {cai: {ends: 2026-11-22}}", "people: {cai: {ends: 2026-11-23}}"},
		{[]string{"warning far-end"}, "people: {cai: {ends: 2029-11-24}}", "people: {cai: {ends: 2029-11-20}}"},
		{[]string{"warning level-gap"}, "blocks: {b: {deny: only change, on: db}}",
			"blocks: {b: {deny: [only change, from govern], on: db}}"},
		{[]string{"warning level-gap"},
			"tests: {t: {who: ana, given: {time: 2026-01-01T00:00}, denied: up to use on db}}",
			"tests: {t: {who: ana, given: {time: 2026-01-01T00:00}, denied: [up to use on db, from change on db]}}"},
		{[]string{"warning anonymous-unblocked"}, "blocks: {b: {to: everyone, deny: all, on: db}}",
			"blocks: {b: {to: [everyone, anonymous], deny: all, on: db}}"},
		{[]string{"error separation-broken"},
			"roles: {a: {allow: server.view}, b: {allow: server.view}, c: {include: b, allow: server.view}}\nseparations: {s: " +
				"{roles: [a, b], within: person}}\ngrants: {g: {to: group:crew, role: a, on: db}, h: {to: everyone, role: c, on: " +
				"db, ends: 2027-01-01, on-request: {longest: 1h}}}",
			"roles: {a: {allow: server.view}, b: {allow: server.view}, c: {include: b, allow: server.view}}\nseparations: {s: " +
				"{roles: [a, b], within: person}}\ngrants: {g: {to: group:crew, role: a, on: db}, h: {to: [everyone, not ana], " +
				"role: c, on: db, ends: 2027-01-01, on-request: {longest: 1h}}}"},
		{[]string{"warning clock-dependent-test"},
			"roles: {r: {allow: server.view}}\ngrants: {g: {to: group:crew, role: r, on: db, ends: 2027-01-01}}\ntests: {t: " +
				"{who: ana, allowed: server.view on db}}",
			"roles: {r: {allow: server.view}}\ngrants: {g: {to: group:crew, role: r, on: db}}\ntests: {t: {who: ana, allowed: " +
				"server.view on db}}"},
		{[]string{"warning clock-dependent-test"},
			"roles: {r: {allow: server.view}}\ngrants: {g: {to: group:crew, role: r, on: db, starts: 2027-01-01}}\ntests: {t: " +
				"{who: ana, denied: server.view on db}}",
			"roles: {r: {allow: server.view}}\ngrants: {g: {to: group:crew, role: r, on: db, starts: 2025-01-01}, h: {to: " +
				"group:crew, role: r, on: db, ends: 2026-01-01}}\ntests: {t: {who: ana, allowed: server.view on db}}"},
		{[]string{"warning clock-dependent-test"}, // by the second selection alone, and the second of those whom it is about
			"roles: {r: {allow: server.view}}\ngroups: {both: {members: [ana, bo]}}\ngrants: {g: {to: bo, role: r, on: db, " +
				"ends: 2027-01-01}}\ntests: {t: {who: group:both, denied: [server.stop on db, server.view on db]}}",
			"roles: {r: {allow: server.view}}\ngroups: {both: {members: [ana, bo]}}\ngrants: {g: {to: bo, role: r, on: db}}\n" +
				"tests: {t: {who: group:both, denied: [server.stop on db, server.view on db]}}"},
		{[]string{"warning shared-account"},
			"services: {a: {owner: ana, keys: '" + keyOne + " of a'}, b: {owner: bo, keys: ['" + keyTwo + "', '" + keyOne +
				"']}}",
			"services: {a: {owner: ana, keys: ['" + keyOne + "', '" + keyOne + " again']}, b: {owner: bo, keys: '" + keyTwo +
				"'}}"},
		{[]string{"warning shared-account"},
			"groups: {both: {members: [ana, bo]}, one: {members: [ana]}}\nsystems: {x: {kind: database, resources: " +
				"{accounts/clerk: {type: account, owner: 'group:both'}}}}",
			"groups: {both: {members: [ana, bo]}, one: {members: [ana]}}\nsystems: {x: {kind: database, owner: 'group:both', " +
				"resources: {accounts: {}, accounts/clerk: {type: account, owner: 'group:one'}, accounts/else: {type: account}, " +
				"sky: {owner: 'group:both'}}}}"},
		{[]string{"warning ids-look-alike"}, "roles: {reader: {allow: all}, re\u0430der: {allow: all}}",
			"roles: {rnan: {allow: all}, man: {allow: all}, l\u00e9on: {allow: all}}"},
		{[]string{"warning ids-differ-by-case"}, "roles: {reader: {allow: all}, Reader: {allow: all}}",
			"roles: {reader: {allow: all}, writer: {allow: all}}"},
		{[]string{"note unused-role"}, "roles: {r: {allow: server.view}}",
			"roles: {r: {allow: server.view}, q: {include: r}}\ngrants: {g: {to: group:crew, role: q, on: db}}"},
		{[]string{"note unused-role"}, "roles: {r: {allow: server.view}}",
			"roles: {r: {allow: server.view}}\ndelegations: {d: {to: ana, may-grant: r}}"},
		{[]string{"note unused-scope"}, "scopes: {s: db, z: [scope:s]}",
			"scopes: {s: db, z: [scope:s]}\nblocks: {b: {deny: all, on: scope:z}}"},
		{[]string{"warning empty-group"}, "groups: {g: {}}", "groups: {g: {members: bo}}"},
		{[]string{"note redundant-grant"},
			"roles: {r: {allow: server.view}, q: {include: r, allow: table.read}}\ngrants: {g: {to: group:crew, role: q, on: " +
				"db}, h: {to: ana, role: r, on: db, when: {mfa: true}}}",
			"roles: {r: {allow: server.view}, q: {include: r, allow: table.read}}\ngrants: {g: {to: group:crew, role: q, on: " +
				"db, when: {mfa: true}}, h: {to: ana, role: r, on: db}}"},
		{[]string{"note redundant-grant"},
			"roles: {r: {allow: table.read}}\ngrants: {g: {to: group:crew, role: r, on: db:sky}, h: {to: group:crew, role: r, " +
				"on: db:sky/a}}",
			"roles: {r: {allow: table.read}}\ngrants: {g: {to: group:crew, role: r, on: db:sky/b}, h: {to: group:crew, role: " +
				"r, on: db:sky/a}}"},
		{[]string{"note redundant-grant"},
			"roles: {r: {allow: table.read}}\ngrants: {g: {to: group:crew, role: r, on: db}, h: {to: group:crew, role: r, on: " +
				"db}}",
			"roles: {r: {allow: table.read}}\ngrants: {g: {to: group:crew, role: r, on: db, ends: 2027-01-01}, h: {to: " +
				"[group:crew, bo], role: r, on: db, starts: 2027-01-01}}"},
		{[]string{"note redundant-grant"},
			"roles: {r: {allow: table.read}}\ngrants: {g: {to: group:crew, role: r, on: 'db:sky/**'}, h: {to: group:crew, " +
				"role: r, on: 'db:sky/*/x'}}",
			"roles: {r: {allow: table.read}}\ngrants: {g: {to: group:crew, role: r, on: 'db:sky/b'}, h: {to: " +
				"group:crew, role: r, on: 'db:sky/*/x'}}"},
		{[]string{"warning shadowed-grant"},
			"roles: {r: {allow: table.read}}\ngrants: {g: {to: group:crew, role: r, on: db:sky, when: {mfa: true}}}\nblocks: " +
				"{b: {deny: only use, on: db, when: {mfa: true}}}",
			"roles: {r: {allow: table.read}}\ngrants: {g: {to: group:crew, role: r, on: db:sky}}\nblocks: {b: {deny: " +
				"only use, on: db, when: {mfa: true}}}"},
		{[]string{"note standing-high-risk"},
			"roles: {r: {allow: [table.drop, table.view]}}\ngrants: {g: {to: group:crew, role: r, on: db}}",
			"roles: {r: {allow: [table.drop, table.view]}}\ngrants: {g: {to: group:crew, role: r, on: db, on-request: " +
				"{longest: 1h}}}"},
		{[]string{"warning govern-everywhere"},
			"roles: {r: {allow: [role.assign, role.view]}}\ngrants: {g: {to: group:crew, role: r, on: everything}}",
			"roles: {r: {allow: [role.assign, role.view]}}\ngrants: {g: {to: group:crew, role: r, on: db}}"},
		{[]string{"warning govern-everywhere"},
			"roles: {r: {allow: [role.assign, role.view]}}\nscopes: {whole: everything}\ngrants: {g: {to: group:crew, " +
				"role: r, on: scope:whole}}",
			"roles: {r: {allow: [role.assign, role.view]}}\nscopes: {whole: [everything, not db:sky]}\ngrants: {g: {to: " +
				"group:crew, role: r, on: scope:whole}}"},
		{[]string{"warning govern-everywhere"},
			"roles: {r: {allow: [role.assign, role.view]}}\ngrants: {g: {to: group:crew, role: r, on: '*'}}",
			"roles: {r: {allow: [role.assign, role.view]}}\ngrants: {g: {to: group:crew, role: r, on: 'd*'}}"},
		{[]string{"warning level-gap"},
			"blocks: {b: {to: [everyone, anonymous], deny: only change, on: db}, c: {to: [everyone, anonymous], deny: from " +
				"govern, on: db:sky}}",
			"blocks: {b: {to: [everyone, anonymous], deny: only change, on: db}, c: {to: [everyone, anonymous], deny: from " +
				"govern, on: db}}"},
		{[]string{"error secret-in-policy"}, "people: {cai: {tags: {secret: hunter22}}}",
			"people: {cai: {tags: {secret: yes}}}"},
		{[]string{"warning no-end"}, "people: {cai: {tags: {kind: temporary}}}",
			"people: {cai: {tags: {kind: temporary}, ends: 2027-01-01}}"},
		{[]string{"warning owner-gone"}, "people: {cai: {status: left}}\nroles: {r: {allow: all, owner: cai}}",
			"people: {cai: {status: left}}\nroles: {r: {allow: all, owner: ana}}"},
		{[]string{"warning owner-gone"}, "people: {cai: {ends: 2026-11-22}}\nsystems: {z: {kind: server, owner: cai}}",
			"people: {cai: {ends: 2026-11-23}}\nsystems: {z: {kind: server, owner: cai}}"},
		{[]string{"warning owner-gone"},
			"people: {cai: {status: left}}\nsystems: {z: {kind: server, resources: {x: {owner: cai}}}}",
			"systems: {z: {kind: server, resources: {x: {owner: bo}}}}"},
		{[]string{"warning dormant"}, "people: {cai: {last-seen: 2026-08-24}}", "people: {cai: {last-seen: 2026-08-26}}"},
		{[]string{"note single-holder"},
			"roles: {r: {allow: [table.drop]}}\ngrants: {g: {to: group:crew, role: r, on: db}}",
			"roles: {r: {allow: [table.drop]}}\ngrants: {g: {to: [group:crew, bo], role: r, on: db}}"},
		{[]string{"note single-holder"},
			"roles: {r: {allow: [table.drop]}}\ngrants: {g: {to: group:crew, role: r, on: db}, h: {to: bo, role: r, " +
				"on: {tags: {x: y}}}}",
			"roles: {r: {allow: [table.drop]}}\ngrants: {g: {to: group:crew, role: r, on: {tags: {x: y}}}, h: {to: bo, role: " +
				"r, on: {tags: {x: y}}}}"},
		{[]string{"warning way-to-more"},
			"people: {cai: {}}\nroles: {r: {allow: [table.drop]}, h: {allow: account.set-password}}\ngrants: {g: {to: " +
				"group:crew, role: r, on: db}, h: {to: cai, role: h, on: db}}",
			"people: {cai: {}}\nroles: {r: {allow: [table.alter]}, h: {allow: account.set-password}}\ngrants: {g: {to: " +
				"group:crew, role: r, on: db}, h: {to: cai, role: h, on: db}}"},
		{[]string{"warning way-to-more"},
			"roles: {r: {allow: [table.drop]}}\ngroups: {g: {members: ana, stewards: bo}}\ngrants: {g: {to: group:g, role: r, " +
				"on: db}}",
			"roles: {r: {allow: [table.drop]}}\ngroups: {g: {members: ana, stewards: ana}}\ngrants: {g: {to: group:g, " +
				"role: r, on: db}}"},
		{[]string{"error role-full"},
			"roles: {r: {allow: server.view, at-most: 1}, q: {include: r}}\ngrants: {g: {to: ana, role: r, on: db}, h: {to: " +
				"bo, role: q, on: db}}",
			"roles: {r: {allow: server.view, at-most: 2}, q: {include: r}}\ngrants: {g: {to: ana, role: r, on: db}, h: {to: " +
				"bo, role: q, on: db}}"},
		{[]string{"error role-full"},
			"systems: {z: {kind: database}}\nroles: {r: {allow: server.view, at-most-per-system: 1}}\ngrants: {g: {to: [ana, " +
				"bo], role: r, on: z}}",
			"systems: {z: {kind: database}}\nroles: {r: {allow: server.view, at-most-per-system: 1}}\ngrants: {g: {to: ana, " +
				"role: r, on: z}, h: {to: bo, role: r, on: db}}"},
		{[]string{"error role-short"},
			"roles: {r: {allow: server.view, at-least: 2}}\ngrants: {g: {to: [ana, cai], role: r, on: db}}\npeople: {cai: " +
				"{status: suspended}}",
			"roles: {r: {allow: server.view, at-least: 2}}\ngrants: {g: {to: [ana, bo], role: r, on: db}}\npeople: {cai: " +
				"{status: suspended}}"},
		{[]string{"error role-short"},
			"systems: {z: {kind: database}}\nroles: {r: {allow: server.view, at-least-per-system: 2}}\ngrants: {g: {to: [ana, " +
				"bo], role: r, on: z}, h: {to: ana, role: r, on: db}}",
			"systems: {z: {kind: database}}\nroles: {r: {allow: server.view, at-least-per-system: 2}}\ngrants: {g: {to: [ana, " +
				"bo], role: r, on: z}}"},
		{[]string{"error role-short"},
			"roles: {r: {allow: server.view, at-least: 1}}\ngrants: {g: {to: ana, role: r, on: db, on-request: {longest: 1h}}}",
			"roles: {r: {allow: server.view, at-least: 1}}\ngrants: {g: {to: ana, role: r, on: db}}"},
		{[]string{"warning left-behind"},
			"people: {cai: {status: left}}\ngroups: {old: {members: [ana, cai]}}",
			"people: {cai: {status: suspended}}\ngroups: {old: {members: [ana, cai]}}"},
		{[]string{"warning unacknowledged"},
			"roles: {r: {allow: server.view, acknowledge: it costs}}\ngrants: {g: {to: ana, role: r, on: db}}",
			"roles: {r: {allow: server.view, acknowledge: it costs}}\ngrants: {g: {to: ana, role: r, on: db, acknowledged: " +
				"{role: r, by: bo, why: it does}}}"},
		{[]string{"warning reserve-used"},
			"people: {cai: {reserve: true}}\nroles: {r: {allow: server.view}}\ngrants: {g: {to: [ana, cai], role: r, on: db}}",
			"people: {cai: {reserve: true}}\nroles: {r: {allow: server.view}}\ngrants: {g: {to: cai, role: r, on: db}}"},
		{[]string{"warning reserve-only-owner"}, "people: {cai: {reserve: true}}\nroles: {r: {allow: all, owner: cai}}",
			"people: {cai: {reserve: true}}\ngroups: {o: {members: [cai, ana]}}\nroles: {r: {allow: all, owner: group:o}}"},
		{[]string{"warning default-membership"}, // what may come counts where it is judged
			"systems: {new: {kind: database, unlisted: judge}}\nroles: {r: {allow: [table.drop, table.view, server.view, " +
				"schema.view]}}\ngrants: {g: {to: everyone, role: r, on: 'new:**/fresh'}}",
			"roles: {r: {allow: [table.drop, table.view, server.view, schema.view]}}\ngrants: {g: {to: everyone, role: r, on: " +
				"'db:**/fresh'}}"},
		{[]string{"warning default-membership"},
			"roles: {r: {allow: table.drop}}\ngrants: {g: {to: everyone, role: r, on: db}}",
			"roles: {r: {allow: table.read}}\ngrants: {g: {to: everyone, role: r, on: db}}"},
		{[]string{"warning default-membership"},
			"groups: {m: {match: {team: x}}, n: {members: group:m}}\nroles: {r: {allow: table.drop}}\ngrants: {g: {to: " +
				"group:n, role: r, on: db}}",
			"groups: {m: {members: ana}, n: {members: group:m}}\nroles: {r: {allow: table.drop}}\ngrants: {g: {to: group:n, " +
				"role: r, on: db}}"},
		{[]string{"note future-wide"}, `scopes: {s: "db:sky/*"}`, `scopes: {s: "db:sky/a*"}`},
		{[]string{"note future-wide"}, `scopes: {r: "db:**", s: "db:sky/*"}`, `scopes: {s: "db:sky/a*"}`},
		{[]string{"note single-holder"}, // whoever has left is nobody
			"people: {cai: {ends: 2020-01-01}}\nroles: {r: {allow: [table.drop]}}\ngrants: {g: {to: [ana, cai], role: r, " +
				"on: db}}",
			"people: {cai: {ends: 2099-01-01}}\nroles: {r: {allow: [table.drop]}}\ngrants: {g: {to: [ana, cai], role: r, " +
				"on: db}}"},
		{[]string{"warning networks-one-family"},
			"roles: {r: {allow: server.view}}\ngrants: {g: {to: ana, role: r, on: db, when: {not: {network: 10.0.0.0/8}}}}",
			"roles: {r: {allow: server.view}}\ngrants: {g: {to: ana, role: r, on: db, when: {not: {network: [10.0.0.0/8, " +
				"'::/0']}}}}"},
		{[]string{"warning networks-one-family"}, "blocks: {b: {deny: all, on: db, when: {network: 10.0.0.0/8}}}",
			"blocks: {b: {deny: all, on: db, when: {not: {network: 10.0.0.0/8}}}}"},
		{[]string{"error secret-in-policy"}, "roles: {r: {allow: all, why: 'the password is hunter22x'}}",
			"roles: {r: {allow: all, why: the password is changed each month}}"},
		{[]string{"error secret-in-policy"}, "people: {cai: {tags: {api-token: abcdef}}}",
			"people: {cai: {tags: {token-kind: card}}}"},
		{[]string{"error secret-in-policy"}, "groups: {g: {members: ana, about: 'k3Jx9QzLm2VbT7nRw5YpHs8D'}}",
			"groups: {g: {members: ana, about: 'a-very-long-word-that-is-no-secret-at-all'}}"},
		{[]string{"error secret-in-policy"}, "systems: {z: {kind: server, title: 'ssh://root:letmein@z'}}",
			"systems: {z: {kind: server, title: 'ssh://root@z'}}"},
		{[]string{"error over-ceiling"},
			"roles: {r: {allow: [table.drop]}}\ndelegations: {d: {to: ana, may-grant: r, within: up to use}}",
			"roles: {r: {allow: [table.read]}}\ndelegations: {d: {to: ana, may-grant: r, within: up to use}}"},
	} {
		// Of what a text brings, only the finding that it is about is looked at.
		codes := func(text string) (out []string) {
			for _, f := range runOn(t, "---\n"+text+"\n") { // a document of its own, where the base has a section already
				if _, code, _ := strings.Cut(c.want[0], " "); f.Accepted == "" && f.Code == code {
					out = append(out, f.Severity.String()+" "+f.Code)
				}
			}
			return slices.Compact(out)
		}
		assert.Equal(t, c.want, codes(c.bad), c.bad)
		assert.Empty(t, codes(c.good), c.good)
	}
}

func TestAMissingNeedNamesEverybody(t *testing.T) {
	found := runOn(t,
		"---\nroles: {r: {allow: [table.update, table.read]}}\ngroups: {three: {members: [ana, bo]}}\ngrants: {g: {to: "+
			"group:three, role: r, on: [db:sky/a, db:sky/b]}}\n")
	require.Len(t, found, 1)
	assert.Equal(t, "grant g gives table.read to ana, bo without session.open, which it needs, "+
		"for example on db:sky/a, db:sky/b",
		found[0].Message)
}

func TestSettingsAndAcceptance(t *testing.T) {
	with := func(settings, accept string) []Found {
		return runOn(t, settings+"---\nroles: {r: {allow: server.view}}\ngrants: {g: {to: ana, role: r, on: db"+accept+"}}\n")
	}
	assert.Equal(t, "error", with("check: {direct-grant: error}\n", "")[0].Severity.String())
	assert.Empty(t, with("check: {direct-grant: off}\n", ""))
	assert.Equal(t, "for now", with("", ", accept: {finding: direct-grant, why: for now}")[0].Accepted)
	assert.Equal(t, "for now", with("", ", accept: {finding: direct-grant, why: for now, ends: 2026-11-23}")[0].Accepted)
	assert.Empty(t, with("", ", accept: {finding: direct-grant, why: for now, ends: 2026-11-22}")[0].Accepted)
}
