package draft

import (
	"io/fs"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// everyKey sets every key that names something once, each section in a file of its own.
var everyKey = map[string]string{
	"hidden-gate": "hidden-gate: 1\nowner: vera\ninventories: [{people: people.csv}, {resources: resources.csv}]\n",
	"catalogs": `catalogs:
  tower: {based-on: database, operations: {bell.ring: {level: use}, bell.tune: {level: change, needs: bell.ring}}}
`,
	"systems": `systems:
  bells: {kind: tower, precedence: looking, resources: {north: {owner: "group:crew"}, north/inner: {}}}
  store: {kind: database, owner: "service:bot"}
  mint: {kind: authority}
`,
	"profiles": "profiles: {seal: {authority: mint, system: store, longest: 1d, approvers: ben, " +
		"holders: \"group:crew\"}}\n",
	"people":   "people: {ana: {}, ben: {}, vera: {accept: [{finding: dormant, why: on leave}]}}\n",
	"services": "services: {bot: {owner: ana}}\n",
	"groups": `groups:
  crew: {members: ana, stewards: ben}
  all-crews: {members: ["group:crew", "service:bot"]}
  listed: {}
`,
	"roles": "roles: {looking: {allow: bell.ring}, ringing: {include: looking, allow: bell.tune}, third: {allow: " +
		"bell.ring}}\n",
	"scopes": "scopes: {north: bells:north, wide: [scope:north, {kind: tower, in: bells, owner: ben, type: server}]}\n",
	"grants": `grants:
  one: {to: ben, role: ringing, on: scope:north, on-request: {longest: 1h, approvers: ana},
      acknowledged: [{role: ringing, by: vera, why: asked}]}
  two: {to: "group:crew", roles: [looking, third], on: [bells, not bells:north/inner]}
`,
	"blocks":      "blocks: {no: {to: ana, deny: bell.tune, on: bells:north}}\n",
	"separations": "separations: {keep: {roles: [looking, ringing, third], within: person}}\n",
	"delegations": `delegations:
  lead: {to: ben, may-grant: looking, within: bell.ring, on: scope:wide, to-members-of: "group:crew",
      may-edit: "group:crew"}
`,
	"tests": `tests:
  rings: {who: ben, given: {roles: ringing}, allowed: bell.ring on bells:north, denied: bell.tune on scope:wide}
  far: {levels: {ana: {"bells:north": use}}}
`,
	"guarantees": `guarantees:
  never: {never: ana, may: bell.tune, on: bells}
  only: {only: "group:crew", may: bell.tune, on: scope:north}
  apart: {apart: ["group:crew", "group:all-crews"], may: bell.ring, on: store}
  both: {never-both: [bell.ring, bell.tune], on: bells}
`,
}

func everyKeyFiles() fstest.MapFS {
	out := fstest.MapFS{
		"people.csv":    {Data: []byte("id,groups,owner\ncara,listed,ben\n")},
		"resources.csv": {Data: []byte("at,owner\nbells:south,group:crew\n")},
	}
	for name, text := range everyKey {
		out[name+".yaml"] = &fstest.MapFile{Data: []byte(text)}
	}
	return out
}

// target of a name: its section and id.
type namedThing struct{ section, id string }

// named is a name in an entry, under a key.
type named struct {
	section, id, key string
	namedThing
}

// inSites gathers what the nodes of the files name.
func inSites(t *testing.T) map[named]bool {
	out := map[named]bool{}
	for _, text := range everyKey {
		var root yaml.Node
		require.NoError(t, yaml.Unmarshal([]byte(text), &root))
		policyfile.EachSite(root.Content[0], func(one policyfile.Site) {
			for _, w := range one.Words {
				for _, thing := range thingsOf(t, w) {
					out[named{one.Section, one.ID, one.Key, thing}] = true
				}
			}
		})
	}
	return out
}

// thingsOf reads a word as the estate's own parsers do.
func thingsOf(t *testing.T, w policyfile.Word) (out []namedThing) {
	var n policyfile.Naming
	switch text := w.Text(); w.As {
	case policyfile.AsEntry:
		return []namedThing{{w.Section, text}}
	case policyfile.AsSubject:
		p, err := estate.ParsePrincipal(text)
		require.NoError(t, err)
		n.Subjects = estate.Subjects{{Principal: p}}
	case policyfile.AsPlace:
		term, err := estate.ParseResourceTerm(text)
		require.NoError(t, err, text)
		n.Resources = estate.Resources{term}
	case policyfile.AsOperation:
		term, err := estate.ParseOperationTerm(text)
		require.NoError(t, err)
		n.Operations = estate.Operations{term}
	}
	n.Each(func(one policyfile.Name) { out = append(out, namedThing{one.Section, one.ID}) })
	return out
}

func TestEveryKeyThatNamesIsFoundInTheEstateAndInTheFiles(t *testing.T) {
	e, err := policyfile.Load(everyKeyFiles())
	require.NoError(t, err)
	read := map[named]bool{}
	gather := func(section, id string, entry estate.Head) {
		policyfile.EachName(section, entry, func(key string, n policyfile.Name) {
			read[named{section, id, key, namedThing{n.Section, n.ID}}] = true
		})
	}
	for _, section := range estate.SectionNames {
		for _, o := range e.Section(section) {
			if policyfile.IsInventory(o.Source.File) {
				continue
			}
			gather(section, o.ID, e.Entry(section, o.ID))
		}
	}
	for r := range e.Tree.All() {
		if entry := e.Tree.Entry(r.Index); entry != nil && !policyfile.IsInventory(entry.Source.File) {
			gather("resources", r.Address.String(), entry)
		}
	}
	written := inSites(t)
	// A member by an inventory stands in no file of YAML; settings are no entry; `roles` is told as `role`.
	delete(read, named{"groups", "listed", "members", namedThing{"people", "cara"}})
	assert.True(t, written[named{policyfile.SettingsSection, "", "owner", namedThing{"people", "vera"}}])
	delete(written, named{policyfile.SettingsSection, "", "owner", namedThing{"people", "vera"}})
	for _, role := range []string{"looking", "third"} {
		one := named{"grants", "two", "roles", namedThing{"roles", role}}
		assert.True(t, written[one])
		delete(written, one)
		one.key = "role"
		written[one] = true
	}
	assert.Equal(t, read, written)

	// The two are equal; now every key of the table is among them.
	sectionOf := map[string]string{"on-request": "grants", "given": "tests", "an operation": "catalogs",
		"a resource": "resources"}
	for _, page := range policyfile.Pages() {
		if page.Name == "settings" || page.Name == "a selector of resources" || page.Name == "every entry" ||
			page.Name == "an acceptance" {
			continue // every entry of the files has those, and selectors stand in a list of one's own
		}
		for _, f := range page.Fields {
			section := page.Name
			if is := sectionOf[section]; is != "" {
				section = is
			}
			found := false
			for one := range read {
				found = found || one.section == section && one.key == f.Name
			}
			isRoles := section == "grants" && f.Name == "roles" // told as role
			assert.Equal(t, len(f.Names) > 0 && !isRoles, found, "%s of %s", f.Name, section)
		}
	}
	// of a selector
	for _, thing := range []namedThing{{"catalogs", "tower"}, {"types", "server"}, {"people", "ben"},
		{"systems", "bells"}} {
		assert.True(t, read[named{"scopes", "wide", "resources", thing}], "%v", thing)
	}
	assert.True(t, read[named{"people", "vera", "finding", namedThing{"findings", "dormant"}}])
	assert.True(t, read[named{"services", "bot", "owner", namedThing{"people", "ana"}}])
}

// entriesOf lists the entries of the workspace that something can name.
func entriesOf(e *estate.Estate) (out []namedThing) {
	for _, section := range []string{"catalogs", "systems", "people", "services", "groups", "roles", "scopes"} {
		for _, o := range e.Section(section) {
			out = append(out, namedThing{section, o.ID})
		}
	}
	return append(out, namedThing{"resources", "bells:north"})
}

func TestWhatIsRenamedIsFollowedEverywhere(t *testing.T) {
	e, err := policyfile.Load(everyKeyFiles())
	require.NoError(t, err)
	for _, one := range entriesOf(e) {
		to := "another"
		if one.section == "resources" {
			to = "bells:another"
		}
		d := New(everyKeyFiles(), e)
		mentions, err := d.Mentions(one.section, one.id)
		require.NoError(t, err)
		require.NoError(t, d.Redirect(one.section, one.id, to, mentions))
		require.NoError(t, d.Rename(one.section, one.id, to))
		after, err := policyfile.Load(d.FS())
		if !assert.NoError(t, err, "%v", one) {
			continue
		}
		assert.Empty(t, policyfile.References(after, one.section, one.id), "%v", one)
		if one.section == "resources" {
			inner, _ := estate.ParseAddress(to + "/inner")
			assert.NotNil(t, after.Listed(inner), "what stands in it goes along")
		}
		assert.Equal(t, len(policyfile.References(e, one.section, one.id)),
			len(policyfile.References(after, one.section, to)), "%v", one)
	}
}

func TestWhatIsTakenOutIsNamedNowhere(t *testing.T) {
	e, err := policyfile.Load(everyKeyFiles())
	require.NoError(t, err)
	for _, one := range entriesOf(e) {
		if one.section == "catalogs" || one.id == "vera" || one.section == "systems" {
			continue // a system has to have its kind; the workspace belongs to vera; resources go with their system
		}
		d := New(everyKeyFiles(), e)
		mentions, err := d.Mentions(one.section, one.id)
		require.NoError(t, err)
		_, err = d.RemoveWith(one.section, one.id, mentions)
		require.NoError(t, err)
		left, err := d.Mentions(one.section, one.id)
		require.NoError(t, err)
		assert.Empty(t, left, "%v", one)
	}
}

// A name that finds nothing is an error, read as a whole or only where a file has changed.
func TestWhatIsNamedHasToBeThere(t *testing.T) {
	e, err := policyfile.Load(everyKeyFiles())
	require.NoError(t, err)
	for _, one := range entriesOf(e) {
		if one.section == "resources" || one.id == "cara" || len(policyfile.References(e, one.section, one.id)) == 0 {
			continue // what is named may come later; cara's line alone says what she is in
		}
		d := New(everyKeyFiles(), e)
		require.NoError(t, d.Remove(one.section, one.id))
		_, whole := policyfile.Load(d.FS())
		require.Error(t, whole, "%v", one)
		changes, err := d.Changes()
		require.NoError(t, err)
		_, part := policyfile.Reload(everyKeyFiles(), d.FS(), e, []string{changes[0].Name})
		assert.Equal(t, whole, part, "%v", one)
	}
}

// A list of which nothing is left is told of, whatever its key.
func TestWhatGathersNothingIsFound(t *testing.T) {
	e, err := policyfile.Load(everyKeyFiles())
	require.NoError(t, err)
	now := clock.Instant(0)
	looked := 0
	for _, section := range estate.SectionNames {
		for _, o := range e.Section(section) {
			policyfile.EachNaming(section, e.Entry(section, o.ID), func(n policyfile.Naming) {
				if !n.IsList || n.Key == "approvers" { // which `set` cannot reach
					return
				}
				one := map[bool]string{true: "ben", false: "bells:north"}[n.Subjects != nil]
				if n.Operations != nil {
					one = "bell.ring"
				}
				d := New(everyKeyFiles(), e)
				require.NoError(t, d.Set(section, o.ID, n.Key, splice.List(splice.Scalar(one), splice.Scalar("not "+one))))
				for _, key := range map[string][]string{"allow": {"include"}}[n.Key] {
					if err := d.Set(section, o.ID, key, nil); err != nil {
						require.ErrorIs(t, err, fs.ErrNotExist)
					}
				}
				after, err := policyfile.Load(d.FS())
				require.NoError(t, err)
				looked++
				g, err := gate.Compile(after, nil)
				require.NoError(t, err)
				found, err := finding.Run(t.Context(), g, now)
				require.NoError(t, err)
				assert.True(t, slices.ContainsFunc(found, func(f finding.Found) bool {
					return f.Code == "matches-nothing" && strings.Contains(f.Message, o.ID)
				}), "%s of %s %s", n.Key, section, o.ID)
			})
		}
	}
	assert.Greater(t, looked, 20)
}

// Lines of inventories that name a resource are found however they write it.
func TestMentionsOfResourcesWrittenOtherwise(t *testing.T) {
	for lines, want := range map[string]int{
		`{"at": "db:sky"}` + "\n" + `{"at": "db:sky/raw"}` + "\n" + `{"at": "db:dust/raw"}`:          1,
		`{"at": "db:sky"}` + "\n" + `{"at": "db:sk%79/raw"}` + "\n" + `{"at": "db:sky/two"}`:         2,
		`{"at": "db:sky"}` + "\n" + `{"at": "db:\u0073ky\/raw"}` + "\n" + `{"at": "db:sky/raw/one"}`: 2,
	} {
		files := fstest.MapFS{
			"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [{resources: n.ndjson}]\n" +
				"systems: {db: {kind: database}}\n")},
			"n.ndjson": {Data: []byte(lines + "\n")},
		}
		e, err := policyfile.Load(files)
		require.NoError(t, err)
		mentions, err := New(files, e).Mentions("resources", "db:sky")
		require.NoError(t, err)
		require.Len(t, mentions, want, lines)
	}
}
