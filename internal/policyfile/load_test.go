package policyfile

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/starter"
)

// workspace makes a file system of names and texts by turns.
func workspace(parts ...string) fstest.MapFS {
	out := fstest.MapFS{}
	for i := 0; i < len(parts); i += 2 {
		out[parts[i]] = &fstest.MapFile{Data: []byte(parts[i+1])}
	}
	return out
}

const sound = `hidden-gate: 1
timezone: Atlantic/Azores
systems: {db: {kind: database, resources: {sky: {}}}, ridge-net: {kind: network-console, resources: {summit: {}}}}
people: {ana: {}, bo: {}}
groups: {crew: {members: ana}}
roles: {reader: {allow: table.read}}
scopes: {sky: 'db:sky'}
`

func errorsOf(t *testing.T, files fs.FS) diagnostic.List {
	_, err := Load(files)
	if err == nil {
		return nil
	}
	var list diagnostic.List
	require.ErrorAs(t, err, &list)
	for _, d := range list {
		assert.NotEmpty(t, d.Position.File)
		assert.NotEmpty(t, d.Message)
	}
	return list
}

// mistakes are files beside a sound workspace, each with the place and the words of its one error.
var mistakes = []struct{ name, text, at, message, help string }{
	{"unknown section", "rolls: {}", "1:1", `no section "rolls"`, "did you mean roles?"},
	{"unknown key", "roles: {a: {alow: all}}", "1:13", `role a has no key "alow"`, "did you mean allow?"},
	{"duplicate key", "roles:\n  a: {allow: all}\n  a: {allow: all}", "3:3", `"a" occurs twice`, "line 2"},
	{"duplicate section", "roles: {}\nroles: {}", "2:1", `"roles" occurs twice`, ""},
	{"duplicate id", "roles: {reader: {allow: all}}", "1:9", `role "reader" is defined twice`, "hidden-gate.yaml:6"},
	{"missing value", "roles:\n  a:\n    allow:", "3:11", "the value is missing", "take the key out"},
	{"missing key", "grants: {g: {role: reader, on: db}}", "1:10", `grant g needs the key "to"`, "add to"},
	{"anchor", "roles: {a: &x {allow: all}}", "1:12", "anchors", "&x"},
	{"alias", "roles: {a: *x}", "1:12", "alias", "in quotes"},
	{"glob without quotes", "roles: {a: {allow: *.view}}", "1:20", "alias", "in quotes"},
	{"merge key", "roles: {a: {<<: {allow: all}}}", "1:13", "merge keys", ""},
	{"exclamation mark", "groups: {g: {members: [everyone, !group:crew]}}", "1:34", "takes nothing away",
		"write not group:crew"},
	{"quoted exclamation mark", "groups: {g: {members: [everyone, '!group:crew']}}", "1:34", "names no subject",
		"write not group:crew"},
	{"explicit tag", "roles: {a: {allow: !!str all}}", "1:20", "tag !!str", ""},
	{"space after the colon", "scopes: {s: [ridge-net: summit]}", "1:14", "a key with a value",
		"ridge-net:summit, with no space"},
	{"unknown person", "groups: {g: {members: anna}}", "1:23", `no person "anna"`, "did you mean ana?"},
	{"group without its word", "groups: {g: {members: crew}}", "1:23", `no person "crew"`, "group:crew"},
	{"unknown role", "grants: {g: {to: ana, role: raeder, on: db}}", "1:29", `no role "raeder"`, "reader"},
	{"unknown system", "scopes: {s: bd:sky}", "1:13", `no system "bd"`, "db"},
	{"scope without its word", "grants: {g: {to: ana, role: reader, on: sky}}", "1:41", `no system "sky"`, "scope:sky"},
	{"unknown kind", "systems: {x: {kind: databse}}", "1:21", `no kind "databse"`, "database"},
	{"unknown type", "systems: {x: {kind: database, resources: {a: {type: tabel}}}}", "1:43", `type "tabel"`, "table"},
	{"unknown finding", "roles: {a: {allow: all, accept: {finding: direct-grants, why: x}}}", "1:9",
		`no finding "direct-grants"`, "direct-grant"},
	{"only not", "scopes: {s: not db}", "1:13", "nothing is gathered", ""},
	{"empty list", "groups: {g: {members: []}}", "1:23", "the list is empty", ""},
	{"gathers nobody", "groups: {g: {members: not ana}}", "1:13", "gathers nobody", "match"},
	{"group in a circle", "groups: {g: {members: group:h}, h: {members: [everyone, not group:g]}}", "1:57",
		"leads back to itself", ""},
	{"role in a circle", "roles: {a: {include: a}}", "1:22", "leads back to itself: a → a", ""},
	{"bare level", "roles: {a: {allow: view}}", "1:20", "is a level", ""},
	{"both role and roles", "grants: {g: {to: ana, role: reader, roles: reader, on: db}}", "1:13",
		"2 of the keys role and roles", ""},
	{"host bits", "blocks: {b: {deny: all, on: db, when: {network: 10.1.0.0/8}}}", "1:49",
		"host bits; the network is 10.0.0.0/8", ""},
	{"equal hours", "blocks: {b: {deny: all, on: db, when: {hours: 07:00-07:00}}}", "1:47", "same time", ""},
	{"yes for true", "blocks: {b: {deny: all, on: db, when: {mfa: yes}}}", "1:45", "neither true nor false",
		"true or false"},
	{"empty condition", "blocks: {b: {deny: all, on: db, when: {}}}", "1:39", "condition is empty", ""},
	{"empty any", "blocks: {b: {deny: all, on: db, when: {any: []}}}", "1:45", "list is empty", ""},
	{"attribute named as a fact", "blocks: {b: {deny: all, on: db, when: {context: {mfa: x}}}}", "1:50",
		"fact of every request", ""},
	{"empty tag to match", "groups: {g: {match: {team: ''}}}", "1:28", "never empty", "not:"},
	{"exactly without in", "scopes: {s: {type: table, exactly: true}}", "1:13", "exactly: needs in:", ""},
	{"empty segment", "scopes: {s: 'db:sky//a'}", "1:13", "empty segment", ""},
	{"dots", "scopes: {s: 'db:sky/../a'}", "1:13", `".." segment`, ""},
	{"malformed escape", "scopes: {s: 'db:sky/%2'}", "1:13", "malformed percent-escape", "" /* in the message */},
	{"wildcard in a listed path", "systems: {x: {kind: database, resources: {'a*': {}}}}", "1:43", "wildcard", ""},
	{"date for a time", "tests: {t: {who: ana, given: {time: 2027-12-01}, denied: all on db}}", "1:37", "is no time", ""},
	{"skipped time", "people: {cai: {ends: 2027-03-28T00:30}}", "1:22", "the clock skips it", ""},
	{"time that occurs twice", "people: {cai: {ends: 2026-10-25T00:30}}", "1:22", "occurs twice", "" /* in the message */},
	{"finer than a microsecond", "people: {cai: {ends: 2031-12-01T22:00:00.1234567Z}}", "1:22", "finer than a microsecond",
		""},
	{"no such day", "people: {cai: {ends: 2027-02-29}}", "1:22", "no day", ""},
	{"duration", "grants: {g: {to: ana, role: reader, on: db, on-request: {longest: 4 hours}}}", "1:67", "no duration",
		""},
	{"bad id", "people: {'a b': {}}", "1:10", "may not contain", ""},
	{"word of the notations", "people: {everyone: {}}", "1:10", "word of the notations", ""},
	{"built-in kind", "catalogs: {database: {types: [a]}}", "1:12", "is built in", "based-on: database"},
	{"operation redefined", "catalogs: {x: {based-on: database, operations: {table.read: {level: use}}}}", "1:49",
		"operation of database already", ""},
	{"another meaning", "catalogs: {x: {types: [a], operations: {table.read: {level: view}}}}", "1:41",
		"means something else in database", ""},
	{"nothing kept apart", "separations: {s: {roles: [reader], within: person}}", "1:18", "keeps nothing apart", ""},
	{"two statements", "guarantees: {g: {only: ana, never: bo, may: all, on: db}}", "1:17", "2 statements", ""},
	{"selection without a place", "tests: {t: {who: ana, denied: table.read}}", "1:31", "does not say where", ""},
	{"setting in another file", "estate: X", "1:1", "setting of the workspace", "hidden-gate.yaml"},
	{"not YAML", "roles: {a: {allow: [all}", "1:24", "not YAML", ""},
	{"tab", "roles:\n\ta: {}", "2:1", "not YAML", "spaces"},
	{"NUL", "roles: {}\n# \x00", "2:3", "not UTF-8", ""},
	{"Latin-1", "people: {ana2: {name: Jo\xe3o}}", "1:25", "not UTF-8", "UTF-8"},
	{"nested too deep", "roles: {a: {allow: " + strings.Repeat("[", 40) + strings.Repeat("]", 40) + "}}", "1:50",
		"nested deeper", ""},
	{"a list for a text", "people: {cai: {name: [a]}}", "1:22", "a list stands where text is meant", ""},
	{"a list of sections", "- roles", "1:1", "a list stands where", ""},
}

func TestEachMistakeIsReportedOnceWithItsPlace(t *testing.T) {
	require.Empty(t, errorsOf(t, workspace("hidden-gate.yaml", sound)))
	for _, m := range mistakes {
		t.Run(m.name, func(t *testing.T) {
			list := errorsOf(t, workspace("hidden-gate.yaml", sound, "sub/more.yml", m.text))
			require.Len(t, list, 1, "%v", list)
			d := list[0]
			assert.Equal(t, "sub/more.yml:"+m.at, d.Position.String(), d.Message)
			assert.Contains(t, d.Message, m.message)
			assert.Contains(t, d.Help, m.help)
		})
	}
}

func TestAllErrorsAreReportedTogether(t *testing.T) {
	list := errorsOf(t, workspace("hidden-gate.yaml", sound, "a.yaml", "roles: {x: {alow: all}}\n---\nscopes: {y: []}",
		"b.yaml", "people: {z: {status: gone}}"))
	var places []string
	for _, d := range list {
		places = append(places, d.Position.String())
	}
	assert.Equal(t, []string{"a.yaml:1:13", "a.yaml:3:13", "b.yaml:1:22"}, places)
	var out bytes.Buffer
	diagnostic.Print(&out, list[:1], nil)
	assert.Equal(t,
		"a.yaml:1:13: error: role x has no key \"alow\"\n    roles: {x: {alow: all}}\n                ^\n    help: did you "+
			"mean allow?\n", out.String())
}

// Names are looked up although something else is wrong, unless what they name may be what could not be read.
func TestNamesAreLookedUpBesideOtherErrors(t *testing.T) {
	list := errorsOf(t, workspace("hidden-gate.yaml", sound, "a.yaml",
		"roles: {x: {alow: all}}\nsystems: {y: {}}\ngrants: {g: {to: anna, role: x, on: [y, z]}}\n"))
	var said []string
	for _, d := range list {
		said = append(said, d.Position.Short()+" "+d.Message)
	}
	assert.Equal(t, []string{`a.yaml:1 role x has no key "alow"`, `a.yaml:2 system y needs the key "kind"`,
		`a.yaml:3 there is no person "anna"`, `a.yaml:3 there is no system "z"`}, said)
	assert.Len(t, errorsOf(t, workspace("hidden-gate.yaml", sound, "a.yaml",
		"people: {'x y': {}}\ngroups: {g: {members: [xy]}}\n")), 1)
}

func TestASecondDocumentCounts(t *testing.T) {
	e, err := Load(workspace("hidden-gate.yaml",
		sound+"---\nblocks: {b: {deny: all, on: db}}\n---\n# nothing\n---\nblocks: {c: {deny: all, on: db}}\n"))
	require.NoError(t, err)
	assert.Len(t, e.Blocks, 2)
	assert.Equal(t, []string{"everyone", "anonymous"},
		[]string{e.Blocks["b"].To[0].String(), e.Blocks["b"].To[1].String()})
}

func TestFilesOfTheWorkspace(t *testing.T) {
	e, err := Load(workspace("hidden-gate.yaml", sound+"ignore: [drafts/**, '*.tmp.yaml']\n", "drafts/x.yaml",
		"nonsense: [", "x.tmp.yaml", "[", ".git/x.yaml", "[", "notes.txt", "["))
	require.NoError(t, err)
	assert.Len(t, e.People, 2)

	list := errorsOf(t, workspace("hidden-gate.yaml", sound, "inner/hidden-gate.yaml", sound))
	assert.Contains(t, list.Error(), "a workspace stands inside this workspace")
	assert.Contains(t, errorsOf(t, workspace("hidden-gate.yaml", "hidden-gate: 1\ntimezone: Atlantic/Azors\n")).Error(),
		"did you mean Atlantic/Azores?")
	assert.Contains(t, errorsOf(t, workspace("x.yaml", sound)).Error(), "can't be read")
	assert.Contains(t, errorsOf(t, workspace("hidden-gate.yaml", "roles: {}")).Error(), `needs the key "hidden-gate"`)

	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "outside.yaml"), []byte("roles: {}"), 0o600))
	inner := filepath.Join(dir, "in")
	require.NoError(t, os.Mkdir(inner, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(inner, "hidden-gate.yaml"), []byte(sound), 0o600))
	require.NoError(t, os.Symlink("../outside.yaml", filepath.Join(inner, "link.yaml")))
	root, err := os.OpenRoot(inner)
	require.NoError(t, err)
	defer root.Close()
	assert.Contains(t, errorsOf(t, root.FS()).Error(), "link leaves the workspace")
}

func TestLimits(t *testing.T) {
	many := "groups: {g: {members: [" + strings.Repeat("ana,", 2*MaxEntries+1) + "]}}"
	assert.Contains(t, errorsOf(t, workspace("hidden-gate.yaml", sound, "x.yaml", many)).Error(),
		"more than 100000 entries")
	huge := "# " + strings.Repeat("x", MaxFile)
	assert.Contains(t, errorsOf(t, workspace("hidden-gate.yaml", sound, "x.yaml", huge)).Error(), "more than")
	assert.NotEmpty(t, errorsOf(t, workspace("hidden-gate.yaml", sound, "x.yaml", strings.Repeat("{a: ", 20_000))))
	assert.Len(t, errorsOf(t, workspace("hidden-gate.yaml", sound, "x.yaml",
		"roles:\n"+strings.Repeat("  '!': {}\n", 2*MaxErrors))), MaxErrors)
}

func TestInventories(t *testing.T) {
	files := workspace("hidden-gate.yaml",
		sound+"inventories: [{people: p.csv}, {resources: r.ndjson}, {people: p.ndjson}, {resources: r.csv}]\n",
		"p.csv", "id,name,ends,groups,tag.team\ncai,Cai Ø,2028-01-31,crew,domes\ndee,\"Dee, D\",,,\n",
		"r.ndjson",
		"{\"at\": \"db:sky/a%41\", \"type\": \"view\", \"tags\": {\"n\": 7, \"on\": true}, \"owner\": \"cai\"}\n\n",
		"p.ndjson", `{"id": "eve", "groups": ["crew"], "status": "invited"}`,
		"r.csv", "at,owner,tag.team\ndb:sky/b,group:crew,domes\n")
	e, err := Load(files)
	require.NoError(t, err)
	assert.Equal(t, "Cai Ø", e.People["cai"].Name)
	assert.Equal(t, "domes", e.People["cai"].Tags.Get("team"))
	assert.Equal(t, "p.csv:2:1", e.People["cai"].Source.String())
	assert.Len(t, e.Groups["crew"].Members, 3)
	assert.Equal(t, "invited", e.People["eve"].Status)
	a := e.Listed(estate.Address{System: "db", Path: "sky/aA"})
	require.NotNil(t, a)
	assert.Equal(t, "view", a.Type)
	assert.Equal(t, estate.Tags{{Key: "n", Value: "7"}, {Key: "on", Value: "true"}}, a.Tags)
	assert.Equal(t, "group:crew", e.Listed(estate.Address{System: "db", Path: "sky/b"}).Owner.String())

	for _, c := range []struct{ file, text, at, message string }{
		{"p.csv", "id,naem\nx,y\n", "p.csv:1:4", `no column "naem"`},
		{"p.csv", "id,name\nx\n", "p.csv:2:1", "wrong number of fields"},
		{"p.csv", "id,id\nx,x\n", "p.csv:1:4", "occurs twice"},
		{"p.csv", "id,groups\nx,crw\n", "p.csv:2:3", `no group "crw"`},
		{"p.csv", "id,name\nana,Ana\n", "p.csv:2:1", "defined twice"},
		{"p.csv", "id,status\nx,gone\n", "p.csv:2:3", `"gone" is no status`},
		{"r.ndjson", "{\"at\": \"db:x\"}\n{\"at\": \"db:x\"}\n", "r.ndjson:2:1", "listed twice"},
		{"r.ndjson", "{\"at\": \"nowhere:x\"}\n", "r.ndjson:1:1", `no system "nowhere"`},
		{"r.ndjson", "{\"at\": \"db:x\", \"at\": \"db:y\"}\n", "r.ndjson:1:16", "occurs twice"},
		{"r.ndjson", "{\"at\": \"db:x\", \"tags\": null}\n", "r.ndjson:1:27", "missing"},
		{"r.ndjson", "{\"at\": \"db:x\"\n", "r.ndjson:1:1", "not JSON"},
		{"r.ndjson", strings.Repeat("x", MaxLine+1), "r.ndjson:1:1", "too long"},
	} {
		files := workspace("hidden-gate.yaml", sound+fmt.Sprintf("inventories: {%s: %s}\n",
			map[string]string{"p.csv": "people", "r.ndjson": "resources"}[c.file], c.file), c.file, c.text)
		list := errorsOf(t, files)
		require.Len(t, list, 1, "%s: %v", c.text, list)
		assert.Equal(t, c.at, list[0].Position.String(), c.text)
		assert.Contains(t, list[0].Message, c.message)
		if list[0].Position.Line > 0 && len(c.text) < MaxLine {
			assert.Equal(t, strings.Split(c.text, "\n")[list[0].Position.Line-1], list[0].Source)
		}
	}
}

// Entries know the bytes they stand in, so that an edit can replace them and nothing else.
func TestExtents(t *testing.T) {
	text := "# before\nroles:\n  a: {allow: all}   # beside\n  # between\n  b:\n    allow:\n    - all\n    # " +
		"inside\n    " +
		"- table.read\n\n  # after\n  é: {allow: [all,\n     table.read]}\nscopes: {x: 'db:sky', y: {in: db, type: [table, " +
		"view]}, z: \"db\"} # end\ngrants:\n  g:\n    to: ana\n    role: a\n    on:\n    - db\n"
	e, err := Load(workspace("hidden-gate.yaml", sound, "a.yaml", text))
	require.NoError(t, err)
	at := func(s estate.Source) string { return text[s.Start:s.End] }
	assert.Equal(t, "a: {allow: all}   # beside", at(e.Roles["a"].Source))
	assert.Equal(t, "b:\n    allow:\n    - all\n    # inside\n    - table.read", at(e.Roles["b"].Source))
	assert.Equal(t, "é: {allow: [all,\n     table.read]}", at(e.Roles["é"].Source))
	assert.Equal(t, "x: 'db:sky'", at(e.Scopes["x"].Source))
	assert.Equal(t, "y: {in: db, type: [table, view]}", at(e.Scopes["y"].Source))
	assert.Equal(t, "z: \"db\"", at(e.Scopes["z"].Source))
	assert.Equal(t, "g:\n    to: ana\n    role: a\n    on:\n    - db", at(e.Grants["g"].Source))
}

func TestTheOrderOfFilesChangesNothing(t *testing.T) {
	demo := starter.Demo()
	names, err := fs.Glob(demo, "*.yaml")
	require.NoError(t, err)
	reordered := fstest.MapFS{}
	for i, name := range names {
		text, err := fs.ReadFile(demo, name)
		require.NoError(t, err)
		if name != SettingsFile {
			name = fmt.Sprintf("%d/%s", len(names)-i, name)
		}
		reordered[name] = &fstest.MapFile{Data: text}
	}
	for _, name := range []string{"accounts.ndjson", "visitors.csv"} {
		text, err := fs.ReadFile(demo, name)
		require.NoError(t, err)
		reordered[name] = &fstest.MapFile{Data: text}
	}
	a, err := Load(demo)
	require.NoError(t, err)
	b, err := Load(reordered)
	require.NoError(t, err)
	require.Equal(t, a.Tree.Len(), b.Tree.Len())
	for r := range a.Tree.All() {
		assert.Equal(t, r.Address, b.Tree.At(r.Index).Address)
		assert.Equal(t, r.Tags, b.Tree.At(r.Index).Tags)
	}
	for _, s := range estate.SectionNames {
		for i, o := range a.Section(s) {
			assert.Equal(t, o.ID, b.Section(s)[i].ID)
		}
	}
}

// What can't be seen, or turns what is seen, is an error where it stands raw: in YAML, CSV and NDJSON, and in comments.
func TestHiddenCharactersAreErrors(t *testing.T) {
	const settings = "hidden-gate: 1\ninventories: [{people: p.csv}, {people: p.ndjson}, {resources: " +
		"r.ndjson}]\nsystems: {db: {kind: database}}\n"
	for _, c := range []string{"\u2028", "\u2029", "\u0085", "\r", "\u202e", "\u2066", "\u200b", "\ufeff", "\x1b", "\x7f",
		"\u061c"} {
		for name, text := range map[string]string{
			"notes.yaml": "people:\n  ana: {}\n# a note" + c + "  bo: {}\n",
			"p.csv":      "id,name\nana,Ana\nbo,B" + c + "o\n",
			"p.ndjson":   "{\"id\": \"ana\"}\n{\"id\": \"bo\", \"name\": \"B" + c + "o\"}\n",
			"r.ndjson":   "{\"at\": \"db:a\"}\n{\"at\": \"db:b\", \"tags\": {\"a\": \"B" + c + "o\"}}\n",
		} {
			files := fstest.MapFS{"hidden-gate.yaml": {Data: []byte(settings)}, "p.csv": {}, "p.ndjson": {}, "r.ndjson": {}}
			files[name] = &fstest.MapFile{Data: []byte(text)}
			_, err := Load(files)
			var list diagnostic.List
			require.ErrorAs(t, err, &list, "%s %q", name, c)
			require.Len(t, list, 1, "%s %q: %v", name, c, list)
			line, before, _ := 0, "", 0
			for n, l := range strings.Split(text, "\n") {
				if at := strings.Index(l, c); at >= 0 {
					line, before = n+1, l[:at]
				}
			}
			require.Equal(t, diagnostic.Position{File: name, Line: line, Column: len(before) + 1}, list[0].Position, "%q", c)
			require.Contains(t, list[0].Message, fmt.Sprintf("U+%04X stands here", []rune(c)[0]))
		}
	}
	// a reader cuts it within a character
	long := "id,name\n" + strings.Repeat("ana,", 1) + strings.Repeat("é", 70000) + "\n"
	_, err := Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [{people: p.csv}]\n")},
		"p.csv": {Data: []byte(long)}})
	require.NoError(t, err)
	e,
		err := Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte("\ufeffhidden-gate: 1\r\npeople: {ana: {name: " +
		"\"a\\u2028b\"}, bo: {name: न\u200dम}}\r\n")}})
	require.NoError(t, err)
	require.Equal(t, "a\u2028b", e.People["ana"].Name)
}
