package splice

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const sample = `# who there is
people:
  ana: {name: Ana, tags: {team: x}}   # the first
  bo:
    name: "Bo: the second"
    tags:
      team: y     # for now
      desk: 4

  cai: {}

# what they get
grants:
  one:
    to:
      - group:crew   # all of them
      - not bo
    role: r
    on: [db, "db:*/x"]
  two: {to: ana, role: r, on: db}
`

func TestSplices(t *testing.T) {
	value := func(text string) func(*File, ...string) error {
		return func(f *File, path ...string) error {
			n, err := Value(text)
			require.NoError(t, err)
			return f.Set(n, path...)
		}
	}
	for _, c := range []struct {
		what      string
		do        func(f *File) error
		gone, new []string // lines
	}{
		{"a value in braces", func(f *File) error { return value("Anna")(f, "people", "ana", "name") },
			[]string{"  ana: {name: Ana, tags: {team: x}}   # the first"},
			[]string{"  ana: {name: Anna, tags: {team: x}}   # the first"}},
		{"a key more in braces", func(f *File) error { return value("2031-01-01")(f, "people", "ana", "ends") },
			[]string{"  ana: {name: Ana, tags: {team: x}}   # the first"},
			[]string{"  ana: {name: Ana, tags: {team: x}, ends: 2031-01-01}   # the first"}},
		{"a key more of an empty one", func(f *File) error { return value("'it: is'")(f, "people", "cai", "name") },
			[]string{"  cai: {}"}, []string{`  cai: {name: "it: is"}`}},
		{"a value on its line", func(f *File) error { return value("z")(f, "people", "bo", "tags", "team") },
			[]string{"      team: y     # for now"}, []string{"      team: z     # for now"}},
		{"a key more in a block", func(f *File) error { return value("true")(f, "people", "bo", "protected") }, nil,
			[]string{"    protected: true"}},
		{"a value that was lines", func(f *File) error { return value("{team: z}")(f, "people", "bo", "tags") },
			[]string{"    tags:", "      team: y     # for now", "      desk: 4"}, []string{"    tags: {team: z}"}},
		{"a new entry", func(f *File) error { return value("{name: Dee}")(f, "people", "dee") }, nil,
			[]string{"  dee: {name: Dee}", ""}},
		{"a new section", func(f *File) error { return value("{allow: all}")(f, "roles", "r") }, nil,
			[]string{"", "roles:", "  r: {allow: all}"}},
		{"a key less in braces", func(f *File) error { return f.Delete(0, "people", "ana", "name") },
			[]string{"  ana: {name: Ana, tags: {team: x}}   # the first"}, []string{"  ana: {tags: {team: x}}   # the first"}},
		{"the last key in braces", func(f *File) error { return f.Delete(0, "grants", "two", "on") },
			[]string{"  two: {to: ana, role: r, on: db}"}, []string{"  two: {to: ana, role: r}"}},
		{"an entry less", func(f *File) error { return f.Delete(0, "people", "ana") },
			[]string{"  ana: {name: Ana, tags: {team: x}}   # the first"}, nil},
		{"a key less in a block", func(f *File) error { return f.Delete(0, "people", "bo", "tags", "desk") },
			[]string{"      desk: 4"}, nil},
		{"another id", func(f *File) error { return f.RenameKey("bob", "people", "bo") }, []string{"  bo:"},
			[]string{"  bob:"}},
		{"an item more in lines", func(f *File) error { return f.Append(Scalar("ana"), "grants", "one", "to") }, nil,
			[]string{"      - ana"}},
		{"an item more in brackets", func(f *File) error { return f.Append(Scalar("*:x"), "grants", "one", "on") },
			[]string{`    on: [db, "db:*/x"]`}, []string{`    on: [db, "db:*/x", "*:x"]`}},
		{"an item beside a bare one", func(f *File) error { return f.Append(Scalar("bo"), "grants", "two", "to") },
			[]string{"  two: {to: ana, role: r, on: db}"}, []string{"  two: {to: [ana, bo], role: r, on: db}"}},
		{"a value with a list, among others in braces",
			func(f *File) error { return value("[a, 'b }', c]")(f, "grants", "two", "to") },
			[]string{"  two: {to: ana, role: r, on: db}"}, []string{`  two: {to: [a, "b }", c], role: r, on: db}`}},
		{"the only item", func(f *File) error { return f.Drop(0, 0, "grants", "two", "role") },
			[]string{"  two: {to: ana, role: r, on: db}"}, []string{"  two: {to: ana, on: db}"}},
		{"the first item less", func(f *File) error { return f.Drop(0, 0, "grants", "one", "to") },
			[]string{"      - group:crew   # all of them"}, nil},
		{"the last item less", func(f *File) error { return f.Drop(1, 0, "grants", "one", "on") },
			[]string{`    on: [db, "db:*/x"]`}, []string{"    on: [db]"}},
	} {
		f, err := Parse([]byte(sample))
		require.NoError(t, err)
		require.NoError(t, c.do(f), c.what)
		gone, added := difference(sample, string(f.Bytes))
		assert.Equal(t, c.gone, gone, "%s:\n%s", c.what, f.Bytes)
		assert.Equal(t, c.new, added, "%s:\n%s", c.what, f.Bytes)
	}
}

// difference gives the lines that are gone and those that are new, where all others stay in order.
func difference(old, text string) (gone, added []string) {
	a, b := strings.Split(strings.TrimSuffix(old, "\n"), "\n"), strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	if len(a) == 0 {
		a = nil
	}
	if len(b) == 0 {
		b = nil
	}
	return a, b
}

func TestSplicesIntoWhatIsHardlyThere(t *testing.T) {
	for text, want := range map[string]string{
		"":                           "roles:\n  r: {allow: all}\n",
		"# nothing yet\n":            "# nothing yet\n\nroles:\n  r: {allow: all}\n",
		"hidden-gate: 1":             "hidden-gate: 1\n\nroles:\n  r: {allow: all}\n",
		"a: {b: c}\n\n# the end\n":   "a: {b: c}\n\nroles:\n  r: {allow: all}\n\n# the end\n",
		"roles: {q: {allow: [x.y]}}": "roles: {q: {allow: [x.y]}, r: {allow: all}}",
		"roles:\r\n  q: {}\r\n":      "roles:\r\n  q: {}\r\n  r: {allow: all}\r\n",
		"roles:\n  q:\n    allow: |\n      text\n    why: x\nx: y\n": "roles:\n  q:\n    allow: |\n      text\n    " +
			"why: x\n  r: {allow: all}\nx: y\n",
	} {
		f, err := Parse([]byte(text))
		require.NoError(t, err)
		require.NoError(t, f.Set(Map(Scalar("allow"), Scalar("all")), "roles", "r"), text)
		assert.Equal(t, want, string(f.Bytes))
	}
}

func TestTextsAreWrittenSoThatTheyStayTexts(t *testing.T) {
	for _, text := range []string{"", "plain", "a: b", "*x", "&x", "yes", "null", "~", "1", "a, b",
		"[x", "x #y", "#y", " x", "'", `"`, `a"b`, "a\nb", "é", "<<", "- x", "? x", "@x",
		"%x", "`x", "x:", "a:b", "{}", "not x", "|", ">", "!x", "\x07"} {
		for _, n := range []string{Entry("k", Scalar(text), 0), "k: " + Flow(List(Scalar(text))),
			"k: " + Flow(Map(Scalar("k"), Scalar(text)))} {
			read, err := Value(n + "\n")
			require.NoError(t, err, n)
			value := read.Content[1]
			if len(value.Content) > 0 {
				value = value.Content[len(value.Content)-1]
			}
			assert.Equal(t, text, value.Value, n)
			assert.NotEqual(t, "!!null", value.Tag, n)
		}
	}
}

func TestFormIsKeptOnce(t *testing.T) {
	order := func(string) []string { return []string{"name", "to", "role", "on", "tags"} }
	for text, want := range map[string]string{
		sample: strings.Replace(sample, `"db:*/x"`, "db:*/x", 1),
		"people:\n    ana:\n        tags:  {b: c}   # x\n        # about the name\n        name:   Ana\n\n\n" +
			"    bo: {tags: {a: b}, name: Bo}\n": "people:\n" +
			"  ana:\n    # about the name\n    name: Ana\n    tags: {b: c}   # x\n\n  bo: {name: Bo, tags: {a: b}}\n",

		"grants:\n  g:\n    to:\n    - ana\n    - bo\n    role: r\n": "grants:\n  g:\n    to: [ana, bo]\n    role: r\n",
	} {
		f, err := Parse([]byte(text))
		require.NoError(t, err)
		out, err := f.Format(order)
		require.NoError(t, err, text)
		assert.Equal(t, want, string(out))
		again, err := Parse(out)
		require.NoError(t, err)
		twice, err := again.Format(order)
		require.NoError(t, err)
		assert.Equal(t, string(out), string(twice))
	}
}

// What can't be seen is written by its escape, and read back as it is.
func TestHiddenCharactersAreEscaped(t *testing.T) {
	for _, text := range []string{"a\u2028b", "a\u2029b", "a\u0085b", "a\rb", "a\u202eb", "\u200bx", "\ufeffx",
		"x\ufeff", "\x1b[31m", "\U000e0041", "\x7f"} {
		written := "k: " + Flow(Scalar(text)) + "\n" + Entry("l", Scalar(text), 0) + "\n"
		for _, r := range written {
			assert.True(t, r == '\n' || r >= ' ' && r < 0x7f, "%U", r)
		}
		n, err := Value(written)
		require.NoError(t, err)
		assert.Equal(t, text, n.Content[1].Value)
		assert.Equal(t, text, n.Content[3].Value)
	}
}

// What stands in brackets and in quotes goes as a whole, whatever is in it.
func TestAValueInBracesEndsWhereItEnds(t *testing.T) {
	for text, want := range map[string]string{
		"k: {a: [x, y], b: z}\n":            "k: {b: z}\n",
		"k: {a: {x: 1, y: [2, 3]}, b: z}\n": "k: {b: z}\n",
		`k: {a: "q\" , }", b: z}` + "\n":    "k: {b: z}\n",
		`k: {a: 'it''s , }', b: z}` + "\n":  "k: {b: z}\n",
		"k: {b: z, a: [x, y]}\n":            "k: {b: z}\n",
	} {
		f, err := Parse([]byte(text))
		require.NoError(t, err)
		require.NoError(t, f.Delete(0, "k", "a"), text)
		assert.Equal(t, want, string(f.Bytes), text)
	}
}

func TestTheOnlyItemTakesItsKeyAlong(t *testing.T) {
	f, err := Parse([]byte("k:\n  a:\n    - x\n  b: z\n"))
	require.NoError(t, err)
	require.NoError(t, f.Drop(0, 0, "k", "a"))
	assert.Equal(t, "k:\n  b: z\n", string(f.Bytes))
}

func TestWhatStoodApartIsNotTwiceAsFarApart(t *testing.T) {
	for text, want := range map[string]string{
		"a:\n  x: {}\n\n  y: {}\n\n  z: {}\n": "a:\n  x: {}\n\n  z: {}\n",
		"a:\n  x: {}\n\n  y: {}\n":            "a:\n  x: {}\n",
		"a:\n  x: |+\n    b\n\n  y: {}\n":     "a:\n  x: |+\n    b\n\n",
	} {
		f, err := Parse([]byte(text))
		require.NoError(t, err)
		require.NoError(t, f.Delete(0, "a", "y"), text)
		assert.Equal(t, want, string(f.Bytes))
	}
}

func TestTheFirstKeyInBracesGoesFromBeforeAComment(t *testing.T) {
	f, err := Parse([]byte("a: {x: 1, # one\n  y: 2}\n"))
	require.NoError(t, err)
	require.NoError(t, f.Delete(0, "a", "x"))
	assert.Equal(t, "a: { # one\n  y: 2}\n", string(f.Bytes))
}
