package draft

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
	"pgregory.net/rapid"

	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// People of YAML, CSV and NDJSON are changed at random; what is read then is what a plain map of them says, and files
// that nobody changed are as they were.
func TestChangesOfPeopleAreReadAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		files := fstest.MapFS{
			"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [{people: c.csv}, {people: n.ndjson}]\n")},
			"y.yaml": {Data: []byte("people:\n  y0: {name: Yo}   # kept\n  y1:\n    name: Yves\n    # about the " +
				"end\n    ends: 2030-01-01\n  y2: {}\n")},
			"c.csv": {Data: []byte("id,name,tag.team\r\nc0,\"Ci, the 0\",x\r\nc1,,\r\n\"c2\",\"a \"\"b\"\"\",y\r\n")},
			"n.ndjson": {Data: []byte("{\"id\": \"n0\", \"name\": \"En\", \"tags\": {\"team\": " +
				"\"x\"}}\n{\"name\":\"Enn\",\"id\":\"n1\"}\n{\"id\":\"n2\"}\n")},
		}
		e, err := policyfile.Load(files)
		require.NoError(t, err)
		d := New(files, e)
		model := map[string]map[string]string{}
		for id, s := range e.People {
			model[id] = map[string]string{"name": s.Name, "email": s.Email, "team": s.Tags.Get("team")}
			if s.Ends != nil {
				model[id]["ends"] = s.Ends.Text
			}
		}
		touched := map[string]bool{}
		for range rapid.IntRange(1, 6).Draw(t, "edits") {
			id := rapid.SampledFrom([]string{"y0", "y1", "y2", "c0", "c1", "c2", "n0", "n1", "n2"}).Draw(t, "id")
			person, there := model[id]
			if !there {
				continue
			}
			touched[map[byte]string{'y': "y.yaml", 'c': "c.csv", 'n': "n.ndjson"}[id[0]]] = true
			key := rapid.SampledFrom([]string{"name", "email", "ends", "team", "", "gone"}).Draw(t, "key")
			text := rapid.SampledFrom([]string{"plain", "with, comma", `with "quotes"`, "a: b", "*star", "yes", "12",
				"é"}).Draw(t, "text")
			switch key {
			case "gone":
				require.NoError(t, d.Remove("people", id))
				delete(model, id)
			case "team":
				require.NoError(t, d.Set("people", id, "tags", splice.Map(splice.Scalar("team"), splice.Scalar(text))))
				person["team"] = text
			case "ends":
				require.NoError(t, d.Set("people", id, "ends", splice.Scalar("2031-06-30")))
				person["ends"] = "2031-06-30"
			case "":
				require.NoError(t, d.Set("people", id, "name", nil))
				person["name"] = ""
			default:
				require.NoError(t, d.Set("people", id, key, splice.Scalar(text)))
				person[key] = text
			}
		}
		for _, c := range changesOf(t, d) {
			require.True(t, touched[c.Name], c.Name)
		}
		after, err := policyfile.Load(d.FS())
		require.NoError(t, err, "%s", said(d))
		got := map[string]map[string]string{}
		for id, s := range after.People {
			got[id] = map[string]string{"name": s.Name, "email": s.Email, "team": s.Tags.Get("team")}
			if s.Ends != nil {
				got[id]["ends"] = s.Ends.Text
			}
		}
		require.Equal(t, model, got, "%s", said(d))
		if _, there := model["y0"]; there {
			require.Contains(t, said(d)+string(files["y.yaml"].Data), "# kept")
		}
	})
}

func said(d *Draft) string {
	var b strings.Builder
	all, _ := d.Changes()
	for _, c := range all {
		fmt.Fprintf(&b, "%s:\n%s\n", c.Name, c.New)
	}
	return b.String()
}

func TestWhatCanNotBeAddedIsRefused(t *testing.T) {
	files := fstest.MapFS{"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\npeople: {ana: {}}\nsystems: {db: {kind: " +
		"database, resources: {a: {}}}}\n")}}
	e, err := policyfile.Load(files)
	require.NoError(t, err)
	for name, c := range map[string]struct{ section, id, into, want string }{
		"an id that is taken":        {"people", "ana", "", "exists already"},
		"a word of the notations":    {"people", "everyone", "", "word of the notations"},
		"a file outside":             {"people", "bo", "../x.yaml", "no file of the workspace"},
		"a file that is not read":    {"people", "bo", "x.txt", "would not be read"},
		"a resource that is listed":  {"resources", "db:a", "", "listed already"},
		"a resource in no system":    {"resources", "web:a", "", "no system"},
		"a system as a resource":     {"resources", "db", "", "is a system"},
		"a sheet that is none":       {"resources", "db:b", "hidden.csv", "not exist"},
		"an address that is no such": {"resources", "db:a//b", "", "empty"},
	} {
		err := New(files, e).Add(c.section, c.id, splice.Map(), c.into)
		require.ErrorContains(t, err, c.want, name)
	}
	d := New(files, e)
	require.ErrorContains(t, d.Rename("people", "ana", "no good"), "may not contain")
	require.Empty(t, changesOf(t, d), "a refusal changes nothing")
}

func changesOf(t require.TestingT, d *Draft) []Change {
	all, err := d.Changes()
	require.NoError(t, err)
	return all
}

// A line that an edit of another touches is seen, and nothing is written.
func TestASheetIsProved(t *testing.T) {
	text := []byte("{\"id\": \"a\"}\n{\"id\": \"b\"}\n")
	for after, sound := range map[string]bool{
		"{\"id\": \"a\", \"name\": \"x\"}\n{\"id\": \"b\"}\n": true,
		"{\"id\": \"a\"}\n{\"id\": \"b\", \"name\": \"x\"}\n": false,
		"{\"id\": \"b\"}\n": true, "{\"id\": \"a\"\n{\"id\": \"b\"}\n": false, "{\"id\": \"a\"}\n": false,
		"{\"id\": \"a\"}\n{\"id\": \"b\"}\n{\"id\": \"c\"}\n": false,
	} {
		s := &jsonSheet{name: "x", old: text, text: []byte(after), touched: map[string]bool{"a": true}}
		require.Equal(t, sound, s.proved() == nil, after)
	}
	s, err := newCSV("x", []byte("id,name\na,A\nb,B\n"))
	require.NoError(t, err)
	require.NoError(t, s.proved())
	s.lines[1].text = []byte("a,\"A\nb,B\"\n")
	require.Error(t, s.proved())
}

func draftOf(t *testing.T, files fstest.MapFS) *Draft {
	e, err := policyfile.Load(files)
	require.NoError(t, err)
	return New(files, e)
}

func textOf(t *testing.T, d *Draft, name string) string {
	changes, err := d.Changes()
	require.NoError(t, err)
	for _, c := range changes {
		if c.Name == name {
			return string(c.New)
		}
	}
	return "unchanged"
}

func TestLinesOfCSVKeepTheirForm(t *testing.T) {
	files := fstest.MapFS{
		"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [{people: p.csv}]\n")},
		"p.csv":            {Data: []byte("id,name,tag.team,tag.site\r\nana,Ana,x,ridge\r\nben,Ben,y,")},
	}
	d := draftOf(t, files)
	require.NoError(t, d.Set("people", "ana", "tags", splice.Map(splice.Scalar("team"), splice.Scalar("z"))))
	require.Equal(t, "id,name,tag.team,tag.site\r\nana,Ana,z,\r\nben,Ben,y,", textOf(t, d, "p.csv"),
		"a tag that is not named any more is cleared")
	require.NoError(t, d.Add("people", "cara", splice.Map(splice.Scalar("name"), splice.Scalar("Cara")), "p.csv"))
	require.Equal(t, "id,name,tag.team,tag.site\r\nana,Ana,z,\r\nben,Ben,y,\r\ncara,Cara,,\r\n", textOf(t, d, "p.csv"))
}

func TestAnEntryGoesWithTheLastOfWhatItNeeds(t *testing.T) {
	files := fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
systems: {db: {kind: database}}
people: {ana: {}, ben: {}}
groups: {crew: {members: ben}}
roles: {look: {allow: up to view}}
grants:
  alone: {to: [group:crew, not ben], role: look, on: db}
  more: {to: [group:crew, ana], role: look, on: db}
tests:
  both: {who: ben, allowed: table.read on db, levels: {ana: {db: none}}}
  one: {levels: {ana: {db: none}}}
`)}}
	left := func(section, id string) (gone []string, text string) {
		d := draftOf(t, files)
		mentions, err := d.Mentions(section, id)
		require.NoError(t, err)
		whole, err := d.RemoveWith(section, id, mentions)
		require.NoError(t, err)
		for _, m := range whole {
			gone = append(gone, m.Section+" "+m.ID)
		}
		return gone, textOf(t, d, "hidden-gate.yaml")
	}
	gone, text := left("groups", "crew")
	require.Equal(t, []string{"grants alone"}, gone, "a list of `not` entries alone gathers nobody")
	require.Contains(t, text, "more: {to: [ana], role: look, on: db}")
	gone, text = left("people", "ana")
	require.Equal(t, []string{"tests one"}, gone, "a test that expects something else stays")
	require.Contains(t, text, "both: {who: ben, allowed: table.read on db}")
}

// All that stands in a system goes with it, wherever it is listed, and what is of no use without it, however far that
// goes.
func TestASystemGoesWithWhatStandsInIt(t *testing.T) {
	files := fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
systems: {db: {kind: database}, dby: {kind: database}}
people: {ana: {}}
roles: {look: {allow: up to view}}
inventories: [{resources: rows.csv}, {resources: rows.ndjson}]
scopes: {whole: {resources: db}, more: {resources: [scope:whole, "dby:sky"]}}
grants:
  first: {to: ana, role: look, on: scope:whole}
  second: {to: ana, role: look, on: ["db:sky", "dby:sky"]}
`)}, "rows.csv": {Data: []byte("at,owner\ndb:sky,ana\ndby:sky,ana\ndb:sea,\n\"dby:db\",ana\n")},
		"rows.ndjson": {Data: []byte("{\"at\": \"db:sun\"}\n{\"at\": \"dby:db:x\"}\n{\"at\": \"db:moon\"}")}}
	d := draftOf(t, files)
	mentions, err := d.Mentions("systems", "db")
	require.NoError(t, err)
	whole, err := d.RemoveWith("systems", "db", mentions)
	require.NoError(t, err)
	var gone []string
	for _, m := range whole {
		gone = append(gone, m.Section+" "+m.ID)
	}
	require.Equal(t, []string{"scopes whole", "grants first"}, gone)
	require.Equal(t, "at,owner\ndby:sky,ana\n\"dby:db\",ana\n", textOf(t, d, "rows.csv"))
	require.Equal(t, "{\"at\": \"dby:db:x\"}\n", textOf(t, d, "rows.ndjson"))
	text := textOf(t, d, "hidden-gate.yaml")
	require.Contains(t, text, `more: {resources: ["dby:sky"]}`)
	require.Contains(t, text, `on: ["dby:sky"]`)
}

func TestWhatIsThereIsNotAddedAgain(t *testing.T) {
	files := fstest.MapFS{"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\npeople: {ana: {}}\ngroups: {crew: " +
		"{members: ana}, other: {}}\n")}}
	d := draftOf(t, files)
	require.NoError(t, d.Change("groups", "crew", "members", Items{Add: []*yaml.Node{splice.Scalar("ana")}}))
	require.Equal(t, "unchanged", textOf(t, d, "hidden-gate.yaml"))
	require.ErrorContains(t, d.Rename("groups", "crew", "other"), "group other exists already")
}
