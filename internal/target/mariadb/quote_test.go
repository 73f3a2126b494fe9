package mariadb

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/target"
)

// awkward names need quoting, and what does not hold together if it is not quoted. A schema's stand for others too.
var awkward = []string{
	"plain",
	"Upper Case",
	"quo`te",
	"quo'te",
	"per%cent",
	"under_score",
	`back\slash`,
	"a;b--c",
	"select",
	"ünïcode",
	"sl/ash",
	"underXscore",
	"at@host",
}

// closed says whether a text between quotes has no quote of its own that is not doubled.
func closed(text, quote string) bool {
	inner, begins := strings.CutPrefix(text, quote)
	inner, ends := strings.CutSuffix(inner, quote)
	return begins && ends && !strings.Contains(strings.ReplaceAll(inner, quote+quote, ""), quote)
}

// slowly is what fitting says, by a regular expression.
func slowly(pattern, name string) bool {
	var re strings.Builder
	escaped := false
	for _, r := range pattern {
		switch {
		case !escaped && r == '\\':
			escaped = true
			continue
		case !escaped && r == '%':
			re.WriteString("(?s:.*)")
		case !escaped && r == '_':
			re.WriteString("(?s:.)")
		default:
			re.WriteString(regexp.QuoteMeta(string(r)))
		}
		escaped = false
	}
	if escaped {
		re.WriteString(`\\`)
	}
	return regexp.MustCompile("^(?:" + re.String() + ")$").MatchString(name)
}

// A name or text, whatever it holds, is one word of a statement; a path of an inventory and the name of an account lead
// back to what they name; and a pattern fits what it should.
func FuzzQuoting(f *testing.F) {
	for _, name := range append(awkward, "a\x00b", `\`, "%", "p_%n", `x\_y`) {
		f.Add(name, "grant")
		f.Add("%n", name)
	}
	f.Fuzz(func(t *testing.T, name, other string) {
		assert.True(t, closed(ident(name), "`"), ident(name))
		assert.True(t, closed(literal(name), "'"), literal(name))
		assert.True(t, closed(strings.TrimSuffix(schemaText(name), ".*"), "`"))
		for _, role := range []string{roleName(name, other), collectingName(name, other)} {
			assert.LessOrEqual(t, len(role), longestName)
			assert.True(t, utf8.ValidString(role) || !utf8.ValidString(name) || !utf8.ValidString(other))
		}
		one := who{name, other}
		if !strings.Contains(other, "@") {
			assert.Equal(t, one, accountOf(one.name()))
		}
		if path, ok := target.PathOf(name, other); ok {
			o := objectOf(target.Place{Path: path, Type: "table"})
			assert.Equal(t, []string{name, other}, []string{o.schema, o.name})
			o = objectOf(target.Place{Path: path, Type: "function"})
			assert.Contains(t, []string{"FUNCTION", "PROCEDURE"}, o.word)
		}
		if !utf8.ValidString(name) || !utf8.ValidString(other) || len(name)+len(other) > 200 {
			return
		}
		assert.Equal(t, slowly(name, other), fitting(name, other), "%q %q", name, other)
		plain, is := plainOf(wild.Replace(name))
		assert.True(t, is)
		assert.Equal(t, name, plain)
		assert.True(t, fitting(wild.Replace(name), name))
	})
}

// An address says where a server is and how sure the way there is, and no password.
func TestAddresses(t *testing.T) {
	const password = "the address of the server holds a password: take it out, and give it as a secret"
	const unknown = "the address of the server has %q: `socket`, `ca` and `tls=off` alone are known"
	for at, want := range map[string]string{
		"mariadb://keeper@db.ternhollow.example":         "tcp db.ternhollow.example:3306 checked",
		"mariadb://keeper@db.ternhollow.example:3307":    "tcp db.ternhollow.example:3307 checked",
		"mariadb://keeper@db.ternhollow.example?tls=off": "tcp db.ternhollow.example:3306 open",
		"mariadb://keeper@127.0.0.1":                     "tcp 127.0.0.1:3306 open",
		"mariadb://keeper@[::1]:3307":                    "tcp [::1]:3307 open",
		"mariadb://keeper@localhost?socket=/run/sky":     "unix /run/sky open",
		"mariadb://keeper@db.ternhollow.example?ca=/none": "the authorities cannot be read: " +
			"open /none: no such file or directory",
		"mariadb://keeper:x@localhost":                          password,
		"mariadb://localhost":                                   errAddress.Error(),
		"mariadb://keeper@localhost/sky":                        errAddress.Error(),
		"postgres://keeper@localhost":                           errAddress.Error(),
		"mariadb://keeper@localhost?tls=skip":                   fmt.Sprintf(unknown, "tls"),
		"mariadb://keeper@localhost?allowAllFiles=true":         fmt.Sprintf(unknown, "allowAllFiles"),
		"mariadb://keeper@localhost?socket=/run/a&socket=/tmp/": fmt.Sprintf(unknown, "socket"),
	} {
		c, err := configOf(at, "the secret")
		if err != nil {
			assert.Equal(t, want, err.Error(), at)
			continue
		}
		sure := map[bool]string{true: "checked", false: "open"}[c.TLS != nil && !c.TLS.InsecureSkipVerify]
		assert.Equal(t, want, c.Net+" "+c.Addr+" "+sure, at)
		assert.False(t, c.AllowAllFiles || c.AllowCleartextPasswords || c.MultiStatements, at)
		require.Equal(t, "the secret", c.Passwd)
	}
}
