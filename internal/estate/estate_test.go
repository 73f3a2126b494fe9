package estate

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestAddresses(t *testing.T) {
	for text, want := range map[string]string{
		"obsdb":              "obsdb",
		"obsdb:sky/a":        "obsdb:sky/a",
		"obsdb:sky/%61":      "obsdb:sky/a",
		"obsdb:a%2fb":        "obsdb:a%2Fb",
		"obsdb:a%2Ab%25":     "obsdb:a%2Ab%25",
		"obsdb:%C3%A9":       "obsdb:é",
		"obsdb:with a space": "obsdb:with a space",
		"obsdb:x:y":          "obsdb:x:y",
	} {
		a, err := ParseAddress(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, a.String())
	}
	for _, text := range []string{"", ":x", "obsdb:", "obsdb:a//b", "obsdb:/a", "obsdb:a/", "obsdb:.", "obsdb:a/..",
		"obsdb:%2E%2e", "obsdb:%", "obsdb:%4", "obsdb:%zz",
		"obsdb:%00", "obsdb:a\nb", "obsdb:%ff", "obsdb:*", "*", "everything", "scope:x", "a b:c"} {
		_, err := ParseAddress(text)
		assert.Error(t, err, text)
	}
}

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		pattern string
		covers  []string
		not     []string
	}{
		{"obsdb", []string{"obsdb", "obsdb:sky", "obsdb:sky/a"}, []string{"obsdb2", "reduce"}},
		{"obsdb:sky", []string{"obsdb:sky", "obsdb:sky/a"}, []string{"obsdb", "obsdb:skyline", "obsdb:sky-2"}},
		{"obsdb:*/frames-*", []string{"obsdb:sky/frames-1", "obsdb:x/frames-/y"},
			[]string{"obsdb:frames-1", "obsdb:a/b/frames-1"}},
		{"reduce:**/secrets", []string{"reduce:secrets", "reduce:a/secrets", "reduce:a/b/secrets/c"},
			[]string{"reduce:a", "reduce:secrets2"}},
		{"*:a", []string{"x:a", "yy:a/b"}, []string{"x", "x:b"}},
		{"ob*db", []string{"obsdb", "obdb:x"}, []string{"ob", "sdb"}},
		{"obsdb:**", []string{"obsdb", "obsdb:a"}, []string{"x"}},
		{"obsdb:a%2Fb", []string{"obsdb:a%2fb/c"}, []string{"obsdb:a/b"}},
		{"obsdb:*a*", []string{"obsdb:bab", "obsdb:a"}, []string{"obsdb:b", "obsdb:b/a"}},
	} {
		p, err := ParsePattern(c.pattern)
		require.NoError(t, err)
		for _, text := range c.covers {
			a, err := ParseAddress(text)
			require.NoError(t, err)
			assert.True(t, p.Covers(a, false), "%s covers %s", c.pattern, text)
		}
		for _, text := range c.not {
			a, err := ParseAddress(text)
			require.NoError(t, err)
			assert.False(t, p.Covers(a, false), "%s does not cover %s", c.pattern, text)
		}
	}
	p, err := ParsePattern("dish:Slot/*X")
	require.NoError(t, err)
	a, err := ParseAddress("dish:sLOT/ax/b")
	require.NoError(t, err)
	assert.False(t, p.Covers(a, false))
	a.Path = Fold(a.Path)
	assert.True(t, p.Covers(a, true))
	_, err = ParsePattern("obsdb:a**b")
	assert.Error(t, err)
}

// What is worked out for a term is kept under what it says, so a hostile text must not make it read like another.
func TestNoTwoTermsReadAlike(t *testing.T) {
	texts := []string{"a", "b", "a, b: b", "a, b: a", "a], b: [a", "a: b", `"a"`, "a}, exactly: true", " a", "[a, b]"}
	var lists [][]string
	for _, one := range texts {
		lists = append(lists, []string{one})
		for _, other := range texts {
			lists = append(lists, []string{one, other})
		}
	}
	written := map[string]ResourceTerm{}
	add := func(in string, tags ...Match) {
		for _, exactly := range []bool{false, true} {
			term := ResourceTerm{Exactly: exactly, Tags: tags}
			if in != "" {
				term.In = &Pattern{System: "db", Segments: []string{in}}
			}
			other, seen := written[term.String()]
			require.False(t, seen, "%#v reads like %#v: %s", term, other, term)
			written[term.String()] = term
		}
	}
	for _, values := range lists {
		add("", Match{"a", values})
		add("", Match{"a: b, b", values})
		for _, more := range lists {
			add("", Match{"a", values}, Match{"b", more})
		}
		for _, in := range append(texts, "a, tags: {a: a}") {
			add(in, Match{"a", values})
		}
	}
}

func TestGlobIsNothingButStars(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`[a-c.]{0,8}`).Draw(t, "text")
		pattern := ""
		for i := 0; i < len(text); { // take runs of the text away and put stars in their place
			n := rapid.IntRange(1, 3).Draw(t, "run")
			part := text[i:min(i+n, len(text))]
			if rapid.Bool().Draw(t, "star") {
				part = "*"
			}
			pattern += part
			i += n
		}
		assert.True(t, Glob(pattern, text), "%q fits %q", pattern, text)
		assert.Equal(t, pattern == text || strings.Contains(pattern, "*") && Glob(pattern, text+"z"),
			Glob(pattern, text+"z") || pattern == text)
	})
	assert.False(t, Glob("a.c", "abc"))
	assert.False(t, Glob("", "a"))
	assert.True(t, Glob("*", ""))
}

func TestOperationTerms(t *testing.T) {
	read, drop := &Operation{Name: "table.read", Level: Use, Edition: 1},
		&Operation{Name: "table.drop", Level: Change, Edition: 2}
	fits := func(text string, o *Operation) bool {
		term, err := ParseOperationTerm(text)
		require.NoError(t, err)
		assert.Equal(t, text, term.String())
		return term.Fits(o, 1)
	}
	for text, want := range map[string]bool{"table.read": true, "table.*": true, "*.read": true, "all": true,
		"only use": true, "only view": false, "up to use": true, "up to view": false,
		"from use": true, "from view": true, "from change": false, "not table.read": true, "t*d": true, "read*": false} {
		assert.Equal(t, want, fits(text, read), text)
	}
	for _, text := range []string{"all", "table.*", "from view", "only change"} {
		assert.False(t, fits(text, drop), "an operation of a newer edition joins %s", text)
	}
	assert.True(t, fits("table.drop", drop))
	for _, text := range []string{"use", "table", "only", "from read", "Table.read", "table..read", "[a].b*"} {
		_, err := ParseOperationTerm(text)
		assert.Error(t, err, text)
	}
}

func TestHours(t *testing.T) {
	minutes := func(list ...string) [][2]int {
		var hours []Hours
		for _, text := range list {
			h, err := ParseHours(text)
			require.NoError(t, err)
			hours = append(hours, h)
		}
		return WeekMinutes(hours)
	}
	assert.Equal(t, [][2]int{{420, 1140}}, minutes("mon 07:00-19:00"))
	assert.Equal(t, [][2]int{{0, 60}, {6*1440 + 1380, 7 * 1440}}, minutes("sun 23:00-01:00"))
	assert.Equal(t, [][2]int{{0, 7 * 1440}}, minutes("00:00-24:00"))
	assert.Equal(t, [][2]int{{0, 1440}, {5 * 1440, 7 * 1440}}, minutes("sat-mon 00:00-24:00"))
	assert.Equal(t, [][2]int{{60, 180}}, minutes("mon 01:00-02:00", "mon 02:00-03:00"))
	assert.Equal(t, [][2]int{{1380, 1440}}, minutes("mon 23:00-00:00"))
	for _, text := range []string{"", "mon", "07:00", "7:00-8:00", "mon 07:00-07:00", "24:00-06:00", "00:00-24:01",
		"07:60-08:00", "mon tue 07:00-08:00", "day 07:00-08:00", "mon- 07:00-08:00", "00:00-00:00"} {
		_, err := ParseHours(text)
		assert.Error(t, err, text)
	}
}

func TestIDs(t *testing.T) {
	for _, id := range []string{"a", "ines.okafor", "a@b-c_d.e", "7", "João", strings.Repeat("x", 128)} {
		assert.NoError(t, CheckID(id), id)
	}
	for _, id := range []string{"", "-a", ".a", "a b", "a/b", "a:b", "a*", "everyone", "not", "group", "a\x00", "a\u0301",
		strings.Repeat("x", 129), "\xff"} {
		assert.Error(t, CheckID(id), id)
	}
}
