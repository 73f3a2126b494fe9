// Package postgres carries a policy to a database of PostgreSQL 15 or newer, and asks it. What is read of a database is
// never a command: names are quoted, and everything is called by its schema.
package postgres

import (
	"hiddengate/internal/target"
)

// The rights that are carried, by their places in Driver.Carries.Natives.
const (
	connecting = iota
	createSchema
	signalling
	statistics
	settings
	createInSchema
	selecting
	inserting
	updating
	deleting
	executing
)

// natives are what PostgreSQL calls them ("The GRANT Command" and "Predefined Roles" of its manual), on what, and the
// operations that they give. The right to create in a schema makes its holder the owner of what they create.
var natives = []target.Native{
	connecting:   {Name: "CONNECT", Types: []string{"server"}, Gives: []string{"session.open"}},
	createSchema: {Name: "CREATE", Types: []string{"server"}, Gives: []string{"schema.create"}},
	signalling:   {Name: "pg_signal_backend", Types: []string{"server"}, Gives: []string{"session.end"}},
	statistics:   {Name: "pg_read_all_stats", Types: []string{"server"}, Gives: []string{"session.view"}},
	settings:     {Name: "pg_read_all_settings", Types: []string{"server"}, Gives: []string{"settings.view"}},
	createInSchema: {Name: "CREATE", Types: []string{"schema"},
		Gives: []string{"table.create", "view.define", "function.define"}},
	selecting: {Name: "SELECT", Types: []string{"table", "view"}, Gives: []string{"table.read"}},
	inserting: {Name: "INSERT", Types: []string{"table"}, Gives: []string{"table.insert"}},
	updating:  {Name: "UPDATE", Types: []string{"table"}, Gives: []string{"table.update"}},
	deleting:  {Name: "DELETE", Types: []string{"table"}, Gives: []string{"table.delete"}},
	executing: {Name: "EXECUTE", Types: []string{"function"}, Gives: []string{"function.run"}},
}

// memberOf names the predefined role by which a right is given, for those that are given so.
var memberOf = map[int]string{signalling: natives[signalling].Name, statistics: natives[statistics].Name,
	settings: natives[settings].Name}

const (
	oneByOne = "each of those that there are is carried by itself, and what comes later by the next push"
	catalogs = "PostgreSQL shows its catalogs to whoever may connect"
	ownersDo = "PostgreSQL lets its owner alone do it"
)

// Driver is the driver for PostgreSQL.
var Driver = &target.Driver{
	Name:    "postgres",
	About:   "a database of PostgreSQL 15 or newer, with its schemas, tables, views and functions",
	Kind:    "database",
	Address: "postgres://USER@HOST/DATABASE",
	Carries: target.Carries{Natives: natives, Notes: notes()},
	Connect: connect,
	Blank:   func(to target.Connection, s *target.State) target.Snapshot { return blank(to, s) },
}

func notes() (out []target.Note) {
	for _, o := range []string{"table.read", "table.insert", "table.update", "table.delete", "function.run"} {
		out = append(out, target.Note{Operation: o, Types: []string{"schema"}, How: target.Narrower, Why: oneByOne})
	}
	for _, o := range []string{"server.view", "schema.view", "table.view", "index.view", "function.view", "role.view",
		"account.view"} {
		out = append(out, target.Note{Operation: o, How: target.ToEverybody, Why: catalogs})
	}
	for _, o := range []string{"table.alter", "table.drop", "table.grant", "index.change", "view.drop", "function.drop",
		"schema.drop"} {
		out = append(out, target.Note{Operation: o, How: target.NotCarried, Why: ownersDo})
	}
	return append(out,
		target.Note{Operation: "view.define", Types: []string{"view"}, How: target.NotCarried, Why: ownersDo},
		target.Note{Operation: "function.define", Types: []string{"function"}, How: target.NotCarried, Why: ownersDo})
}
