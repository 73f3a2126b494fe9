package mariadb

import "strings"

// global are the rights on the whole server by their bits ("mysql.global_priv table" of MariaDB's documentation: a
// number with a bit for each right).
var global = []string{"SELECT", "INSERT", "UPDATE", "DELETE", create, drop, "RELOAD", "SHUTDOWN", "PROCESS", "FILE",
	grantOption, "REFERENCES", "INDEX", "ALTER", "SHOW DATABASES", super, "CREATE TEMPORARY TABLES", "LOCK TABLES",
	"EXECUTE", "REPLICATION SLAVE", "BINLOG MONITOR", createView, "SHOW VIEW", "CREATE ROUTINE", "ALTER ROUTINE",
	createUser, "EVENT", "TRIGGER", "CREATE TABLESPACE", "DELETE HISTORY", "SET USER", "FEDERATED ADMIN", endsOthers,
	"READ_ONLY ADMIN", "REPLICATION SLAVE ADMIN", "REPLICATION MASTER ADMIN", "BINLOG ADMIN", "BINLOG REPLAY",
	"SLAVE MONITOR"}

// splitAt is the version since which the rights that SUPER had before are rights of their own.
const splitAt = 100502

// globalRights lists the rights that a number stands for, as a version wrote it.
func globalRights(access uint64, version int) (out []string) {
	for bit, right := range global {
		if access&(1<<bit) != 0 {
			out = append(out, right)
		}
	}
	if version < splitAt && access&(1<<15) != 0 { // which it means for SUPER alone
		for _, right := range global[30:] {
			if access&(1<<30) == 0 {
				out = append(out, right)
			}
		}
	}
	return out
}

// renamed are rights whose columns and sets have other names.
var renamed = map[string]string{"GRANT": grantOption, "CREATE TMP TABLE": "CREATE TEMPORARY TABLES",
	"DELETE VERSIONING ROWS": "DELETE HISTORY"}

// rightOfColumn gives the right for which a column of a table of rights stands, such as CREATE_VIEW.
func rightOfColumn(name string) string {
	name = strings.ReplaceAll(strings.ToUpper(name), "_", " ")
	if other := renamed[name]; other != "" {
		return other
	}
	return name
}

// rightsOfSet lists the rights in a set such as `Select,Create View`.
func rightsOfSet(set string) (out []string) {
	for name := range strings.SplitSeq(set, ",") {
		if name != "" {
			out = append(out, rightOfColumn(name))
		}
	}
	return out
}
