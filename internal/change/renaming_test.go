package change_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/starter"
)

// Every entry of the demo is given another id: that nothing else is otherwise is seen by what the files say, and comes
// to the same as holding everybody's access against each other.
func TestAnotherIdIsSeenByWhatTheFilesSay(t *testing.T) {
	files := starter.Demo()
	before, err := policyfile.Load(files)
	require.NoError(t, err)
	alone := 0
	for _, section := range estate.SectionNames {
		for _, o := range before.Section(section) {
			r := change.Renaming{Section: section, From: o.ID, To: o.ID + "-again"}
			d := draft.New(files, before)
			mentions, err := d.Mentions(section, r.From)
			require.NoError(t, err)
			if o.Source.File == "" || d.Redirect(section, r.From, r.To, mentions) != nil ||
				d.Rename(section, r.From, r.To) != nil {
				continue
			}
			changes, err := d.Changes()
			require.NoError(t, err)
			var names []string
			for _, c := range changes {
				names = append(names, c.Name)
			}
			after, err := policyfile.Reload(files, d.FS(), before, names)
			require.NoError(t, err)
			seen, err := change.Of(t.Context(), before, after, change.How{Since: noon, Renamed: &r})
			require.NoError(t, err)
			require.Equal(t, section != "catalogs" && section != "profiles", seen.Alone(), "%s %s", section, r.From)
			if !seen.Alone() {
				continue
			}
			alone++
			consequences, err := seen.Consequences(t.Context(), noon)
			require.NoError(t, err)
			require.Empty(t, consequences)
			told, err := change.Of(t.Context(), before, after, change.How{Since: noon})
			require.NoError(t, err)
			told.TakeForTheSame(r)
			require.True(t, told.Empty(), "%s %s", section, r.From)
			turned, err := told.Turned(t.Context(), noon)
			require.NoError(t, err)
			for _, turn := range turned {
				require.True(t, turn.Fresh && turn.ID == r.To, "%s %s: %s %s", section, r.From, turn.What, turn.ID)
			}
		}
	}
	require.Greater(t, alone, 60)
}

func TestAnotherIdAndMoreIsLookedAt(t *testing.T) {
	for name, edits := range map[string][]string{
		"somebody else comes in":     {"groups: {crew: {members: [ana,", "groups: {staff: {members: [ana, eve,"},
		"a group stays named":        {"groups: {crew:", "groups: {crew-2: {members: [ana, bo]}, staff:"},
		"a condition goes":           {"groups: {crew:", "groups: {staff:", ", when: {network: 10.0.0.0/8}", ""},
		"a resource comes":           {"groups: {crew:", "groups: {staff:", "sky/d: {}", "sky/d: {}, sky/e: {}"},
		"a resource has another tag": {"groups: {crew:", "groups: {staff:", "sky/d: {}", "sky/d: {tags: {x: y}}"},
	} {
		edits = append(edits, "to: group:crew", "to: group:staff")
		if name == "a group stays named" {
			edits[len(edits)-1] = "to: [group:staff, group:crew-2]"
		}
		_, e := toldOf(t, &change.Renaming{Section: "groups", From: "crew", To: "staff"}, edits...)
		assert.False(t, e.Alone(), name)
	}
	_, e := toldOf(t, &change.Renaming{Section: "groups", From: "crew", To: "staff"}, "groups: {crew:", "groups: {staff:",
		"to: group:crew", "to: group:staff")
	assert.True(t, e.Alone())
}

// A pattern can fit one id of a system and not the other.
func TestPatternsTellASystemsIdsApart(t *testing.T) {
	for pattern, alone := range map[string]bool{"d*:sky/a": false, "*b*:sky/a": true, "*:sky/a": true, "x*:sky/a": true} {
		before := estateOf(t, editedText(t, `on: "db:sky/a"`, `on: "`+pattern+`"`))
		after := estateOf(t, editedText(t, `on: "db:sky/a"`, `on: "`+pattern+`"`, "  db: {", "  zb: {", "on: db,", "on: zb,"))
		e, err := change.Of(t.Context(), before, after, change.How{Since: noon,
			Renamed: &change.Renaming{Section: "systems", From: "db", To: "zb"}})
		require.NoError(t, err)
		assert.Equal(t, alone, e.Alone(), pattern)
		assert.Equal(t, alone, e.Empty(), pattern)
	}
	for _, entry := range []string{
		`tests: {t: {who: ana, denied: "table.read on %s:sky/a"}}`,
		`tests: {t: {levels: {ana: {"%s:sky/a": none}}}}`,
		`guarantees: {g: {never: ana, may: table.drop, on: "%s:sky/a"}}`,
		`blocks: {b: {deny: table.drop, on: "%s:sky/z"}}`,
		`scopes: {s: {in: "%s:sky/a", tags: {x: y}}}`,
		`delegations: {d: {to: ana, on: "%s:sky/a", may-grant: reader}}`,
	} {
		for pattern, alone := range map[string]bool{"d*": false, "*b": true} {
			more := fmt.Sprintf(entry, pattern) + "\n"
			e, err := change.Of(t.Context(), estateOf(t, small+more),
				estateOf(t, editedText(t, `on: "db:sky/a"`, `on: "zb:sky/a"`, "  db: {", "  zb: {", "on: db,", "on: zb,")+more),
				change.How{Since: noon, Renamed: &change.Renaming{Section: "systems", From: "db", To: "zb"}})
			require.NoError(t, err)
			assert.Equal(t, alone, e.Alone(), more)
		}
	}
}

// What inventories list is held against what they listed, under the ids that systems and owners have now.
func TestAnotherIdInAnInventory(t *testing.T) {
	lines := `{"at": "db:x", "owner": "group:crew"}` + "\n" + `{"at": "db:x/y", "tags": {"a": "b"}}` + "\n"
	load := func(edits ...string) *estate.Estate {
		edit := strings.NewReplacer(edits...)
		e, err := policyfile.Load(fstest.MapFS{
			"hidden-gate.yaml": {Data: []byte(edit.Replace("inventories: [{resources: a.ndjson}]\n" + small))},
			"a.ndjson":         {Data: []byte(edit.Replace(lines))}})
		require.NoError(t, err)
		return e
	}
	group := []string{"crew:", "staff:", "group:crew", "group:staff"}
	crew := change.Renaming{Section: "groups", From: "crew", To: "staff"}
	db := change.Renaming{Section: "systems", From: "db", To: "zb"}
	for name, c := range map[string]struct {
		renaming change.Renaming
		edits    []string
		alone    bool
	}{
		"a group that owns":        {crew, group, true},
		"a system":                 {db, []string{"db", "zb"}, true},
		"a resource has other tag": {db, []string{"db", "zb", `"b"}`, `"c"}`}, false},
		"a resource is elsewhere":  {db, []string{"db", "zb", "x/y", "x/z"}, false},
		"another owns":             {crew, append([]string{`"group:crew"`, `"group:others"`}, group...), false},
	} {
		e, err := change.Of(t.Context(), load(), load(c.edits...), change.How{Since: noon, Renamed: &c.renaming})
		require.NoError(t, err)
		assert.Equal(t, c.alone, e.Alone(), name)
	}
}
