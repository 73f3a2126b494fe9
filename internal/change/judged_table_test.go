package change_test

import (
	_ "embed"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
)

// The workspaces on which changes are judged, and the tables of changes. A line `RULE (WHO): what it is` names the
// rule that refuses the change, or `yours` if it is the author's; who makes it is the lead where nobody is named. Of
// the lines below it, `SECTION + ENTRY` puts an entry in, `- ID` takes the line of an entry out, and `OLD => NEW`
// replaces what stands once, with \n for a line's end.
var (
	//go:embed testdata/crew.yaml
	delegated string
	//go:embed testdata/crew.txt
	crewChanges string
	//go:embed testdata/lab.yaml
	lab string
	//go:embed testdata/lab.txt
	labChanges string
	//go:embed testdata/yard.yaml
	yard string
	//go:embed testdata/yard.txt
	yardChanges string
)

// tried is one change of a table.
type tried struct {
	rule     change.Rule // "yours" if it is the author's
	by, name string
	before   string
	edits    []edit
}

type edit struct{ old, new string }

var header = regexp.MustCompile(`^([a-z-]+)(?: \((.*)\))?: (.*)$`)

func table(t testing.TB, before, text string) (all []tried) {
	seen := map[string]bool{}
	for _, line := range strings.Split(text, "\n") {
		if m := header.FindStringSubmatch(line); m != nil {
			by := m[2]
			if by == "" {
				by = "lead"
			}
			require.False(t, seen[m[3]], m[3])
			seen[m[3]] = true
			all = append(all, tried{rule: change.Rule(m[1]), by: by, name: m[3], before: before})
			continue
		}
		if line == "" {
			continue
		}
		one := &all[len(all)-1]
		one.edits = append(one.edits, parseEdit(t, before, strings.TrimPrefix(line, "  ")))
	}
	return all
}

func parseEdit(t testing.TB, before, line string) edit {
	if id, ok := strings.CutPrefix(line, "- "); ok {
		found := regexp.MustCompile(`(?m)^  ` + regexp.QuoteMeta(id) + `: .*\n`).FindString(before)
		require.NotEmpty(t, found, line)
		return edit{found, ""}
	}
	ends := strings.NewReplacer(`\n`, "\n")
	if old, new, ok := strings.Cut(line+" ", " => "); ok {
		return edit{ends.Replace(old), ends.Replace(strings.TrimSuffix(new, " "))}
	}
	section, entry, ok := strings.Cut(line, " + ")
	require.True(t, ok, line)
	return edit{section + ":\n", section + ":\n  " + entry + "\n"}
}

// apply makes edits in turn; ok is false where one does not find what it changes.
func apply(text string, edits []edit) (_ string, ok bool) {
	for _, e := range edits {
		if strings.Count("\n"+text, "\n"+e.old) == 1 && strings.HasSuffix(e.old, ":\n") {
			text = strings.TrimPrefix(strings.Replace("\n"+text, "\n"+e.old, "\n"+e.new, 1), "\n")
			continue
		}
		if strings.Count(text, e.old) != 1 {
			return text, false
		}
		text = strings.Replace(text, e.old, e.new, 1)
	}
	return text, true
}

// changes gives all tables.
func changes(t testing.TB) []tried {
	return slices.Concat(table(t, delegated, crewChanges), table(t, lab, labChanges), table(t, yard, yardChanges))
}

// judge tells what of a change is not its author's to make.
func (c tried) judge(t testing.TB, by string) []change.Breach {
	text, ok := apply(c.before, c.edits)
	require.True(t, ok, c.name)
	_, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	require.NoError(t, err, c.name)
	return judgedFrom(t, by, c.before, text)
}

// judgedFrom tells what of a change is not its author's to make.
func judgedFrom(t testing.TB, by, before, after string) []change.Breach {
	author, err := estate.ParsePrincipal(by)
	require.NoError(t, err)
	breaches, err := change.Judge(t.Context(), estateFrom(t, before), estateFrom(t, after), author, noon)
	require.NoError(t, err)
	return breaches
}

// judged tells what of an edit of the crew's workspace, old to new text by turns, is not the author's to make.
func judged(t testing.TB, by string, texts ...string) []change.Breach {
	c := tried{name: by, before: delegated}
	for i := 0; i+1 < len(texts); i += 2 {
		c.edits = append(c.edits, edit{texts[i], texts[i+1]})
	}
	return c.judge(t, by)
}
