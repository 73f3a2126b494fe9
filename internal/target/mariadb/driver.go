// Package mariadb carries a policy to a server of MariaDB 10.11 or newer, and reads what it gives to whom. What is read
// of a server is never a command: names are quoted, and nothing that others wrote there is run.
package mariadb

import (
	"slices"

	"hiddengate/internal/target"
)

// The rights that are carried, by their places in Driver.Carries.Natives.
const (
	signingIn = iota
	creatingSchemas
	endingSessions
	watchingSessions
	stopping
	makingAccounts
	creatingTables
	definingViews
	definingRoutines
	droppingSchema
	selecting
	inserting
	updating
	deleting
	altering
	indexing
	droppingTable
	definingView
	droppingView
	granting
	executing
	alteringRoutine
)

// The rights that MariaDB has, as far as they are named here ("GRANT" in its documentation).
const (
	create      = "CREATE"
	createView  = "CREATE VIEW"
	drop        = "DROP"
	grantOption = "GRANT OPTION"
	endsOthers  = "CONNECTION ADMIN"
	createUser  = "CREATE USER"
	super       = "SUPER"
)

// natives are what MariaDB calls them, on what, and the operations that they give. Whoever may drop a table may empty
// it, and whoever may alter one may change its indexes; whoever may create accounts may give those that there are other
// passwords, and so act as anybody.
var natives = []target.Native{
	signingIn: {Name: "sign-in", Types: []string{"server"}, Gives: []string{"session.open"}},
	creatingSchemas: {
		Name:   create,
		Types:  []string{"server"},
		Gives:  []string{"schema.create"},
		Inside: []string{"table.create"},
	},
	endingSessions:   {Name: endsOthers, Types: []string{"server"}, Gives: []string{"session.end"}},
	watchingSessions: {Name: "PROCESS", Types: []string{"server"}, Gives: []string{"session.view"}},
	stopping:         {Name: "SHUTDOWN", Types: []string{"server"}, Gives: []string{"server.stop"}},
	makingAccounts: {Name: createUser, Types: []string{"server"}, Gives: []string{"account.create", "account.alter",
		"account.remove", "account.set-password", "role.alter"}, Unlimited: true},
	creatingTables: {Name: create, Types: []string{"schema"}, Gives: []string{"table.create"}},
	definingViews: {Name: createView, Types: []string{"schema"}, Gives: []string{"view.define"},
		Inside: []string{"view.define"}},
	definingRoutines: {Name: "CREATE ROUTINE", Types: []string{"schema"}, Gives: []string{"function.define"}},
	droppingSchema: {Name: drop, Types: []string{"schema"}, Gives: []string{"schema.drop"},
		Inside: []string{"table.drop", "table.delete", "view.drop"}},
	selecting:     {Name: "SELECT", Types: []string{"table", "view"}, Gives: []string{"table.read"}},
	inserting:     {Name: "INSERT", Types: []string{"table"}, Gives: []string{"table.insert"}},
	updating:      {Name: "UPDATE", Types: []string{"table"}, Gives: []string{"table.update"}},
	deleting:      {Name: "DELETE", Types: []string{"table"}, Gives: []string{"table.delete"}},
	altering:      {Name: "ALTER", Types: []string{"table"}, Gives: []string{"table.alter", "index.change"}},
	indexing:      {Name: "INDEX", Types: []string{"table"}, Gives: []string{"index.change"}},
	droppingTable: {Name: drop, Types: []string{"table"}, Gives: []string{"table.drop", "table.delete"}},
	definingView:  {Name: createView, Types: []string{"view"}, Gives: []string{"view.define", "view.drop"}},
	droppingView:  {Name: drop, Types: []string{"view"}, Gives: []string{"view.drop"}},
	granting:      {Name: grantOption, Types: []string{"table", "view"}, Gives: []string{"table.grant"}},
	executing:     {Name: "EXECUTE", Types: []string{"function"}, Gives: []string{"function.run"}},
	alteringRoutine: {
		Name:  "ALTER ROUTINE",
		Types: []string{"function"},
		Gives: []string{"function.define", "function.drop"},
	},
}

// rightsOf lists the rights that make a native; all are needed.
func rightsOf(native int) []string {
	switch native {
	case signingIn:
		return nil
	case definingView: // to change what a view shows is to put another in its place
		return []string{createView, drop}
	}
	return []string{natives[native].Name}
}

const (
	oneByOne    = "each is carried by itself, and what comes later by the next push"
	anyRight    = "MariaDB shows it to whoever has any right on it"
	openToAll   = "MariaDB shows it to whoever has an account"
	others      = "whoever has it can run statements as others"
	itsAdmin    = "MariaDB lets the administrators of each role do it"
	allHashes   = "it takes the right to read every table, also that with the hashes of passwords"
	wholeServer = "it is carried for the whole server, and lets its holder do everything"
)

// Driver is the driver for MariaDB.
var Driver = &target.Driver{
	Name:    "mariadb",
	About:   "a server of MariaDB 10.11 or newer, with its databases, tables, views and routines",
	Kind:    "database",
	Address: "mariadb://USER@HOST",
	Names: "A database of the server is a schema, named by itself, and what is in it behind a slash: `sky`, " +
		"`sky/catalogue`; a routine whose name another thing has too ends in `(function)` or `(procedure)`. An account is " +
		"named by its user alone where its host is `%`, and else as `USER@HOST`. The address may have `socket=/PATH`, " +
		"`ca=FILE` for the authorities that are trusted, and `tls=off`.",
	Carries: target.Carries{Natives: natives, Notes: notes()},
	Connect: connect,
	Blank:   func(to target.Connection, s *target.State) target.Snapshot { return blank(to.System, s) },
}

func notes() (out []target.Note) {
	add := func(how target.How, why string, types []string, operations ...string) {
		for _, o := range operations {
			out = append(out, target.Note{Operation: o, Types: types, How: how, Why: why})
		}
	}
	schema := []string{"schema"}
	add(target.Narrower, oneByOne, schema, "table.read", "table.insert", "table.update", "table.delete", "table.alter",
		"table.drop", "table.grant", "index.change", "view.drop", "function.run", "function.drop")
	add(target.ToEverybody, openToAll, nil, "server.view", "settings.view")
	add(target.NotCarried, anyRight, nil, "schema.view", "table.view", "index.view", "function.view")
	add(target.NotCarried, others, nil, "settings.change")
	add(target.NotCarried, itsAdmin, nil, "role.assign")
	add(target.NotCarried, allHashes, nil, "backup.take")
	add(target.NotCarried, wholeServer, []string{"account", "accounts"}, natives[makingAccounts].Gives...)
	add(target.Narrower, oneByOne, []string{"server"}, "schema.drop")
	return slices.Clip(out)
}
