package postgres

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"hiddengate/internal/target"
)

// awkward names need quoting, and what does not hold together if it is not quoted.
var awkward = []string{"plain", "Upper Case", `quo"te`, "quo'te", "select", "ünïcode", `back\slash`, "a;b--c",
	"dollar$$", strings.Repeat("l", 63), "per%cent", "sl/ash", "st*ar", "$1", "пути"}

// closed says whether a text between quotes has no quote of its own that is not doubled.
func closed(text string, quote string) bool {
	inner, begins := strings.CutPrefix(text, quote)
	inner, ends := strings.CutSuffix(inner, quote)
	return begins && ends && !strings.Contains(strings.ReplaceAll(inner, quote+quote, ""), quote)
}

// A name or text, whatever it holds, is one word of a statement; and a path of an inventory leads back to its names.
func FuzzQuoting(f *testing.F) {
	for _, name := range awkward {
		f.Add(name, "grant")
	}
	f.Add("a\x00b", "\\")
	f.Add("f(int, text)", "x); DROP TABLE y; --")
	f.Fuzz(func(t *testing.T, name, other string) {
		quoted := ident(name)
		assert.True(t, closed(quoted, `"`), quoted)
		assert.NotContains(t, quoted, "\x00")
		text := literal(name)
		if rest, escaped := strings.CutPrefix(text, "E"); escaped {
			assert.True(t, closed(strings.ReplaceAll(rest, `\\`, ""), "'"), text)
			assert.NotContains(t, strings.ReplaceAll(rest, `\\`, ""), `\`)
		} else {
			assert.True(t, closed(text, "'"), text)
			assert.NotContains(t, text, `\`)
		}
		role := roleName(name, other)
		assert.LessOrEqual(t, len(role), longestName)
		if utf8.ValidString(name) && utf8.ValidString(other) {
			assert.True(t, utf8.ValidString(role))
		}
		if path, ok := target.PathOf(name, other); ok {
			before, after, _ := strings.Cut(path, "/")
			assert.Equal(t, name, target.Unescaped(before))
			assert.Equal(t, other, target.Unescaped(after))
			one := objectOf(target.Place{Path: path, Type: "function"}, "base")
			assert.Equal(t, name, one.schema)
			for _, r := range one.args { // they stand in statements as they are
				assert.NotContains(t, `"';()$-/\`, string(r))
			}
		}
	})
}
