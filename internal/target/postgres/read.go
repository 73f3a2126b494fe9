package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"hiddengate/internal/pgaddress"
	"hiddengate/internal/target"
)

// oldest is the oldest version of PostgreSQL that is read, as server_version_num has it.
const oldest = 150000

// system is a database that has been reached.
type system struct {
	conn    *pgx.Conn
	name    string
	listed  []target.Place
	version int // as server_version_num has it
}

// connect reaches a database.
func connect(ctx context.Context, to target.Connection) (target.System, error) {
	config, err := pgaddress.Read(to.At, to.Secret)
	if err != nil {
		return nil, err
	}
	return open(ctx, to, config)
}

// open reaches a database as a configuration says.
func open(ctx context.Context, to target.Connection, config *pgx.ConnConfig) (*system, error) {
	// Nothing in the database stands between a name and what it means, and constants mean what they say.
	config.RuntimeParams["search_path"] = ""
	config.RuntimeParams["standard_conforming_strings"] = "on"
	config.RuntimeParams["application_name"] = "hgate"
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, pgaddress.Told(config, err)
	}
	s := &system{conn: conn, name: to.System, listed: to.Listed}
	asked := conn.QueryRow(ctx, "SELECT pg_catalog.current_setting('server_version_num')::int")
	if err := asked.Scan(&s.version); err != nil {
		s.Close()
		return nil, err
	}
	if s.version < oldest {
		s.Close()
		return nil, fmt.Errorf("the server is older than PostgreSQL %d", oldest/10000)
	}
	return s, nil
}

// toClose is how long a connection may take to say goodbye.
const toClose = 2 * time.Second

func (s *system) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), toClose)
	defer cancel()
	_ = s.conn.Close(ctx)
}

// Read reads the database in one transaction that sees one moment.
func (s *system) Read(ctx context.Context) (target.Snapshot, error) {
	tx, err := s.conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return nil, err
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	return s.read(ctx, tx)
}

// reading is a snapshot on its way.
type reading struct {
	*snapshot
	ctx    context.Context
	tx     pgx.Tx
	listed []target.Place    // by the policy
	byOID  map[[2]uint32]int // by class and oid: the object
	sum    []string
}

// Object identifiers of the catalogs.
const (
	classRelation = iota
	classRoutine
	classSchema
	classDatabase
)

func (s *system) read(ctx context.Context, tx pgx.Tx) (*snapshot, error) {
	r := &reading{ctx: ctx, tx: tx, listed: s.listed, byOID: map[[2]uint32]int{}, snapshot: &snapshot{system: s.name,
		version: s.version, schemas: map[string]int{}, roles: map[string]*role{}, in: map[string][]string{},
		memberships: map[string][]membership{},
		acl:         map[string]map[held]string{}, coming: map[comingIn]int{}}}
	for _, step := range []func() error{r.readRoles, r.readMembers, r.readDatabase, r.readSchemas, r.readRelations,
		r.readRoutines, r.readSettings, r.readSequences, r.readColumns, r.readPolicies,
		r.readComing} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	r.keepOwners()
	slices.Sort(r.sum)
	sum := sha256.Sum256([]byte(strings.Join(r.sum, "\n")))
	r.key = hex.EncodeToString(sum[:])
	return r.snapshot, nil
}

// rows goes through the answer to a query.
func (r *reading) rows(query string, each func(pgx.Rows) error, args ...any) error {
	rows, err := r.tx.Query(r.ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := each(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// seen takes down what was read, so that a change is noticed.
func (r *reading) seen(format string, args ...any) {
	r.sum = append(r.sum, fmt.Sprintf(format, args...))
}

// firstNormal is the first oid that is not the system's own (FirstNormalObjectId of its source).
const firstNormal = 16384

func (r *reading) readRoles() error {
	err := r.rows(`SELECT rolname, rolcanlogin, rolsuper, rolcreaterole, rolcreatedb, rolreplication, rolbypassrls,
		CASE WHEN pg_catalog.isfinite(rolvaliduntil) THEN rolvaliduntil END, oid,
		coalesce(pg_catalog.shobj_description(oid, 'pg_authid'), '') FROM pg_catalog.pg_roles`, func(rows pgx.Rows) error {
		one := &role{}
		var oid uint32
		if err := rows.Scan(&one.name, &one.login, &one.super, &one.makesRoles, &one.makesBases, &one.replicates,
			&one.passesRows, &one.until, &oid, &one.comment); err != nil {
			return err
		}
		one.system = oid < firstNormal
		r.roles[one.name] = one
		r.seen("role %q %t %t %t %t %t %t %v %q", one.name, one.login, one.super, one.makesRoles, one.makesBases,
			one.replicates, one.passesRows, one.until, one.comment)
		return nil
	})
	if err != nil {
		return err
	}
	if err := r.tx.QueryRow(r.ctx, "SELECT session_user").Scan(&r.self); err != nil {
		return err
	}
	for _, one := range r.roles {
		made := strings.HasPrefix(one.comment, accountMark(r.system))
		if one.login || made {
			r.state.Accounts = append(r.state.Accounts, target.Account{Name: one.name, Made: made,
				Reserved: one.name == r.self || one.system})
		} else if !one.system && !strings.HasPrefix(one.comment, mark(r.system)) {
			// A role without sign-in may be an account all the same, where the policy lists it.
			r.state.Accounts = append(r.state.Accounts, target.Account{Name: one.name})
		}
	}
	return nil
}

// accountMark begins the comment on an account that hgate made.
func accountMark(system string) string { return mark(system) + "account " }

// ownerMark begins the comment on a role that hgate made for owning what grants give all of.
func ownerMark(system string) string { return mark(system) + "owner " }

// keepOwners says which places keep their owner: those that belong to somebody in particular, and all where hgate's own
// account is no superuser, who alone can give anything to anybody.
func (r *reading) keepOwners() {
	super := r.roles[r.self] != nil && r.roles[r.self].super
	for i := range r.state.Places {
		o := r.roles[r.objects[i].owner]
		if !super || o == nil || !o.super && !strings.HasPrefix(o.comment, ownerMark(r.system)) {
			r.state.Places[i].Lacks |= owning
		}
	}
}

// grantMark begins the comment on a role that hgate made for a grant.
func grantMark(system string) string { return mark(system) + "grant " }

// add adds an object, with a place of the state where an address can name it.
func (r *reading) add(class, oid uint32, o object, path string, named bool, typ string) {
	o.oid = oid
	n := len(r.objects)
	switch {
	case !named:
		r.state.Unnamed = append(r.state.Unnamed, o.text())
		return
	case path == "" && o.kind != database:
		return
	}
	r.objects = append(r.objects, o)
	r.byOID[[2]uint32{class, oid}] = n
	r.state.Places = append(r.state.Places, target.Place{Path: path, Type: typ})
	if o.kind == schema {
		r.schemas[o.name] = n
	}
	r.seen("object %d %d %q %q", class, oid, o.text(), o.owner)
}

// entry is an entry of an access list, with the object it is of.
type entry struct {
	oid            uint32
	grantee, giver *string
	priv           string
}

// entries reads access lists; a query gives the oid, the grantee (NULL for everybody), the privilege and who gave it.
func (r *reading) entries(class uint32, query string) error {
	return r.rows(query, func(rows pgx.Rows) error {
		var e entry
		if err := rows.Scan(&e.oid, &e.grantee, &e.priv, &e.giver); err != nil {
			return err
		}
		n, known := r.byOID[[2]uint32{class, e.oid}]
		if !known {
			return nil
		}
		who, by := "", ""
		if e.grantee != nil {
			who = *e.grantee
		}
		if e.giver != nil {
			by = *e.giver
		}
		if r.acl[who] == nil {
			r.acl[who] = map[held]string{}
		}
		r.acl[who][held{n, e.priv}] = by
		r.seen("acl %d %d %q %q %q", class, e.oid, who, e.priv, by)
		return nil
	})
}

// exploded is a query for the access lists of a catalog.
func exploded(catalog, list, defaults, where string) string {
	return fmt.Sprintf(`SELECT c.oid, g.rolname, x.privilege_type, b.rolname FROM pg_catalog.%s c
		CROSS JOIN LATERAL pg_catalog.aclexplode(coalesce(c.%s, %s)) x
		LEFT JOIN pg_catalog.pg_roles g ON g.oid = x.grantee LEFT JOIN pg_catalog.pg_roles b ON b.oid = x.grantor
		WHERE %s`, catalog, list, defaults, where)
}

func (r *reading) readDatabase() error {
	var oid uint32
	var name, owner string
	row := r.tx.QueryRow(r.ctx, `SELECT d.oid, d.datname, pg_catalog.pg_get_userbyid(d.datdba)
		FROM pg_catalog.pg_database d WHERE d.datname = pg_catalog.current_database()`)
	if err := row.Scan(&oid, &name, &owner); err != nil {
		return err
	}
	r.add(classDatabase, oid, object{kind: database, name: name, owner: owner}, "", true, "server")
	return r.entries(classDatabase, exploded("pg_database", "datacl", "pg_catalog.acldefault('d', c.datdba)",
		"c.datname = pg_catalog.current_database()"))
}

// ours leaves out the schemas of PostgreSQL itself.
const ours = `n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'`

func (r *reading) readSchemas() error {
	err := r.rows(`SELECT n.oid, n.nspname, pg_catalog.pg_get_userbyid(n.nspowner) FROM pg_catalog.pg_namespace n
		WHERE `+ours+` ORDER BY n.nspname`, func(rows pgx.Rows) error {
		var oid uint32
		o := object{kind: schema}
		if err := rows.Scan(&oid, &o.name, &o.owner); err != nil {
			return err
		}
		path, named := target.PathOf(o.name)
		r.add(classSchema, oid, o, path, named, "schema")
		return nil
	})
	if err != nil {
		return err
	}
	return r.entries(classSchema, exploded("pg_namespace", "nspacl", "pg_catalog.acldefault('n', c.nspowner)", "true"))
}

// plain is whether PostgreSQL plans statements about a table without running what others wrote: it evaluates constant
// parts of defaults, of expressions in indexes, of rules and of policies while it plans, with the rights of hgate's own
// account within reach. A table is plain that has no rules, policies or children, and none of whose defaults, indexes
// and constraints needs anything but what is PostgreSQL's own.
const plain = `c.relkind = 'r' AND NOT c.relhasrules AND NOT c.relrowsecurity AND NOT c.relhassubclass
		AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE
			d.refclassid IN ('pg_catalog.pg_proc'::pg_catalog.regclass, 'pg_catalog.pg_operator'::pg_catalog.regclass,
				'pg_catalog.pg_opclass'::pg_catalog.regclass, 'pg_catalog.pg_opfamily'::pg_catalog.regclass,
				'pg_catalog.pg_type'::pg_catalog.regclass)
			AND (d.classid, d.objid) IN (
				SELECT 'pg_catalog.pg_attrdef'::pg_catalog.regclass, x.oid FROM pg_catalog.pg_attrdef x WHERE x.adrelid = c.oid
				UNION ALL SELECT 'pg_catalog.pg_constraint'::pg_catalog.regclass, x.oid FROM pg_catalog.pg_constraint x
					WHERE x.conrelid = c.oid
				UNION ALL SELECT 'pg_catalog.pg_class'::pg_catalog.regclass, x.indexrelid FROM pg_catalog.pg_index x
					WHERE x.indrelid = c.oid))`

// firstNormalText is firstNormal for queries.
const firstNormalText = "16384"

func (r *reading) readRelations() error {
	err := r.rows(`SELECT c.oid, n.nspname, c.relname, pg_catalog.pg_get_userbyid(c.relowner), c.relkind IN ('v', 'm'),
		`+plain+`, coalesce((SELECT a.attname FROM pg_catalog.pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0
		AND NOT a.attisdropped AND a.attgenerated = '' AND a.attidentity <> 'a' AND a.atttypid < `+firstNormalText+`
		ORDER BY a.attnum LIMIT 1), '')
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND `+ours+` ORDER BY 2, 3`, func(rows pgx.Rows) error {
		var oid uint32
		var view bool
		o := object{kind: relation}
		if err := rows.Scan(&oid, &o.schema, &o.name, &o.owner, &view, &o.plain, &o.column); err != nil {
			return err
		}
		typ := "table"
		if view {
			typ = "view"
		}
		path, named := target.PathOf(o.schema, o.name)
		r.add(classRelation, oid, o, path, named, typ)
		return nil
	})
	if err != nil {
		return err
	}
	return r.entries(classRelation, exploded("pg_class", "relacl", "pg_catalog.acldefault('r', c.relowner)",
		"c.relkind IN ('r', 'p', 'v', 'm', 'f')"))
}

// readRoutines reads functions and procedures. One that shares its name with another, or a table, is named with its
// arguments.
func (r *reading) readRoutines() error {
	type found struct {
		oid uint32
		object
	}
	var all []found
	count := map[[2]string]int{}
	for _, o := range r.objects {
		if o.kind == relation {
			count[[2]string{o.schema, o.name}]++
		}
	}
	err := r.rows(`SELECT p.oid, n.nspname, p.proname, pg_catalog.pg_get_function_identity_arguments(p.oid),
		pg_catalog.pg_get_userbyid(p.proowner) FROM pg_catalog.pg_proc p
		JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace WHERE p.prokind IN ('f', 'p') AND `+ours+`
		ORDER BY 2, 3, 4`, func(rows pgx.Rows) error {
		one := found{object: object{kind: routine}}
		if err := rows.Scan(&one.oid, &one.schema, &one.name, &one.args, &one.owner); err != nil {
			return err
		}
		all = append(all, one)
		count[[2]string{one.schema, one.name}]++
		return nil
	})
	if err != nil {
		return err
	}
	for _, one := range all {
		name := one.name
		if count[[2]string{one.schema, one.name}] > 1 {
			name += "(" + one.args + ")"
		}
		path, named := target.PathOf(one.schema, name)
		r.add(classRoutine, one.oid, one.object, path, named, "function")
	}
	return r.entries(classRoutine, exploded("pg_proc", "proacl", "pg_catalog.acldefault('f', c.proowner)",
		"c.prokind IN ('f', 'p')"))
}

// readSequences reads the sequences from which columns are filled: whoever adds rows needs them.
func (r *reading) readSequences() error {
	err := r.rows(`SELECT c.oid, n.nspname, c.relname, pg_catalog.pg_get_userbyid(c.relowner), d.refobjid
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_catalog.pg_depend d ON d.objid = c.oid AND d.classid = 'pg_catalog.pg_class'::pg_catalog.regclass
		AND d.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass AND d.deptype = 'a'
		WHERE c.relkind = 'S' AND `+ours+` ORDER BY 2, 3`, func(rows pgx.Rows) error {
		var oid, table uint32
		o := object{kind: sequence}
		if err := rows.Scan(&oid, &o.schema, &o.name, &o.owner, &table); err != nil {
			return err
		}
		of, known := r.byOID[[2]uint32{classRelation, table}]
		if !known {
			return nil
		}
		n := len(r.objects)
		o.oid, o.fills = oid, of
		r.objects = append(r.objects, o)
		r.byOID[[2]uint32{classRelation, oid}] = n
		r.objects[of].serials = append(r.objects[of].serials, n)
		return nil
	})
	if err != nil {
		return err
	}
	return r.entries(classRelation, exploded("pg_class", "relacl", "pg_catalog.acldefault('s', c.relowner)",
		"c.relkind = 'S'"))
}

// readColumns reads the rights on single columns, as rights on their table.
func (r *reading) readColumns() error {
	return r.entries(classRelation, `SELECT a.attrelid, g.rolname, x.privilege_type || '`+columns+`', b.rolname
		FROM pg_catalog.pg_attribute a CROSS JOIN LATERAL pg_catalog.aclexplode(a.attacl) x
		LEFT JOIN pg_catalog.pg_roles g ON g.oid = x.grantee LEFT JOIN pg_catalog.pg_roles b ON b.oid = x.grantor
		WHERE a.attacl IS NOT NULL AND NOT a.attisdropped AND x.grantee NOT IN (SELECT y.grantee
		FROM pg_catalog.pg_class c CROSS JOIN LATERAL pg_catalog.aclexplode(c.relacl) y
		WHERE c.oid = a.attrelid AND y.privilege_type = x.privilege_type)`)
}
