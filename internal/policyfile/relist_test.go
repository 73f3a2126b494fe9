package policyfile

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/estate"
)

// An inventory of which only some lines are read again says what it says as a whole.
func TestReadingSomeLinesAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.SampledFrom([]string{"people.csv", "people.ndjson"}).Draw(t, "name")
		row := rapid.Custom(func(t *rapid.T) [4]string {
			title := rapid.SampledFrom([]string{"", "A", "two\nlines", "a, comma", `a "quote"`, "line\n\"\n"}).Draw(t, "title")
			groups := rapid.SampledFrom([]string{"", "crew", "crew;others", "others"}).Draw(t, "groups")
			status := rapid.SampledFrom([]string{"active", "left"}).Draw(t, "status")
			return [4]string{fmt.Sprint("p", rapid.IntRange(0, 30).Draw(t, "id")), title, groups, status}
		})
		rows := rapid.SliceOfNDistinct(row, 0, 12, func(r [4]string) string { return r[0] })
		columns := rapid.SampledFrom([]string{"id,title,groups,status", "\ufeffid,title,groups,status",
			"id,title,groups,status,tag.x"})
		text := func(columns string, rows [][4]string) string {
			out := columns + "\n"
			if name == "people.ndjson" {
				out = ""
			}
			for _, r := range rows {
				if name == "people.ndjson" {
					groups := ""
					if r[2] != "" {
						groups = `, "groups": ["` + strings.ReplaceAll(r[2], ";", `","`) + `"]`
					}
					out += fmt.Sprintf(`{"id": %q, "title": %q, "status": %q%s}`+"\n", r[0], r[1], r[3], groups)
					continue
				}
				out += fmt.Sprintf("%s,\"%s\",%s,%s%s\n", r[0], strings.ReplaceAll(r[1], `"`, `""`), r[2], r[3],
					strings.Repeat(",", strings.Count(columns, ",")-3))
			}
			return strings.TrimRight(out, rapid.SampledFrom([]string{"", "\n"}).Draw(t, "end"))
		}
		first := rows.Draw(t, "before")
		second := rows.Draw(t, "after")
		if rapid.Bool().Draw(t, "few lines differ") {
			second = slices.Clone(first)
			if len(first) > 0 {
				at := rapid.IntRange(0, len(first)-1).Draw(t, "at")
				switch rapid.IntRange(0, 2).Draw(t, "how") {
				case 0:
					second = slices.Delete(second, at, at+1)
				case 1:
					second[at] = row.Draw(t, "other")
				default:
					second = slices.Insert(second, at, row.Draw(t, "new"))
				}
			}
		}
		files := func(text string) fstest.MapFS {
			return fstest.MapFS{
				"hidden-gate.yaml": {Data: []byte("hidden-gate: 1\ninventories: [{people: " + name + "}]\n")},
				"groups.yaml": {Data: []byte("groups: {crew: {members: [boss]}, others: {members: group:crew}}\npeople: " +
					"{boss: {}}\n")},
				name: {Data: []byte(text)},
			}
		}
		was, is := files(text(columns.Draw(t, "columns"), first)), files(text(columns.Draw(t, "columns after"), second))
		before, err := Load(was)
		require.NoError(t, err)
		want, errWant := Load(is)
		got, err := Reload(was, is, before, []string{name})
		require.Equal(t, errWant, err)
		if err != nil {
			return
		}
		require.Equal(t, slices.Sorted(maps.Keys(want.People)), slices.Sorted(maps.Keys(got.People)))
		for id, p := range want.People {
			require.True(t, p.Says(got.People[id]), id)
		}
		for _, e := range []*estate.Estate{got, before} {
			again, err := Load(map[*estate.Estate]fstest.MapFS{got: is, before: was}[e])
			require.NoError(t, err)
			for id, g := range again.Groups {
				require.ElementsMatch(t, principals(g), principals(e.Groups[id]), id)
			}
		}
	})
}

func principals(g *estate.Group) (out []string) {
	for _, m := range g.Members {
		out = append(out, m.String())
	}
	return out
}
