//go:build unix

package mariadb

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// bench is a server with policies for it.
type bench struct {
	*targettest.Bench
	owner  *sql.DB
	system *system
	at     string
	text   string   // the inventory
	listed []string // the addresses of what it lists, but for accounts
	again  []string // what makes the objects that tries take away
}

func newBench(t testing.TB, at string) *bench {
	reached, err := connect(t.Context(), target.Connection{System: "db", At: at})
	require.NoError(t, err)
	t.Cleanup(reached.Close)
	b := &bench{system: reached.(*system), at: at, owner: open(t, at, "root", "")}
	b.Bench = targettest.New(t, "db", &Driver.Carries, reached)
	return b
}

// open signs in; what is told runs in one session.
func open(t testing.TB, at, user, password string) *sql.DB {
	config, err := configOf(at, password)
	require.NoError(t, err)
	config.User = user
	connector, err := mysql.NewConnector(config)
	require.NoError(t, err)
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { db.Close() })
	return db
}

func (b *bench) exec(format string, args ...any) {
	b.T.Helper()
	for text := range strings.SplitSeq(fmt.Sprintf(format, args...), "; ") {
		_, err := b.owner.ExecContext(b.T.Context(), text)
		require.NoError(b.T, err, text)
	}
}

// fill makes objects; each is listed but one table of the last schema.
func (b *bench) fill(schemas int) {
	var lines []string
	list := func(typ, again string, names ...string) {
		path, ok := target.PathOf(names...)
		require.True(b.T, ok, names)
		lines = append(lines, fmt.Sprintf("%q: {type: %s}", path, typ))
		b.listed = append(b.listed, "db:"+path)
		b.again = append(b.again, again)
		b.exec("%s", again)
	}
	for i := range schemas {
		s := awkward[i%len(awkward)]
		list("schema", "CREATE DATABASE "+ident(s), s)
		for j := range 5 {
			name := awkward[(i+j)%len(awkward)]
			switch full := identIn(s, name); j {
			case 4:
				list("function", "CREATE PROCEDURE "+full+"() SELECT 1", s, name)
			case 3:
				list("function", "CREATE FUNCTION "+full+"() RETURNS int RETURN 1", s, name)
			case 2:
				list("view", "CREATE VIEW "+full+" AS SELECT 1 AS n", s, name)
			default:
				list("table", "CREATE TABLE "+full+" (id int AUTO_INCREMENT PRIMARY KEY, v int)", s, name)
			}
		}
	}
	unlisted := "CREATE TABLE " + identIn(awkward[schemas-1], "unlisted") + " (v int)"
	b.exec("%s", unlisted)
	b.again = append(b.again, unlisted)
	b.text = strings.Join(lines, ", ")
}

// policy draws a policy for what is listed.
func (b *bench) policy(d *rand.Rand) string {
	var out strings.Builder
	fmt.Fprintf(&out, "hidden-gate: 1\nedition: 2\nsystems: {db: {kind: database, resources: {%s", b.text)
	out.WriteString(targettest.Accounts(awkward))
	operations := []string{"session.open", "session.open", "schema.create", "schema.drop", "session.end", "session.view",
		"server.stop", "table.create", "view.define", "function.define", "table.read", "table.insert", "table.update",
		"table.delete", "function.run", "table.alter", "table.drop", "table.grant", "index.change", "view.drop",
		"function.drop", "account.*", "role.*", "from change", "only use", "only view", "*", "*"}
	whom := []string{"group:g0", "group:g1", "group:g2", "p0", "p3", "p5", "p6", "everyone"}
	when := []string{"", "", "", "", ", when: {mfa: true}", ", when: {network: [10.0.0.0/8]}", ", ends: 2020-01-01",
		", when: {hours: [\"09:00-17:00\"]}"}
	where := append([]string{"db", "db", "db", "everything"}, b.listed...)
	rules := targettest.Rules(d, operations, whom, where, when)
	if d.IntN(4) > 0 { // most sign in, and try
		rules = strings.Replace(rules, "grants:\n", "  opens: {allow: [session.open]}\n"+
			"grants:\n  in: {to: everyone, role: opens, on: {in: db, exactly: true}}\n", 1)
	}
	out.WriteString(rules)
	return out.String()
}

func rounds() int {
	if testing.Short() {
		return 2
	}
	return 12
}

// Whatever a policy says, the server does after a push: every account that can sign in does so, and tries everything.
func TestTheServerDoesWhatThePolicySays(t *testing.T) {
	b := newBench(t, servers.MariaDB(t))
	b.fill(5)
	asked, tried := 0, 0
	d := rand.New(rand.NewPCG(3, 7))
	for i := range targettest.Few / 2 {
		b.exec("CREATE USER %s IDENTIFIED BY 'known'", who{awkward[i] + " person", anyHost}.text())
	}
	for range rounds() {
		text := b.policy(d)
		g := targettest.Load(t, text)
		plan := b.Push(g)
		a, _, wrong := b.Ask(g)
		require.Empty(t, wrong, "%s\n%s", text, targettest.Texts(plan))
		asked += a
		tried += b.tryAll(g, false)
	}
	b.stop()
	t.Logf("asked %d, and tried %d", asked, tried)
	assert.Greater(t, tried, rounds()*300)
	targettest.EachIsGiven(t, &Driver.Carries, b.Allowed)
}

// stop has somebody who may stop the server do so.
func (b *bench) stop() {
	g := targettest.Load(b.T, "hidden-gate: 1\nsystems: {db: {kind: database}}\npeople: {ana: {}}\n"+
		"roles: {r: {allow: [session.open, server.stop]}}\ngrants: {a: {to: ana, role: r, on: db}}\n")
	b.Push(g)
	ana := b.signIn("ana")
	_, err := ana.Exec("SHUTDOWN")
	require.NoError(b.T, err)
	require.Eventually(b.T, func() bool { return b.owner.Ping() != nil }, 20*time.Second, 50*time.Millisecond)
}

// tryAll has every account that can sign in do everything that is carried and leaves the server as it is, and tells how
// much was tried.
func (b *bench) tryAll(g *gate.Gate, adopted bool) (tried int) {
	snap, err := b.system.Read(b.T.Context())
	require.NoError(b.T, err)
	s := snap.(*snapshot)
	var db *sql.DB
	var last *target.Holder
	for q := range targettest.Everything(b.Arrange(g, snap, nil).Wanted) {
		if q.Holder != last {
			last, db = q.Holder, b.signIn(q.Holder.Account)
			if db != nil {
				defer db.Close()
			}
		}
		opens := s.powerOf(accountOf(q.Holder.Account)).open
		require.Equal(b.T, opens, db != nil, q.Holder.Account)
		if db == nil || q.Operation == "session.open" {
			continue
		}
		could, can := b.try(db, s, q)
		if !can {
			continue
		}
		tried++
		if !could && (!q.Expected || adopted) { // with none of its roles; as it is found, one will do
			for _, role := range s.in[accountOf(q.Holder.Account)] {
				_, err := db.Exec("SET ROLE " + ident(role))
				require.NoError(b.T, err)
				with, _ := b.try(db, s, q)
				could = could || with
			}
			standard := "NONE"
			if is := s.accounts[accountOf(q.Holder.Account)].standard; is != "" {
				standard = ident(is)
			}
			_, err := db.Exec("SET ROLE " + standard)
			require.NoError(b.T, err)
		}
		assert.True(b.T, could == q.Expected || could && q.Allows, "%s %s at %s: %t", q.Holder.Account, q.Operation,
			s.state.Address("db", q.Place), could)
	}
	return tried
}

// signIn signs in as an account, and changes the first password where it has to be; nil if it may not.
func (b *bench) signIn(account string) *sql.DB {
	password := "known"
	first, handed := b.First[account]
	if handed {
		password = first
	}
	db := open(b.T, b.at, accountOf(account).user, password)
	if _, err := db.Exec("DO 1"); err != nil {
		fault, ok := err.(*mysql.MySQLError)
		require.True(b.T, ok, "%v", err)
		switch fault.Number {
		case 4151: // the account is locked
			return nil
		case 1820: // it has to change its password
			_, err := db.Exec("SET PASSWORD = PASSWORD('changed by its owner')")
			require.NoError(b.T, err)
			b.First[account] = "changed by its owner"
			db.Close()
			return b.signIn(account)
		}
		require.NoError(b.T, err, account)
	}
	return db
}

// try has somebody do something, and undoes it; can is false for what cannot be undone.
func (b *bench) try(db *sql.DB, s *snapshot, q target.Question) (could, can bool) {
	o := &s.objects[q.Place]
	name := identIn(o.schema, o.name)
	run := func(text string) bool {
		_, err := db.ExecContext(b.T.Context(), text)
		if fault, ok := err.(*mysql.MySQLError); ok && (fault.Number == 1051 || fault.Number == 1305) {
			err = nil // it is not there, which it was not told before it was asked for the right
		}
		require.True(b.T, err == nil || isDenied(err), "%s: %v", text, err)
		return err == nil
	}
	undo := func(ok bool, text string) bool {
		if ok {
			b.exec("%s", text)
		}
		return ok
	}
	switch q.Operation {
	case "schema.create":
		return undo(run("CREATE DATABASE tried"), "DROP DATABASE tried"), true
	case "schema.drop":
		return run("DROP TABLE " + identIn(o.name, "no such table")), true
	case "session.view":
		var n int
		require.NoError(b.T, db.QueryRow("SELECT count(*) FROM information_schema.PROCESSLIST WHERE USER = 'root'").Scan(&n))
		return n > 0, true
	case "session.end":
		var id int
		require.NoError(b.T, b.owner.QueryRow("SELECT CONNECTION_ID()").Scan(&id))
		return run(fmt.Sprintf("KILL QUERY %d", id)), true
	case "server.stop": // who may is believed, but for one at the end
		return !q.Expected && run("SHUTDOWN"), !q.Expected
	case "account.create":
		return undo(run("CREATE USER tried"), "DROP USER tried"), true
	case "account.alter", "account.set-password", "account.remove":
		b.exec("CREATE OR REPLACE USER tried")
		text := map[string]string{"account.alter": "ALTER USER tried ACCOUNT LOCK",
			"account.set-password": "ALTER USER tried IDENTIFIED BY 'other'", "account.remove": "DROP USER tried"}
		ok := run(text[q.Operation])
		b.exec("DROP USER IF EXISTS tried")
		return ok, true
	case "role.alter":
		return undo(run("CREATE ROLE tried"), "DROP ROLE tried"), true
	case "table.create":
		return undo(run("CREATE TABLE "+identIn(o.name, "tried")+" (id int)"), "DROP TABLE "+identIn(o.name, "tried")), true
	case "view.define":
		if o.kind == schema {
			return undo(run("CREATE VIEW "+identIn(o.name, "tried")+" AS SELECT 1"), "DROP VIEW "+identIn(o.name, "tried")), true
		}
		return run("CREATE OR REPLACE VIEW " + name + " AS SELECT 1 AS n"), true
	case "function.define", "function.drop":
		if o.kind == schema {
			made := identIn(o.name, "tried") // which belongs to nobody, but for the rights that its maker gets
			return undo(run("CREATE FUNCTION "+made+"() RETURNS int RETURN 1"), "DROP FUNCTION "+made), true
		}
		return run("ALTER " + o.word + " " + name + " COMMENT 'tried'"), true
	case "function.run":
		if o.word == "PROCEDURE" {
			return run("CALL " + name + "()"), true
		}
		return run("DO " + name + "()"), true
	case "table.read":
		return run("SELECT 1 FROM " + name + " LIMIT 0"), true
	case "table.insert":
		return run("INSERT INTO " + name + " (v) VALUES (1)"), true
	case "table.update":
		return run("UPDATE " + name + " SET v = 2 LIMIT 1"), true
	case "table.delete": // by either right
		if run("DELETE FROM " + name) {
			return true, true
		}
		return run("TRUNCATE " + name), true
	case "table.alter":
		return run("ALTER TABLE " + name + " COMMENT 'tried'"), true
	case "index.change":
		if run("CREATE OR REPLACE INDEX tried ON " + name + " (v)") {
			return true, true
		}
		return run("ALTER TABLE " + name + " ADD INDEX IF NOT EXISTS tried (v)"), true
	case "table.drop", "view.drop":
		word := map[bool]string{true: "VIEW ", false: "TABLE "}[q.Operation == "view.drop"]
		ok := run("DROP " + word + name)
		if ok {
			for _, again := range b.again {
				if strings.Contains(again, " "+word+name+" ") {
					b.exec("%s", again)
				}
			}
		}
		return ok, true
	case "table.grant":
		return undo(run("GRANT USAGE ON "+name+" TO root@localhost WITH GRANT OPTION"),
			"REVOKE GRANT OPTION ON "+name+" FROM root@localhost"), true
	}
	return false, false
}
