package postgres

import (
	"strings"
	"time"

	"hiddengate/internal/pgaddress"
	"hiddengate/internal/target"
)

// kind is what sort of object rights are had on.
type kind int

const (
	database kind = iota
	schema
	relation
	routine
	sequence
	parameter
	comingTables    // what is to be had on the tables and views that a role makes in a schema
	comingSequences // likewise
)

// words are what statements call them.
var words = map[kind]string{database: "DATABASE", schema: "SCHEMA", relation: "TABLE", routine: "ROUTINE",
	sequence: "SEQUENCE", parameter: "PARAMETER", comingTables: "TABLES", comingSequences: "SEQUENCES"}

// object is something on which rights are had. Where it is a place of the state, both have the same number.
type object struct {
	kind   kind
	oid    uint32
	schema string // of a relation, routine or sequence: the name of its schema
	name   string
	args   string // of a routine: its arguments, as its name needs them
	owner  string
	plain  bool // a table about which statements can be planned without harm
	column string
	// serials are the sequences from which its columns are filled, as objects.
	serials  []int
	guarded  bool // by row policies
	policies []policy
	columns  map[string]column // by which its rows can be told apart; else nil
	fills    int               // of a sequence: the table; of what is coming: the schema
}

// text writes the object for statements.
func (o *object) text() string {
	switch o.kind {
	case database, schema:
		return ident(o.name)
	case parameter:
		return ident(strings.Split(o.name, ".")...)
	case routine:
		return ident(o.schema, o.name) + "(" + o.args + ")"
	}
	return ident(o.schema, o.name)
}

// role is a role of the server, who may be somebody's account.
type role struct {
	name                                 string
	login, super, makesRoles, makesBases bool
	replicates, passesRows, system       bool
	until                                *time.Time // its passwords
	comment                              string
}

// held is a right that somebody has by an entry of an access list.
type held struct {
	object int
	priv   string
}

// comingIn is what a role makes in a schema.
type comingIn struct {
	kind   kind
	maker  string
	schema int // as an object
}

// snapshot is what a database had at a moment.
type snapshot struct {
	system  string
	state   target.State
	self    string // the account by which it was read
	objects []object
	schemas map[string]int // the objects of schemas, by name
	roles   map[string]*role
	version int                 // as server_version_num has it
	in      map[string][]string // by role: the roles of which it is a member, and as which it can act
	// memberships are all entries that make a role a member of others, by that role.
	memberships map[string][]membership
	acl         map[string]map[held]string // by grantee ("" for everybody): rights, and by whom they are given
	coming      map[comingIn]int           // the objects of what is coming
	key         string                     // the same where all of it is
}

func (s *snapshot) State() *target.State { return &s.state }

// isHgates says whether a role is one that hgate made, for a grant or for owning something.
func (s *snapshot) isHgates(name string) bool {
	r := s.roles[name]
	return r != nil && (strings.HasPrefix(r.comment, grantMark(s.system)) ||
		strings.HasPrefix(r.comment, ownerMark(s.system)))
}

// blank is a database that has some places and gives nothing to anybody. Where its address names no database, it has
// the system's id.
func blank(to target.Connection, of *target.State) *snapshot {
	base := to.System
	if config, err := pgaddress.Read(to.At, ""); err == nil && config.Database != "" {
		base = config.Database
	}
	s := &snapshot{system: to.System, state: *of, schemas: map[string]int{}, roles: map[string]*role{},
		in: map[string][]string{}, acl: map[string]map[held]string{}, coming: map[comingIn]int{}}
	for i, p := range of.Places {
		o := objectOf(p, base)
		if p.Rows != nil {
			o.columns = columnsAsSaid(*p.Rows)
		}
		s.objects = append(s.objects, o)
		if s.objects[i].kind == schema {
			s.schemas[s.objects[i].name] = i
		}
	}
	for _, name := range memberOf {
		s.roles[name] = &role{name: name, system: true}
	}
	return s
}
