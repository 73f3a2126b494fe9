package mariadb

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"

	"hiddengate/internal/target"
)

// oldest is the oldest version that is read: the first with rights for everybody.
var oldest = [2]int{10, 11}

// system is a server that has been reached.
type system struct {
	db   *sql.DB
	conn *sql.Conn
	at   string
	name string
}

var versionText = regexp.MustCompile(`^(\d+)\.(\d+)\.\d+.*MariaDB`)

// connect reaches a server.
func connect(ctx context.Context, to target.Connection) (target.System, error) {
	config, err := configOf(to.At, to.Secret)
	if err != nil {
		return nil, err
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	s := &system{db: sql.OpenDB(connector), at: config.Addr, name: to.System}
	if s.conn, err = s.db.Conn(ctx); err != nil {
		s.db.Close()
		return nil, s.said(err)
	}
	var version string
	if err := s.conn.QueryRowContext(ctx, "SELECT VERSION()").Scan(&version); err != nil {
		s.Close()
		return nil, s.said(err)
	}
	parts := versionText.FindStringSubmatch(version)
	if parts == nil {
		s.Close()
		return nil, fmt.Errorf("%s says that it is %.40q, which is no version of MariaDB", s.at, version)
	}
	major, _ := strconv.Atoi(parts[1])
	minor, _ := strconv.Atoi(parts[2])
	if major < oldest[0] || major == oldest[0] && minor < oldest[1] {
		s.Close()
		return nil, fmt.Errorf("the server is older than MariaDB %d.%d", oldest[0], oldest[1])
	}
	return s, nil
}

// said gives an error of the server as people are told it.
func (s *system) said(err error) error {
	if fault := new(mysql.MySQLError); errors.As(err, &fault) {
		return fmt.Errorf("%s: %.300s", s.at, fault.Message)
	}
	return fmt.Errorf("%s: %w", s.at, err)
}

// Close ends what was reached.
func (s *system) Close() {
	if s.conn != nil {
		s.conn.Close()
	}
	s.db.Close()
}

// Read reads what there is, and who may do what.
func (s *system) Read(ctx context.Context) (target.Snapshot, error) { return s.read(ctx) }

// reading is a snapshot on its way.
type reading struct {
	*snapshot
	ctx  context.Context
	conn *sql.Conn
	sum  []string
}

func (s *system) read(ctx context.Context) (*snapshot, error) {
	r := &reading{newSnapshot(s.name), ctx, s.conn, nil}
	for _, step := range []func() error{r.readSchemas, r.readRelations, r.readRoutines, r.readAccounts, r.readMembers,
		r.readSchemaRights, r.readTableRights, r.readColumnRights, r.readRoutineRights, r.readProxies} {
		if err := step(); err != nil {
			return nil, s.said(err)
		}
	}
	r.tellAccounts()
	slices.Sort(r.sum)
	sum := sha256.Sum256([]byte(strings.Join(r.sum, "\n")))
	r.key = hex.EncodeToString(sum[:])
	return r.snapshot, nil
}

// query goes through the answer to a query, whose columns are texts, by their names in capitals.
func (r *reading) query(query string, each func(map[string]string) error) error {
	rows, err := r.conn.QueryContext(r.ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	values, to := make([]sql.RawBytes, len(names)), make([]any, len(names))
	for i := range names {
		to[i], names[i] = &values[i], strings.ToUpper(names[i])
	}
	row := map[string]string{}
	for rows.Next() {
		if err := rows.Scan(to...); err != nil {
			return err
		}
		for i, name := range names {
			row[name] = string(values[i])
		}
		if err := each(row); err != nil {
			return err
		}
	}
	return rows.Err()
}

// seen takes down what was read, so that a change is noticed.
func (r *reading) seen(format string, args ...any) {
	r.sum = append(r.sum, fmt.Sprintf(format, args...))
}

// place adds an object that is a place of the state, where an address can name it.
func (r *reading) place(o object, typ string, names ...string) {
	path, named := "", true
	if len(names) > 0 {
		path, named = target.PathOf(names...)
	}
	r.seen("%s %q", typ, names)
	if !named {
		r.state.Unnamed = append(r.state.Unnamed, typ+" "+strings.Join(names, "."))
		return
	}
	r.add(o)
	r.state.Places = append(r.state.Places, target.Place{Path: path, Type: typ})
}

func (r *reading) readSchemas() error {
	r.place(object{kind: server}, "server")
	return r.query("SELECT SCHEMA_NAME AS name FROM information_schema.SCHEMATA ORDER BY 1",
		func(row map[string]string) error {
			if !isOwn(row["NAME"]) {
				r.place(object{kind: schema, name: row["NAME"]}, "schema", row["NAME"])
			}
			return nil
		})
}

// readRelations reads tables and views. What is only a sequence has no operation.
func (r *reading) readRelations() error {
	return r.query(`SELECT TABLE_SCHEMA AS in_schema, TABLE_NAME AS name, TABLE_TYPE AS typ FROM information_schema.TABLES
		WHERE TABLE_TYPE IN ('BASE TABLE', 'SYSTEM VERSIONED', 'VIEW') ORDER BY 1, 2`, func(row map[string]string) error {
		if isOwn(row["IN_SCHEMA"]) {
			return nil
		}
		typ := "table"
		if row["TYP"] == "VIEW" {
			typ = "view"
		}
		r.place(object{kind: relation, schema: row["IN_SCHEMA"], name: row["NAME"]}, typ, row["IN_SCHEMA"], row["NAME"])
		return nil
	})
}

func (r *reading) readRoutines() error {
	var all []object
	count := map[[2]string]int{}
	for i := range r.objects {
		if o := &r.objects[i]; o.kind == relation {
			count[[2]string{o.schema, o.name}]++
		}
	}
	err := r.query(`SELECT ROUTINE_SCHEMA AS in_schema, ROUTINE_NAME AS name, ROUTINE_TYPE AS typ
		FROM information_schema.ROUTINES WHERE ROUTINE_TYPE IN ('FUNCTION', 'PROCEDURE') ORDER BY 1, 2, 3`,
		func(row map[string]string) error {
			if !isOwn(row["IN_SCHEMA"]) {
				one := object{kind: routine, schema: row["IN_SCHEMA"], name: row["NAME"], word: row["TYP"]}
				all = append(all, one)
				count[[2]string{one.schema, one.name}]++
			}
			return nil
		})
	if err != nil {
		return err
	}
	for _, one := range all {
		name := one.name
		if count[[2]string{one.schema, one.name}] > 1 {
			name += "(" + strings.ToLower(one.word) + ")"
		}
		r.place(one, "function", one.schema, name)
	}
	return nil
}

// readAccounts reads accounts and roles with their rights on the whole server.
func (r *reading) readAccounts() error {
	return r.query("SELECT User, Host, Priv FROM mysql.global_priv", func(row map[string]string) error {
		var is struct {
			Access   uint64 `json:"access"`
			Version  int    `json:"version_id"`
			Role     bool   `json:"is_role"`
			Locked   bool   `json:"account_locked"`
			Standard string `json:"default_role"`
			Password string `json:"authentication_string"`
		}
		if err := json.Unmarshal([]byte(row["PRIV"]), &is); err != nil {
			return fmt.Errorf("what the server keeps of %.80q cannot be read", row["USER"])
		}
		one := who{row["USER"], row["HOST"]}
		unset := is.Password == noPassword
		is.Password = "" // it is nobody's business
		r.seen("account %q %+v %t", one, is, unset)
		if is.Role {
			one.host = ""
			if one != public {
				r.roles[one.user] = true
			}
		} else {
			r.accounts[one] = &account{locked: is.Locked, standard: is.Standard, unset: unset}
		}
		for _, right := range globalRights(is.Access, is.Version) {
			r.give(one, 0, right)
		}
		return nil
	})
}

func (r *reading) give(to who, object int, right string) {
	if r.acl[to] == nil {
		r.acl[to], r.rows[to] = map[held]bool{}, map[int]bool{}
	}
	r.acl[to][held{object, right}], r.rows[to][object] = true, true
	r.seen("%q %+v %s", to, r.objects[object].told(), right)
}

func (r *reading) readMembers() error {
	if err := r.query("SELECT CURRENT_USER() AS me", func(row map[string]string) error {
		r.self = accountOf(row["ME"])
		return nil
	}); err != nil {
		return err
	}
	return r.query("SELECT User, Host, Role FROM mysql.roles_mapping ORDER BY 1, 2, 3", func(row map[string]string) error {
		one := r.whose(row)
		if r.roles[row["ROLE"]] {
			r.in[one] = append(r.in[one], row["ROLE"])
			if a := r.accounts[one]; a != nil && row["ROLE"] == markerName(r.system) {
				a.made = true
			}
		}
		r.seen("member %q %q", one, row["ROLE"])
		return nil
	})
}

// whose tells whose a row is.
func (r *reading) whose(row map[string]string) who { return who{row["USER"], row["HOST"]} }

// schemaObject gives the object for what rights on a schema are kept by.
func (r *reading) schemaObject(db string) int {
	if name, plain := plainOf(db); plain {
		if n, known := r.at[told{kind: schema, name: name}]; known {
			return n
		}
	}
	o := object{kind: pattern, name: db, system: fitting(strings.ToLower(db), deciding)}
	if n, known := r.at[o.told()]; known {
		return n
	}
	n := len(r.objects)
	for i := range r.state.Places {
		if one := &r.objects[i]; one.kind == schema && fitting(db, one.name) {
			o.fits = append(o.fits, i)
			r.patterns[i] = append(r.patterns[i], n)
		}
	}
	return r.add(o)
}

func (r *reading) readSchemaRights() error {
	defer func() {
		for i := range r.objects {
			if r.objects[i].system {
				r.deciding = append(r.deciding, i)
			}
		}
		for _, patterns := range append(slices.Collect(maps.Values(r.patterns)), r.deciding) {
			slices.SortFunc(patterns, func(a, b int) int { return compareSpecific(r.objects[a].name, r.objects[b].name) })
		}
	}()
	return r.query("SELECT * FROM mysql.db", func(row map[string]string) error {
		n := r.schemaObject(row["DB"])
		one := r.whose(row)
		r.stands(one)
		for name, value := range row {
			if short, is := strings.CutSuffix(name, "_PRIV"); is && value == "Y" {
				r.give(one, n, rightOfColumn(short))
			}
		}
		return nil
	})
}

// stands takes down that somebody has rights in schemas, which may be those of others with the same user.
func (r *reading) stands(one who) {
	if one.host != "" && !slices.Contains(r.standing[one.user], one) {
		r.standing[one.user] = append(r.standing[one.user], one)
	}
}

func (r *reading) relationObject(row map[string]string) int {
	return r.add(object{kind: relation, schema: row["DB"], name: row["TABLE_NAME"],
		system: strings.EqualFold(row["DB"], deciding)})
}

func (r *reading) readTableRights() error {
	return r.query("SELECT User, Host, Db, Table_name, Table_priv FROM mysql.tables_priv",
		func(row map[string]string) error {
			n, one := r.relationObject(row), r.whose(row)
			r.stands(one)
			for _, right := range rightsOfSet(row["TABLE_PRIV"]) {
				r.give(one, n, right)
			}
			return nil
		})
}

// readColumnRights reads the rights on single columns, as rights on their table.
func (r *reading) readColumnRights() error {
	return r.query("SELECT User, Host, Db, Table_name, Column_name, Column_priv FROM mysql.columns_priv",
		func(row map[string]string) error {
			n, one := r.relationObject(row), r.whose(row)
			r.stands(one)
			for _, right := range rightsOfSet(row["COLUMN_PRIV"]) {
				if !r.acl[one][held{n, right}] {
					r.give(one, n, right+columns)
				}
			}
			r.seen("column %q %q", row["COLUMN_NAME"], row["COLUMN_PRIV"])
			return nil
		})
}

func (r *reading) readRoutineRights() error {
	return r.query("SELECT User, Host, Db, Routine_name, Routine_type, Proc_priv FROM mysql.procs_priv",
		func(row map[string]string) error {
			n := r.add(object{kind: routine, schema: row["DB"], name: row["ROUTINE_NAME"], word: row["ROUTINE_TYPE"]})
			one := r.whose(row)
			r.stands(one)
			for _, right := range rightsOfSet(row["PROC_PRIV"]) {
				r.give(one, n, right)
			}
			return nil
		})
}

// readProxies reads which accounts may sign in as others.
func (r *reading) readProxies() error {
	return r.query("SELECT User, Host, Proxied_user, Proxied_host FROM mysql.proxies_priv ORDER BY 1, 2, 3, 4",
		func(row map[string]string) error {
			one := r.whose(row)
			r.proxies[one] = append(r.proxies[one], who{row["PROXIED_USER"], row["PROXIED_HOST"]}.name())
			r.seen("proxy %q %q", one, r.proxies[one])
			return nil
		})
}

// reserved are the users of accounts that the server needs.
var reserved = []string{"root", "mariadb.sys", "mysql"}

// tellAccounts lists the accounts of the state.
func (r *reading) tellAccounts() {
	var all []who
	for one := range r.accounts {
		all = append(all, one)
	}
	for _, one := range sorted(all) {
		if one.user == "" {
			r.state.Unnamed = append(r.state.Unnamed, "the account without a name at "+one.host)
			continue
		}
		r.state.Accounts = append(r.state.Accounts, target.Account{Name: one.name(), Made: r.accounts[one].made,
			Reserved: one == r.self || slices.Contains(reserved, one.user)})
	}
}
