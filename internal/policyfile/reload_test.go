package policyfile

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
)

// What is read again in part is what is read as a whole, and what it was read from stays as it was.
func TestReadingAgain(t *testing.T) {
	files := func() fstest.MapFS {
		return fstest.MapFS{
			"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [{people: more.csv}]\n")},
			"systems.yaml": {Data: []byte("systems: {db: {kind: database, owner: ana, resources: {x: {owner: " +
				"group:crew}}}}\n")},
			"people.yaml": {Data: []byte("people: {ana: {}, bo: {}}\ngroups: {crew: {members: [ana]}, others: {}}\n")},
			"more.csv":    {Data: []byte("id,name,groups\ncai,Cai,crew\n")},
			"access.yaml": {Data: []byte("roles: {r: {allow: all}}\ngrants: {g: {to: group:crew, role: r, on: db}}\n")},
		}
	}
	load := func(fs fstest.MapFS) *estate.Estate {
		e, err := Load(fs)
		require.NoError(t, err)
		return e
	}
	for name, edits := range map[string]map[string]string{
		"policy": {"access.yaml": "roles: {r: {allow: all}, q: {include: r}}\ngrants: {h: {to: " +
			"[group:crew, bo], role: q, on: db:x}}\n"},
		"a group with listed ones": {"people.yaml": "people: {ana: {tags: {a: b}}, dee: {}}\ngroups: {crew: {members: " +
			"[dee]}, others: {members: group:crew}}\n"},
		"an inventory": {"more.csv": "id,name,groups\ncai,Cai,others\ndee,Dee,crew;others\n"},
		"an inventory and a group": {"more.csv": "id,name,groups\ncai,Cai,others;crew\n",
			"people.yaml": "people: {ana: {}}\ngroups: {others: {members: ana}, crew: {}}\n"},
		"as many letters": {"access.yaml": "roles: {r: {allow: all}}\ngrants: {g: {to: group:crew, role: r, on: bd}}\n",
			"systems.yaml": "systems: {bd: {kind: database, owner: ana, resources: {x: {owner: group:crew}}}}\n"},
		"another word": {"people.yaml": "people: {ana: {}, by: {}}\ngroups: {crew: {members: " +
			"[ana]}, others: {}}\n"},
		"a new file":                {"new.yaml": "people: {zoe: {}}\n"},
		"systems, which is a whole": {"systems.yaml": "systems: {db: {kind: database}, web: {kind: server}}\n"},
		"settings, likewise": {"hidden-gate.yaml": "hidden-gate: 1\ntimezone: Atlantic/Azores\n",
			"people.yaml": "people: {ana: {}, bo: {}}\ngroups: {crew: {members: bo}}\n"},
	} {
		before, after := files(), files()
		old := load(before)
		var changed []string
		for file, text := range edits {
			after[file] = &fstest.MapFile{Data: []byte(text)}
			changed = append(changed, file)
		}
		got, err := Reload(before, after, old, changed)
		require.NoError(t, err, name)
		like, err := LoadLike(after, old, before) // which finds out itself what differs
		require.NoError(t, err, name)
		want := load(after)
		for _, got := range []*estate.Estate{got, like} {
			for _, section := range estate.SectionNames {
				var a, b []any
				for _, o := range got.Section(section) {
					a = append(a, got.Entry(section, o.ID))
				}
				for _, o := range want.Section(section) {
					b = append(b, want.Entry(section, o.ID))
				}
				assert.Equal(t, b, a, "%s: %s", name, section)
			}
			assert.Equal(t, want.Tree.Len(), got.Tree.Len(), name)
			assert.Equal(t, want.Zone.Name(), got.Zone.Name(), name)
		}
		same, err := LoadLike(after, want, after)
		require.NoError(t, err, name)
		assert.Same(t, want, same, "%s: nothing differs", name)
		assert.Equal(t, load(before).Groups, old.Groups, "%s: what it was read from has changed", name)
	}
	for name, edits := range map[string]map[string]string{
		"an owner of a resource is gone": {"people.yaml": "people: {ana: {}, bo: {}}\ngroups: {others: {}}\n"},
		"an owner of a system is gone":   {"people.yaml": "people: {bo: {}}\ngroups: {crew: {members: bo}}\n"},
		"a role is gone":                 {"access.yaml": "grants: {g: {to: group:crew, role: r, on: db}}\n"},
		"an id comes twice":              {"new.yaml": "people: {cai: {}}\n"},
		"a circle": {"people.yaml": "people: {ana: {}}\ngroups: {crew: {members: group:others}, " +
			"others: {members: group:crew}}\n"},
		"an inventory names no group": {"more.csv": "id,name,groups\ncai,Cai,nobody\n"},
	} {
		after := files()
		var changed []string
		for file, text := range edits {
			after[file] = &fstest.MapFile{Data: []byte(text)}
			changed = append(changed, file)
		}
		_, want := Load(after)
		require.Error(t, want, name)
		_, err := Reload(files(), after, load(files()), changed)
		assert.Equal(t, want, err, name)
	}
}
