package postgres

import (
	"strings"

	"github.com/jackc/pgx/v5"

	"hiddengate/internal/target"
)

// longestName is how many bytes of a name PostgreSQL keeps; it cuts off the rest without a word.
const longestName = 63

// ident quotes a name, or a schema and a name in it.
func ident(names ...string) string { return pgx.Identifier(names).Sanitize() }

// literal quotes a text as a constant, whatever standard_conforming_strings says.
func literal(text string) string {
	quoted := "'" + strings.ReplaceAll(strings.ReplaceAll(text, `\`, `\\`), "'", "''") + "'"
	if strings.Contains(text, `\`) {
		return "E" + quoted
	}
	return quoted
}

// mark begins the comment on whatever hgate made for a system.
func mark(system string) string { return "hgate:" + system + ":" }

// roleName names the role for a grant. One that is too long ends in a part of its hash.
func roleName(system, grant string) string { return target.Shortened(mark(system)+grant, longestName) }
