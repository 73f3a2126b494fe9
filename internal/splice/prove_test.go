package splice

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
)

// spelled writes texts and sets of keys in the many ways of YAML.
type spelled struct{ *rand.Rand }

func (s spelled) one(of ...string) string { return of[s.IntN(len(of))] }

var words = []string{"plain", "two words", "it's", "a: b", "#no", "yes", "12", "x #y", "[a", "é", "", "- x", "a,b", "{",
	"'", `"`, `\`}

// text writes a text in one of its spellings.
func (s spelled) text(inFlow bool, indent int) string {
	word := s.one(words...)
	margin := strings.Repeat(" ", indent)
	switch n := s.IntN(7); {
	case n == 0 && !inFlow && word != "":
		return s.one("|", "|-", "|+", ">", ">-") + "\n" + margin + strings.ReplaceAll(word, "\n", "\n"+margin) + "\n" +
			margin + "and more # no comment"
	case n == 1:
		return `"` + strings.ReplaceAll(strings.ReplaceAll(word, `\`, `\\`), `"`, `\"`) + "\n" + margin +
			s.one("", "\n"+margin) + `lines: of # one: text"`
	case n == 2:
		return "'" + strings.ReplaceAll(word, "'", "''") + "\n" + margin + "b: {c}'"
	case n == 3:
		return "plain\n" + margin + "over lines"
	case n == 4:
		return `"` + strings.ReplaceAll(strings.ReplaceAll(word, `\`, `\\`), `"`, `\"`) + `"`
	}
	if inFlow {
		return flowScalar(Scalar(word))
	}
	return scalar(Scalar(word))
}

// mapping writes a set of keys; depth bounds how deep it goes.
func (s spelled) mapping(depth, indent int) string {
	var b strings.Builder
	margin := strings.Repeat(" ", indent)
	for i := range 1 + s.IntN(3) {
		b.WriteString(s.comment(margin))
		key := s.one("k", "'k", `"k`) + fmt.Sprint(i)
		key += map[byte]string{'\'': "'", '"': `"`, 'k': ""}[key[0]]
		b.WriteString(margin + key + s.one(":", ":", " :"))
		switch n := s.IntN(6); {
		case n < 2 && depth > 0:
			b.WriteString(s.one("", " # of it") + "\n" + s.mapping(depth-1, indent+1+s.IntN(4)))
			continue
		case n == 2:
			b.WriteString(s.one("", " # some") + "\n")
			inner := margin + strings.Repeat(" ", s.IntN(3))
			for range 1 + s.IntN(3) {
				b.WriteString(s.comment(margin) + inner + "- " + s.text(false, len(inner)+2) + "\n")
			}
			continue
		case n == 3:
			b.WriteString(" " + s.flow(2, indent+2))
		case n == 4 && depth > 0:
			b.WriteString("\n" + margin + "  " + s.flow(1, indent+4))
		default:
			b.WriteString(" " + s.text(false, indent+2))
		}
		b.WriteString(s.one("", "", " # behind", "\t# tab") + "\n")
	}
	return b.String()
}

func (s spelled) comment(margin string) string {
	return s.one("", "", "", "\n", "# at the margin: {x}\n", margin+"# above: \"it\n", margin+"    # deeper\n")
}

func (s spelled) flow(depth, indent int) string {
	gap := func() string {
		return s.one(" ", "", " ", "\n"+strings.Repeat(" ", indent), " # in it\n"+strings.Repeat(" ", indent))
	}
	value := func() string {
		if depth > 0 && s.IntN(3) == 0 {
			return s.flow(depth-1, indent+2)
		}
		return s.text(true, indent+2)
	}
	var parts []string
	list := s.IntN(2) == 0
	for i := range s.IntN(4) {
		if list {
			parts = append(parts, value())
		} else {
			parts = append(parts, s.one("k", "'k", `"k`)[0:1]+"")
			key := fmt.Sprint("k", i)
			parts[len(parts)-1] = s.one(key, "'"+key+"'", `"`+key+`"`) + ": " + value()
		}
	}
	open, closed := "{", "}"
	if list {
		open, closed = "[", "]"
	}
	if len(parts) == 0 {
		return open + closed
	}
	return open + gap() + strings.Join(parts, gap()+","+s.one(" ", gap())) + s.one("", gap()) + closed
}

// places lists the paths of keys below a mapping.
func places(n *yaml.Node, path []string, out *[][]string) {
	if n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		at := append(append([]string{}, path...), n.Content[i].Value)
		*out = append(*out, at)
		places(n.Content[i+1], at, out)
	}
}

// plainly writes what a file says, without styles and comments.
func plainly(docs []*yaml.Node) (out []any) {
	for _, d := range docs {
		out = append(out, plainNode(d))
	}
	return out
}

func plainNode(n *yaml.Node) any {
	switch n.Kind {
	case yaml.SequenceNode:
		list := []any{}
		for _, c := range n.Content {
			list = append(list, plainNode(c))
		}
		return list
	case yaml.MappingNode:
		keys := map[string]any{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			keys[n.Content[i].Value] = plainNode(n.Content[i+1])
		}
		return keys
	}
	return n.Value
}

// Whatever spelling a file is in, an edit makes it say what was asked for and nothing else, or leaves it as it was; and
// few edits are given up.
func TestEditsSayWhatWasAskedForInAnySpelling(t *testing.T) {
	done, faults := 0, map[string]int{}
	for seed := range uint64(6000) {
		s := spelled{rand.New(rand.NewPCG(seed, 5))}
		text := s.mapping(3, 0)
		if s.IntN(4) == 0 {
			text = strings.ReplaceAll(text, "\n", "\r\n")
		}
		f, err := Parse([]byte(text))
		if err != nil {
			continue
		}
		var paths [][]string
		places(f.roots[0], nil, &paths)
		path := paths[s.IntN(len(paths))]
		want := plainly(f.all)
		holder := want[0].(map[string]any)
		for _, key := range path[:len(path)-1] {
			holder = holder[key].(map[string]any)
		}
		last := path[len(path)-1]
		what := s.one("set", "set", "add", "remove", "rename", "append", "drop")
		value := s.one(words...)
		switch what {
		case "set":
			if holder[last] = any(value); s.IntN(2) == 0 {
				holder[last] = map[string]any{"to": []any{value, "x"}, "why": value}
				err = f.Set(Map(Scalar("to"), List(Scalar(value), Scalar("x")), Scalar("why"), Scalar(value)), path...)
				break
			}
			err = f.Set(Scalar(value), path...)
		case "add":
			inner, ok := holder[last].(map[string]any)
			if !ok {
				continue
			}
			inner["new"] = any(value)
			err = f.Set(Scalar(value), append(path, "new")...)
		case "remove":
			delete(holder, last)
			err = f.Delete(len(path)-1, path...)
			if len(path) == 1 && len(holder) == 0 {
				want = []any{}
			}
		case "rename":
			holder["renamed"] = holder[last]
			delete(holder, last)
			err = f.RenameKey("renamed", path...)
		case "append":
			if list, ok := holder[last].([]any); ok {
				holder[last] = append(list, value)
			} else {
				holder[last] = []any{holder[last], value}
			}
			err = f.Append(Scalar(value), path...)
		case "drop":
			list, ok := holder[last].([]any)
			if !ok || len(list) < 2 {
				continue
			}
			i := s.IntN(len(list))
			holder[last] = append(append([]any{}, list[:i]...), list[i+1:]...)
			err = f.Drop(i, 0, path...)
		}
		if errors.Is(err, ErrFault) || err != nil {
			faults[what]++
			require.Equal(t, text, string(f.Bytes), "seed %d", seed)
			continue
		}
		done++
		got := plainly(said(f.all))
		if what == "remove" && len(want) == 1 && len(holder) == 0 && len(path) == 1 {
			want = []any{}
		}
		if len(got) == 0 {
			got = []any{}
		}
		require.Equal(t, want, got, "seed %d: %s %v %q\n%s\nbecomes\n%s", seed, what, path, value, text, f.Bytes)
		for _, c := range comments(NewText([]byte(text))) { // whole lines of comments stay, outside of what goes
			if (what == "add" || what == "rename") && strings.HasPrefix(c, "# at the margin") {
				assert.Contains(t, string(f.Bytes), c, "seed %d", seed)
			}
		}
	}
	t.Log(done, faults)
	require.Greater(t, done, 3000)
	total := 0
	for _, n := range faults {
		total += n
	}
	require.Less(t, total, done/10)
}

// A text that is over several lines is no place for another entry.
func TestNothingIsWrittenIntoATextOfSeveralLines(t *testing.T) {
	for _, text := range []string{
		"blocks:\n  a: {why: \"one\n  two: {x: y}\n  three\"}\n", "blocks:\n  a:\n    why: \"one\n\n  b: {deny: all}\n  \"\n",
		"blocks:\n  a:\n    why: 'one\n\n      # no\n      more'\nroles: {}\n",
		"blocks:\n  a:\n    why: |2\n        b: {}\n       c\n  d: {}\n",
		"blocks:\n  a:\n    why: >\n\n      x\n\n\n  b: {}\n", "blocks: {a: {why: \"}\"}, b: {why: '{'}}\n",
		"\"blocks\": {\"a\": {}}\n", "? blocks\n: a: {}\n",
	} {
		f, err := Parse([]byte(text))
		require.NoError(t, err, text)
		err = f.Set(Map(Scalar("deny"), Scalar("all")), "blocks", "new")
		if err != nil {
			require.Equal(t, text, string(f.Bytes))
			continue
		}
		require.NotNil(t, f.Get("blocks", "new", "deny"), "%s\n%s", text, f.Bytes)
		require.NotNil(t, f.Get("blocks", "a"))
	}
}

// What is misread is refused, and nothing is lost.
func TestAMisreadQuoteIsRefused(t *testing.T) {
	text := "0: ''\n1: {[s \"],1': plain\n    over lines}"
	f, err := Parse([]byte(text))
	require.NoError(t, err)
	require.Error(t, f.Delete(0, "1", f.Get("1").Content[0].Value))
	require.Equal(t, text, string(f.Bytes))
}

// Where some readers see the end of a line and others do not, no place can be given.
func TestLinesThatNotEveryReaderCountsAreRefused(t *testing.T) {
	for _, text := range []string{"\r0:", "a: {b: \"c\"}\rd: e\n", "a: {b: x,\u2028 'c': d}\n", "a: b\u0085c: 'd'\n"} {
		_, err := Parse([]byte(text))
		require.Error(t, err, "%q", text)
	}
	_, err := Parse([]byte("a: b\r\nc: \"\\r\\u2028\"\r\n"))
	require.NoError(t, err)
}

func FuzzEdits(f *testing.F) {
	for seed := range uint64(40) {
		f.Add(spelled{rand.New(rand.NewPCG(seed, 6))}.mapping(3, 0), byte(seed), byte(seed/3), "a: b")
	}
	f.Fuzz(func(t *testing.T, text string, what, where byte, value string) {
		file, err := Parse([]byte(text))
		if err != nil || len(file.roots) == 0 {
			return
		}
		var paths [][]string
		for _, root := range file.roots {
			places(root, nil, &paths)
		}
		if len(paths) == 0 {
			return
		}
		path := paths[int(where)%len(paths)]
		before := fmt.Sprint(plainly(file.all))
		switch what % 5 {
		case 0:
			err = file.Set(Scalar(value), path...)
		case 1:
			err = file.Set(Map(Scalar("k"), Scalar(value)), append(path, "new")...)
		case 2:
			err = file.Delete(0, path...)
		case 3:
			err = file.Append(Scalar(value), path...)
		case 4:
			err = file.RenameKey(value, path...)
		}
		if err != nil {
			if string(file.Bytes) != text || fmt.Sprint(plainly(file.all)) != before {
				t.Fatalf("%v, and the file is another", err)
			}
			return
		}
		again, err := Parse(file.Bytes)
		if err != nil {
			t.Fatalf("what was written is not read: %v\n%s", err, file.Bytes)
		}
		if what%5 == 0 && again.Get(path...) != nil && again.Get(path...).Value != value {
			t.Fatalf("%v is %q\n%s", path, again.Get(path...).Value, file.Bytes)
		}
	})
}
