package policyfile

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/estate"
)

func loadWith(inventory, name, text string) (*estate.Estate, error) {
	return Load(fstest.MapFS{
		"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [{" + inventory + ": " + name +
			"}]\nsystems: {db: {kind: database, tags: {env: prod}}, app: {kind: application}}\ngroups: {crew: {}}\npeople: " +
			"{ana: {}}")},
		name: {Data: []byte(text)},
	})
}

// describe writes out everything that was read of resources and people.
func describe(e *estate.Estate) string {
	var b strings.Builder
	for r := range e.Tree.All() {
		fmt.Fprintln(&b, r.Address, r.Type, r.Tags, r.Owner, r.Parent == nil || r.Parent == e.Tree.At(r.Parent.Index))
		if entry := e.Tree.Entry(r.Index); entry != nil {
			fmt.Fprintln(&b, entry.Source.Position, entry.Owner)
		}
	}
	for _, p := range estate.Sorted(e.People) {
		fmt.Fprintln(&b, p.ID, p.Name, p.Email, p.Status, p.Tags, p.Source.Position)
		for _, m := range []*estate.Moment{p.Starts, p.Ends, p.LastSeen} {
			fmt.Fprint(&b, m, " ")
		}
	}
	fmt.Fprintln(&b, e.Groups["crew"].Members)
	return b.String()
}

// A line read into columns means what the ordinary reader makes of it. An escape sends the line to that one.
func TestColumnsAreTheOrdinaryReading(t *testing.T) {
	type part struct{ key, value string }
	quick, wrong := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		var plain, escaped strings.Builder
		sound := rapid.Bool().Draw(t, "sound") // lines of any parts are hardly ever right together
		for i := range rapid.IntRange(1, 6).Draw(t, "lines") {
			parts := rapid.SliceOfN(rapid.SampledFrom([]part{
				{"at", `"db:sky/a"`}, {"at", `"db:sky/b"`}, {"at", `"app:x"`}, {"at", `"db"`}, {"at", `"no:x"`},
				{"at", `"db:a//b"`}, {"at", `"db:%61"`},
				{"type", `"table"`}, {"type", `"item"`}, {"type", `"T!"`}, {"tags", `{"env":"x","team":"y"}`},
				{"tags", `{"team" : ""}`}, {"tags", `{}`}, {"tags", `{"a":"1","a":"2"}`},
				{"owner", `"ana"`}, {"owner", `"group:crew"`}, {"owner", `""`}, {"owner", `"nobody"`}, {"owner", `"everyone"`},
				{"about", `"text"`}, {"color", `"red"`},
			}), 1, 4).Draw(t, "parts")
			if sound {
				parts = []part{{"at", fmt.Sprintf(`"db:sky/%d"`, i)}, rapid.SampledFrom([]part{{"type", `"table"`},
					{"tags", `{"env":"x","team":"y"}`}, {"owner", `"ana"`}, {"owner", `"group:crew"`}}).Draw(t, "more")}
			}
			var a, b []string
			for _, p := range parts {
				a = append(a, fmt.Sprintf("%q:%s", p.key, p.value))
				b = append(b, fmt.Sprintf(`"\u%04x%s":%s`, p.key[0], p.key[1:], p.value))
			}
			plain.WriteString("{" + strings.Join(a, ",") + "}\n")
			escaped.WriteString("{" + strings.Join(b, ",") + "}\n")
		}
		one, errOne := loadWith("resources", "r.ndjson", plain.String())
		two, errTwo := loadWith("resources", "r.ndjson", escaped.String())
		require.Equal(t, errTwo == nil, errOne == nil, "%s\n%v\n%v", plain.String(), errOne, errTwo)
		if errOne != nil {
			wrong++
			return
		}
		quick++
		assert.Equal(t, describe(two), describe(one), plain.String())
	})
	if !testing.Short() { // among few draws there may be none of a sort
		assert.Positive(t, quick)
		assert.Positive(t, wrong)
	}
}

// Rows of people are read alike with and without nodes: a title, which rows seldom have, sends one to the ordinary
// reader.
func TestQuickRowsAreTheOrdinaryReading(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		cell := func(name string, of ...string) string { return rapid.SampledFrom(of).Draw(t, name) }
		var quick, slow strings.Builder
		quick.WriteString("id,name,email,status,starts,ends,last-seen,groups,tag.team,tag.site,title\n")
		slow.WriteString(quick.String())
		for i := range rapid.IntRange(1, 4).Draw(t, "rows") {
			row := strings.Join([]string{
				cell("id", fmt.Sprint("p", i), fmt.Sprint("p", i), "ana", "bad id", ""), cell("name", "Ana Sol", "", "Žofie"),
				cell("email", "", "a@b.example"),
				cell("status", "", "active", "left", "asleep"), cell("starts", "", "2027-01-01", "2027-13-01"),
				cell("ends", "", "2027-01-01T10:00", "1"), cell("seen", "", "2026-01-01"),
				cell("groups", "", "crew", "crew;crew", "crew; nowhere", ";"), cell("team", "", "x", "1"), cell("site", "", "base"),
			}, ",")
			quick.WriteString(row + ",\n")
			slow.WriteString(row + ",T\n")
		}
		one, errOne := loadWith("people", "p.csv", quick.String())
		two, errTwo := loadWith("people", "p.csv", slow.String())
		require.Equal(t, errTwo == nil, errOne == nil, "%s\n%v\n%v", quick.String(), errOne, errTwo)
		if errOne == nil {
			assert.Equal(t, describe(two), describe(one), quick.String())
		} else {
			assert.Equal(t, strings.ReplaceAll(errTwo.Error(), ",T", ","), errOne.Error())
		}
	})
}

// A long inventory in any order, in several blocks, gives the tree that the sorted one gives.
func TestTheOrderOfAnInventoryChangesNothing(t *testing.T) {
	var lines []string
	for i := range 20_000 {
		lines = append(lines, fmt.Sprintf(`{"at":"db:run-%03d/part %d/frame-%05d","tags":{"n":"%d"}}`, i%300, i%7, i, i%5))
	}
	sorted, err := loadWith("resources", "r.ndjson", strings.Join(lines, "\n"))
	require.NoError(t, err)
	rand.New(rand.NewPCG(1, 2)).Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	shuffled, err := loadWith("resources", "r.ndjson", strings.Join(lines, "\r\n")+"\r\n\r\n")
	require.NoError(t, err)
	require.Equal(t, 20_000+300*7+300+2, sorted.Tree.Len())
	require.Equal(t, sorted.Tree.Len(), shuffled.Tree.Len())
	for r := range sorted.Tree.All() {
		o := shuffled.Tree.At(r.Index)
		require.Equal(t, r.Address, o.Address)
		require.Equal(t, r.Tags, o.Tags)
		if r.Parent != nil {
			require.Equal(t, r.Parent.Index, o.Parent.Index)
			up, _ := r.Address.Parent()
			require.Equal(t, up, r.Parent.Address)
		}
		require.Equal(t, r.Index, sorted.Tree.Find(r.Address.String()))
	}
	lines = append(lines, lines[7])
	_, err = loadWith("resources", "r.ndjson", strings.Join(lines, "\n"))
	require.ErrorContains(t, err, "is listed twice")
	require.ErrorContains(t, err, "r.ndjson:20001:1")
}

func TestTooManyOfAnything(t *testing.T) {
	many := func(n int, one string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, one, i)
		}
		return b.String()
	}
	_, err := Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [" +
		many(MaxListed+1, "{people: p%d.csv},") + "]")}})
	require.ErrorContains(t, err, "more than 10000 inventories")
	_, err = Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ncatalogs: {k: {types: [" +
		many(MaxTypes+1, "t%d,") + "]}}")}})
	require.ErrorContains(t, err, "more than 60000 types")
	_, err = loadWith("resources", "r.ndjson", many(MaxTypes+10, `{"at":"db:a%[1]d","type":"t%[1]d"}`+"\n"))
	require.ErrorContains(t, err, "r.ndjson:1:1: a database has no resources of type")
	_, err = loadWith("resources", "r.ndjson", `{"at":"db:a"}`+"\n"+`{"at":"db:`+strings.Repeat("x", 3<<20)+`"}`)
	require.ErrorContains(t, err, "r.ndjson:2:1")
}
