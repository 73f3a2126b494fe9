package policyfile_test

import (
	"io/fs"
	"regexp"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/starter"
)

func TestReferencesFindEveryPlace(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
catalogs: {tower: {based-on: database, operations: {bell.ring: {level: use}}}}
systems: {db: {kind: tower, precedence: look, owner: ana, resources: {a: {owner: group:crew}}}}
people: {ana: {}}
services: {bot: {owner: ana}}
groups: {crew: {members: [ana, service:bot], stewards: ana}, all-crews: {members: group:crew}}
roles: {look: {allow: [bell.ring, table.read]}, more: {include: look, allow: table.read}}
scopes: {s: db, t: [scope:s, {kind: tower}]}
grants: {g: {to: group:crew, role: look, on: scope:s, on-request: {longest: 1h, approvers: ana}}}
blocks: {b: {to: ana, deny: bell.ring, on: scope:t}}
separations: {sep: {roles: [look, more], within: person}}
delegations: {d: {to: ana, may-grant: look, on: scope:s, to-members-of: group:crew, may-edit: group:crew}}
tests: {t: {who: group:crew, given: {roles: look}, allowed: bell.ring on scope:s}, l: {levels: {ana: {db: none}}}}
guarantees: {gu: {never: group:crew, may: bell.ring, on: db}}
`)}})
	require.NoError(t, err)
	for _, c := range []struct {
		section, id string
		want        []string
	}{
		{"people", "ana", []string{"systems db owner", "services bot owner", "groups crew members", "groups crew stewards",
			"grants g approvers", "blocks b to", "delegations d to", "tests l levels"}},
		{"services", "bot", []string{"groups crew members"}},
		{"groups", "crew", []string{"resources db:a owner", "groups all-crews members", "grants g to",
			"delegations d to-members-of", "delegations d may-edit", "tests t who", "guarantees gu never"}},
		{"roles", "look", []string{"systems db precedence", "roles more include", "grants g role", "separations sep roles",
			"delegations d may-grant", "tests t roles"}},
		{"scopes", "s", []string{"scopes t resources", "grants g on", "delegations d on", "tests t allowed"}},
		{"systems", "db", []string{"scopes s resources", "tests l levels", "guarantees gu on"}},
		{"catalogs", "tower", []string{"systems db kind", "scopes t resources"}},
		{"catalogs", "database", []string{"catalogs tower based-on"}},
		{"operations", "bell.ring", []string{"roles look allow", "blocks b deny", "tests t allowed", "guarantees gu may"}},
		{"grants", "g", nil},
	} {
		var got []string
		for _, r := range policyfile.References(e, c.section, c.id) {
			got = append(got, r.Section+" "+r.ID+" "+r.Key)
			assert.NotZero(t, r.Position.Line)
		}
		assert.Equal(t, c.want, got, c.id)
	}
}

// In the demo, a group is named as often as its name stands in the files.
func TestReferencesToGroupsOfTheDemo(t *testing.T) {
	e, err := policyfile.Load(starter.Demo())
	require.NoError(t, err)
	names, err := fs.Glob(starter.Demo(), "*.yaml")
	require.NoError(t, err)
	for _, g := range estate.Sorted(e.Groups) {
		written := 0
		for _, name := range names {
			text, err := fs.ReadFile(starter.Demo(), name)
			require.NoError(t, err)
			written += len(regexp.MustCompile(`group:`+regexp.QuoteMeta(g.ID)+`\b[^-]`).FindAll(text, -1))
		}
		want := 0
		seen := map[string]bool{}
		for _, r := range policyfile.References(e, "groups", g.ID) {
			if key := r.ID + r.Key; r.Key != "levels" || !seen[key] { // levels name a subject once for several places
				seen[key] = true
				want++
			}
		}
		assert.Equal(t, written, want, g.ID)
	}
}
