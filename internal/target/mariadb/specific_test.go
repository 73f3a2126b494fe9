//go:build unix

package mariadb

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/servers"
)

// Of two patterns that fit, the server takes the one that is said to tell more, and that alone.
func TestThePatternThatTellsMostIsTheServers(t *testing.T) {
	b := newBench(t, servers.MariaDB(t))
	b.exec("CREATE DATABASE plain")
	b.exec("CREATE TABLE plain.plain (v INT)")
	defer b.exec("DROP DATABASE plain")
	patterns := []string{"plain", "plai_", "pla__", "_____", "p%n", "p%", "%plain",
		"plain%", "pl%ai_", "p%l%ain", "%n", "%"}
	for i, one := range patterns {
		for _, other := range patterns[i+1:] {
			b.exec("CREATE USER 'pair person'@'%%' IDENTIFIED BY 'known'")
			b.exec("GRANT SELECT ON %s.* TO 'pair person'@'%%'", ident(one))
			b.exec("GRANT DELETE ON %s.* TO 'pair person'@'%%'", ident(other))
			db := open(t, b.at, "pair person", "known")
			_, reads := db.Exec("SELECT v FROM plain.plain LIMIT 0")
			_, deletes := db.Exec("DELETE FROM plain.plain WHERE 1 = 0")
			require.NoError(t, db.Close())
			b.exec("DROP USER 'pair person'@'%%'")
			first := compareSpecific(one, other) < 0
			assert.Equal(t, first, reads == nil, "%s before %s", one, other)
			// Its WHERE looks at no column: deleting needs no right to read.
			assert.Equal(t, !first, deletes == nil, "%s after %s", other, one)
		}
	}
}
