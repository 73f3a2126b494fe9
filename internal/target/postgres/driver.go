// Package postgres carries a policy to a database of PostgreSQL 15 or newer, and asks it. What is read of a database is
// never a command: names are quoted, and everything is called by its schema.
package postgres

import (
	"hiddengate/internal/credential"
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
	owningTable
	owningView
	owningFunction
	changingSetting
	backingUp
	makingRoles
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
	selecting: {Name: "SELECT", Types: []string{"table", "view"}, Gives: []string{"table.read"}, OnRows: true},
	inserting: {Name: "INSERT", Types: []string{"table"}, Gives: []string{"table.insert"}, OnRows: true},
	updating:  {Name: "UPDATE", Types: []string{"table"}, Gives: []string{"table.update"}, OnRows: true},
	deleting:  {Name: "DELETE", Types: []string{"table"}, Gives: []string{"table.delete"}, OnRows: true},
	executing: {Name: "EXECUTE", Types: []string{"function"}, Gives: []string{"function.run"}},
	owningTable: {Name: "ownership", Types: []string{"table"},
		Gives: []string{"table.alter", "table.drop", "table.grant", "index.change"}, Unlimited: true},
	owningView: {Name: "ownership", Types: []string{"view"},
		Gives: []string{"view.define", "view.drop", "table.grant"}, Unlimited: true},
	owningFunction: {Name: "ownership", Types: []string{"function"},
		Gives: []string{"function.define", "function.drop"}, Unlimited: true},
	changingSetting: {Name: "ALTER SYSTEM", Types: []string{"setting"}, Gives: []string{"settings.change"}},
	backingUp: {Name: readsAll, Types: []string{"server"}, Gives: []string{"backup.take"},
		Inside: []string{"table.read"}},
	makingRoles: {Name: "CREATEROLE", Types: []string{"server"}, Gives: []string{"account.create", "account.alter",
		"account.remove", "account.set-password", "role.assign", "role.alter"}},
}

// owning are the natives that are ownership.
const owning = target.Mask(1<<owningTable | 1<<owningView | 1<<owningFunction)

// memberOf names the predefined role by which a right is given, for those that are given so.
var memberOf = map[int]string{signalling: natives[signalling].Name, statistics: natives[statistics].Name,
	settings: natives[settings].Name, backingUp: natives[backingUp].Name}

const (
	oneByOne  = "each is carried by itself, and what comes later by the next push"
	andComing = "each is carried by itself; what comes later, by the next push, or at once with " +
		"`unlisted: judge`"
	catalogs     = "PostgreSQL shows its catalogs to whoever may connect"
	ownersDo     = "PostgreSQL lets its owner alone do it"
	eachSetting  = "each setting that the policy lists is carried by itself"
	whole        = "it is carried for the whole database, whose tables have to be read"
	textual      = "a setting whose value is a text may name a program that the server runs"
	openSettings = "PostgreSQL shows most of its settings to whoever may connect"
	itsOwner     = "PostgreSQL lets its owner alone do it, and it belongs to an account that keeps it"
)

// Driver is the driver for PostgreSQL.
var Driver = &target.Driver{
	Name:    "postgres",
	About:   "a database of PostgreSQL 15 or newer, with its schemas, tables, views and functions",
	Kind:    "database",
	Address: "postgres://USER@HOST/DATABASE",
	Names: "A schema is named by itself, and what is in it behind a slash: `sky`, `sky/catalogue`; a function with its " +
		"arguments, where another of its name has others. A resource of type `setting` is the setting of its last name, as " +
		"`settings/work_mem`.",
	Carries:   target.Carries{Natives: natives, Notes: notes()},
	Verifiers: credential.SCRAM,
	Connect:   connect,
	SignIn:    signIn,
	Blank:     func(to target.Connection, s *target.State) target.Snapshot { return blank(to, s) },
}

func notes() (out []target.Note) {
	for _, o := range []string{"table.read", "table.insert", "table.update", "table.delete"} {
		out = append(out, target.Note{Operation: o, Types: []string{"schema"}, How: target.Narrower, Why: andComing})
	}
	for _, o := range []string{"function.run", "table.alter", "table.drop", "table.grant", "index.change",
		"view.drop", "function.drop"} {
		out = append(out, target.Note{Operation: o, Types: []string{"schema"}, How: target.Narrower, Why: oneByOne})
	}
	for _, o := range []string{"server.view", "schema.view", "table.view", "index.view", "function.view", "role.view",
		"account.view"} {
		out = append(out, target.Note{Operation: o, How: target.ToEverybody, Why: catalogs})
	}
	for _, o := range []string{"table.alter", "table.drop", "table.grant", "index.change", "view.define", "view.drop",
		"function.define", "function.drop"} {
		out = append(out, target.Note{Operation: o, How: target.NotCarried, Why: itsOwner})
	}
	return append(out,
		target.Note{Operation: "backup.take", Types: []string{"schema"}, How: target.NotCarried, Why: whole},
		target.Note{Operation: "schema.drop", How: target.NotCarried, Why: ownersDo},
		target.Note{Operation: "settings.change", Types: []string{"server"}, How: target.Narrower, Why: eachSetting},
		target.Note{Operation: "settings.change", Types: []string{"setting"}, How: target.NotCarried, Why: textual},
		target.Note{Operation: "settings.view", Types: []string{"setting"}, How: target.ToEverybody, Why: openSettings})
}
