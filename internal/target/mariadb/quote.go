package mariadb

import (
	"crypto/sha1"
	"encoding/hex"
	"strings"

	"hiddengate/internal/target"
)

// longestName is how many bytes of a role's name are kept: MariaDB takes as many characters.
const longestName = 128

// ident quotes a name.
func ident(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// identIn quotes a name in a schema.
func identIn(schema, name string) string { return ident(schema) + "." + ident(name) }

// literal quotes a text as a constant, for connections on which a backslash is a backslash.
func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// wild is what stands for other characters in the name of a schema on which something is granted.
var wild = strings.NewReplacer(`\`, `\\`, "_", `\_`, "%", `\%`)

// schemaText writes all that is in a schema, for statements that grant and revoke.
func schemaText(name string) string { return ident(wild.Replace(name)) + ".*" }

// mark begins the name of whatever role hgate makes for a system.
func mark(system string) string { return "hgate:" + system + ":" }

// roleName names the role for a grant.
func roleName(system, grant string) string { return target.Shortened(mark(system)+grant, longestName) }

// collectingName names the role that puts together those of an account: MariaDB has one role at a time.
func collectingName(system, account string) string {
	return target.Shortened(mark(system)+"all:"+account, longestName)
}

// markerName names the role without rights that hgate gives the accounts that it makes.
func markerName(system string) string { return target.Shortened(mark(system)+"made", longestName) }

// hashed is how MariaDB keeps a password ("PASSWORD" in its documentation): the server is never told the password
// itself, which it could write into its log.
func hashed(password string) string {
	once := sha1.Sum([]byte(password))
	twice := sha1.Sum(once[:])
	return "*" + strings.ToUpper(hex.EncodeToString(twice[:]))
}
