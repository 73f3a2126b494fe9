package policyfile

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/estate"
)

// Inventories of resources of which only some lines are read again list what they list as a whole.
func TestReadingSomeResourcesAgain(t *testing.T) {
	again := 0
	line := rapid.Custom(func(t *rapid.T) string {
		one := func(of ...string) string { return rapid.SampledFrom(of).Draw(t, "of") }
		segments := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "b-1", "C"}), 1, 4).Draw(t, "path")
		out := `{"at": "` + one("db", "box", "db") + ":" + strings.Join(segments, "/") + `"`
		out += one("", "", `, "tags": {"x": "1"}`, `, "tags": {"x": ""}`, `, "tags": {"y": "2", "x": "3"}`)
		out += one("", "", `, "owner": "boss"`, `, "owner": ""`, `, "owner": "group:crew"`, `, "type": "schema"`)
		return out + rapid.SampledFrom([]string{"}", "}", "}", "}", "}", "}", `, "title": "T"}`, " }", "}\n"}).Draw(t, "end")
	})
	lines := rapid.SliceOfN(line, 1, 10)
	rapid.Check(t, func(t *rapid.T) {
		distinct := func(list []string) []string { // but for some that are wrong
			var out []string
			for _, l := range list {
				id, _, _ := strings.Cut(l, ",")
				if !slices.ContainsFunc(out, func(o string) bool {
					return strings.HasPrefix(o, strings.TrimRight(id, " }\n")+`"`) ||
						strings.HasPrefix(o, strings.TrimRight(id, " }\n"))
				}) || rapid.IntRange(0, 40).Draw(t, "twice") == 0 {
					out = append(out, l)
				}
			}
			return out
		}
		first := distinct(append([]string{`{"at": "db:first"}`}, lines.Draw(t, "before")...))
		second := slices.Clone(first)
		for range rapid.IntRange(1, 2).Draw(t, "changes") {
			at := rapid.IntRange(0, len(second)-1).Draw(t, "at")
			switch rapid.IntRange(0, 2).Draw(t, "how") {
			case 0:
				second = slices.Delete(second, at, at+1)
			case 1:
				second[at] = line.Draw(t, "other")
			default:
				second = slices.Insert(second, at, lines.Draw(t, "new")...)
			}
			if second = distinct(second); len(second) == 0 {
				second = []string{`{"at": "db:last"}`}
			}
		}
		other := lines.Draw(t, "other inventory")
		ends := rapid.SampledFrom([]string{"", "\n"})
		listed := rapid.Custom(func(t *rapid.T) string {
			one := func(of ...string) string { return rapid.SampledFrom(of).Draw(t, "of") }
			return one("b/C/b", "a", "b", "q/q", "q", "a/b/a") + ": " +
				one("{}", `{tags: {y: "9"}}`, `{tags: {y: "8"}, title: Y}`, "{owner: boss}", "{type: table}", `{owner: ""}`)
		})
		systems := func() string {
			path := func(s string) string { return strings.Split(s, ":")[0] }
			list := rapid.SliceOfNDistinct(listed, 0, 3, path).Draw(t, "resources")
			one := func(of ...string) string { return rapid.SampledFrom(of).Draw(t, "of") }
			return "systems:\n  db: {" + one("", "", "", "title: D, ", "unlisted: judge, ") + one("", "", "", "\n\n    ") +
				`kind: database, tags: {x: ` + one(`"0"`, `"0"`, `"0"`, `"1"`) + "}, resources: {" +
				strings.Join(list, ", ") + "}}\n" +
				one("", "", "  app: {kind: application}\n", "  bad: {kind: none}\n", "  app: {kind: server, owner: none}\n",
					"  app: {kind: application, owner: boss, resources: {a/b: {}, a: {tags: {x: \"1\"}}}}\n",
					"  zoo: {kind: database, resources: {a/b: {}}}\n", "  dc: {kind: server, tags: {y: \"1\"}}\n") +
				"  box: {kind: server" + one("", "", ", owner: boss") + "}\npeople: {boss: {}}\ngroups: {crew: {}}\n"
		}
		files := func(list []string, end string) fstest.MapFS {
			return fstest.MapFS{
				"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [{resources: a.ndjson}, {resources: b.ndjson}]\n")},
				"systems.yaml":     {Data: []byte(systems())},
				"a.ndjson":         {Data: []byte(strings.Join(list, "\n") + end)},
				"b.ndjson":         {Data: []byte(strings.Join(distinct(other), "\n"))},
			}
		}
		was := files(first, ends.Draw(t, "end"))
		is := files(second, ends.Draw(t, "end"))
		is["b.ndjson"] = was["b.ndjson"]
		changed := []string{"a.ndjson", "systems.yaml"}
		if k := rapid.IntRange(0, 3).Draw(t, "what changes"); k < 2 {
			is[changed[k]] = was[changed[k]]
			changed = changed[1-k : 2-k]
		}
		if rapid.IntRange(0, 5).Draw(t, "rename") == 0 {
			changed = []string{"a.ndjson", "b.ndjson", "systems.yaml"}
			for _, name := range changed {
				text := strings.ReplaceAll(string(was[name].Data), "box:", "bix:")
				is[name] = &fstest.MapFile{Data: []byte(text)}
			}
		}
		before, err := Load(was)
		if err != nil {
			return
		}
		told := describe(before)
		want, errWant := Load(is)
		got, err := Reload(was, is, before, changed)
		require.Equal(t, errWant, err)
		require.Equal(t, told, describe(before))
		if err != nil {
			return
		}
		if reload(was, is, before, changed) != nil {
			again++
		}
		require.Equal(t, describe(want), describe(got))
		same := func(a, b *estate.Entry) bool { return a.Source == b.Source }
		require.True(t, got.Tree.ListsAs(want.Tree, same))
		for r := range want.Tree.All() {
			require.Equal(t, r.Index, got.Tree.Find(r.Address.String()))
			require.Equal(t, want.Tree.End(r.Index), got.Tree.End(r.Index))
		}
		for r := range before.Tree.All() {
			require.Equal(t, want.Tree.Find(r.Address.String()), got.Tree.Find(r.Address.String()), r.Address)
		}
		differs, all := want.Tree.DiffersFrom(before.Tree, 100)
		require.True(t, all)
		for _, trees := range [][2]*estate.Tree{{want.Tree, before.Tree}, {before.Tree, want.Tree}} {
			for r := range trees[0].All() {
				o := trees[1].Find(r.Address.String())
				is := o >= 0 && fmt.Sprint(trees[1].At(o).Type, trees[1].At(o).Tags, trees[1].At(o).Owner) ==
					fmt.Sprint(r.Type, r.Tags, r.Owner)
				in := slices.ContainsFunc(differs, func(a estate.Address) bool { return r.Address.Inside(a) })
				require.True(t, is || in, "%s differs", r.Address)
				if slices.Contains(differs, r.Address) {
					require.False(t, is, "%s does not differ", r.Address)
				}
			}
		}
	})
	if !testing.Short() { // which draws few
		require.Greater(t, again, 2, "nothing was read again in part")
	}
}

// Lines and entries that stand elsewhere than before are told where they stand now.
func TestWhatStandsBehindAChangeIsToldWhereItStands(t *testing.T) {
	const systems = "people: {boss: {}}\ngroups: {crew: {}}\n" +
		"systems:\n  db: {kind: database, resources: {a/b: {}, q: {}}}\n"
	lines := []string{"first", "a/b/c", "k", "m", "m/n"}
	files := func(systems string, lines []string) fstest.MapFS {
		list := ""
		for _, l := range lines {
			list += `{"at": "db:` + l + "\"}\n"
		}
		return fstest.MapFS{"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [{resources: a.ndjson}]\n")},
			"systems.yaml": {Data: []byte(systems)}, "a.ndjson": {Data: []byte(list)}}
	}
	for _, other := range []string{systems, strings.Replace(systems, "  db", "\n\n  db", 1),
		strings.Replace(systems, "q: {}", "a: {tags: {x: y}}", 1), strings.Replace(systems, "a/b: {}, ", "", 1)} {
		for at := range lines[1:] {
			for _, now := range [][]string{lines, slices.Delete(slices.Clone(lines), at+1, at+2),
				slices.Insert(slices.Clone(lines), at+1, "new", "new/one")} {
				was, is := files(systems, lines), files(other, now)
				before, err := Load(was)
				require.NoError(t, err)
				want, err := Load(is)
				require.NoError(t, err)
				got := reload(was, is, before, []string{"systems.yaml", "a.ndjson"})
				require.NotNil(t, got, "it was read as a whole")
				require.Equal(t, describe(want), describe(got))
			}
		}
	}
}

// What all in a large system inherits can be said otherwise, and the system can get another id.
func TestReadingALargeSystemAgain(t *testing.T) {
	files := func(id, site string) fstest.MapFS {
		list := strings.Builder{}
		list.WriteString("{\"at\": \"app:first\"}\n")
		for k := range 48_000 { // more of the system than are read at once, among others
			if k%5 > 0 {
				fmt.Fprintf(&list, "{\"at\": \"app:a/%05d\"}\n", k)
				continue
			}
			fmt.Fprintf(&list, "{\"at\": \"%s:a/%05d\", \"tags\": {\"%s\": \"1\"}}\n", id, k, strings.Repeat("x", 60+k%60))
		}
		return fstest.MapFS{"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [{resources: a.ndjson}]\n")},
			"systems.yaml": {Data: []byte("systems:\n  " + id + ": {kind: database, tags: {site: " + site + "}}\n" +
				"  app: {kind: application}\n")},
			"a.ndjson": {Data: []byte(list.String())}}
	}
	was := files("db", "base")
	before, err := Load(was)
	require.NoError(t, err)
	for _, is := range []fstest.MapFS{files("db", "summit"), files("mart", "base"), files("mart", "summit")} {
		changed := []string{"systems.yaml"}
		if string(is["a.ndjson"].Data) != string(was["a.ndjson"].Data) {
			changed = append(changed, "a.ndjson")
		}
		want, err := Load(is)
		require.NoError(t, err)
		got := reload(was, is, before, changed)
		require.NotNil(t, got)
		require.True(t, got.Tree.ListsAs(want.Tree, func(a, b *estate.Entry) bool { return a.Source == b.Source }))
		for row := range want.Tree.Len() {
			file, line := want.Tree.Line(row)
			there, at := got.Tree.Line(row)
			require.True(t, file == there && line == at, want.Tree.Address(row))
		}
	}
}

// A line among those that differ, which says the same, is still there, and inherits what is said otherwise above it.
func TestLinesAmongThoseThatDifferStay(t *testing.T) {
	files := func(tag string) fstest.MapFS {
		return fstest.MapFS{
			"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\nsystems: {db: {kind: database}}\n" +
				"inventories: [{resources: a.ndjson}]\n")},
			"a.ndjson": {Data: []byte(`{"at": "db:first"}` + "\n" + `{"at": "db:a", "tags": {"x": "` + tag + `"}}` + "\n" +
				`{"at": "db:a/b"}` + "\n" + `{"at": "db:c", "tags": {"x": "` + tag + `"}}` + "\n")}}
	}
	was, is := files("1"), files("2")
	before, err := Load(was)
	require.NoError(t, err)
	got := reload(was, is, before, []string{"a.ndjson"})
	require.NotNil(t, got)
	row := got.Tree.Find("db:a/b")
	require.GreaterOrEqual(t, row, 0)
	require.Equal(t, estate.Tags{{Key: "x", Value: "2"}}, got.Tree.At(row).Tags)
	_, line := got.Tree.Line(row)
	require.Equal(t, 3, line)
}
