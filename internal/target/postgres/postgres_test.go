//go:build unix

package postgres

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// bench is a database with policies for it.
type bench struct {
	*targettest.Bench
	owner  *pgx.Conn
	system target.System
	text   string // the inventory
}

func connectAs(t testing.TB, address string) *pgx.Conn {
	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

func (b *bench) exec(format string, args ...any) {
	_, err := b.owner.Exec(b.T.Context(), fmt.Sprintf(format, args...), pgx.QueryExecModeSimpleProtocol)
	require.NoError(b.T, err, fmt.Sprintf(format, args...))
}

// someSettings are those that the policies list.
var someSettings = []target.Place{{Path: "settings/work_mem", Type: "setting"},
	{Path: "settings/Log_Statement", Type: "setting"}, {Path: "settings/archive_command", Type: "setting"},
	{Path: "settings/none.such", Type: "setting"}}

// newBench makes a database of some schemas with tables, views and functions, and its inventory.
func newBench(t testing.TB, address, base string) *bench {
	admin := connectAs(t, address)
	_, err := admin.Exec(t.Context(), "CREATE DATABASE "+ident(base))
	require.NoError(t, err)
	at := strings.Replace(address, "/postgres?", "/"+base+"?", 1)
	b := &bench{owner: connectAs(t, at)}
	b.system, err = connect(t.Context(), target.Connection{System: "db", At: at, Listed: someSettings})
	require.NoError(t, err)
	t.Cleanup(b.system.Close)
	b.Bench = targettest.New(t, "db", &Driver.Carries, b.system)
	return b
}

// fill makes objects; each is listed but one table of each schema.
func (b *bench) fill(schemas, tables int) {
	var lines []string
	list := func(typ string, names ...string) {
		path, ok := target.PathOf(names...)
		require.True(b.T, ok, names)
		lines = append(lines, fmt.Sprintf("%q: {type: %s}", path, typ))
	}
	for i := range schemas {
		s := awkward[i%len(awkward)]
		b.exec("CREATE SCHEMA %s", ident(s))
		list("schema", s)
		for j := range tables {
			name := awkward[(i+j)%len(awkward)]
			switch j % 4 {
			case 3:
				b.exec("CREATE FUNCTION %s() RETURNS int LANGUAGE sql AS 'SELECT 1'", ident(s, name))
				list("function", s, name)
			case 2:
				b.exec("CREATE VIEW %s AS SELECT 1 AS n", ident(s, name))
				list("view", s, name)
			default:
				b.exec("CREATE TABLE %s (id serial PRIMARY KEY, \"Value\" text)", ident(s, name))
				list("table", s, name)
			}
		}
		b.exec("CREATE TABLE %s (id int)", ident(s, "unlisted"))
	}
	for _, p := range someSettings {
		list(p.Type, strings.Split(p.Path, "/")...)
	}
	b.text = strings.Join(lines, ", ")
}

// policy draws a policy for what is listed.
func (b *bench) policy(d *rand.Rand, addresses []string) string {
	var out strings.Builder
	fmt.Fprintf(&out, "hidden-gate: 1\nedition: 2\nsystems: {db: {kind: database, resources: {%s", b.text)
	out.WriteString(targettest.Accounts(awkward))
	operations := []string{"session.open", "schema.create", "session.end", "session.view", "settings.view", "table.create",
		"view.define", "function.define", "table.read", "table.insert", "table.update", "table.delete", "function.run",
		"table.alter", "settings.change", "backup.take",
		"account.*", "role.*", "from change", "only use", "only view", "*", "*"}
	whom := []string{"group:g0", "group:g1", "group:g2", "p0", "p3", "p5", "p6", "everyone"}
	when := []string{"", "", "", "", ", when: {mfa: true}", ", when: {network: [10.0.0.0/8]}", ", ends: 2020-01-01",
		", when: {hours: [\"09:00-17:00\"]}"}
	out.WriteString(targettest.Rules(d, operations, whom, addresses, when))
	return out.String()
}

// Whatever a policy says, the database says after a push: every account is asked about everything.
func TestTheDatabaseSaysWhatThePolicySays(t *testing.T) {
	onEach(t, func(t *testing.T, address string, rounds int) { saysWhatThePolicySays(t, address, rounds) })
}

// onEach tests with the system's PostgreSQL, and in fewer rounds with a newer one.
func onEach(t *testing.T, test func(t *testing.T, address string, rounds int)) {
	t.Run("installed", func(t *testing.T) { test(t, servers.Postgres(t), rounds()) })
	t.Run("newer", func(t *testing.T) { test(t, servers.NewerPostgres(t), max(2, rounds()/4)) })
}

func saysWhatThePolicySays(t *testing.T, address string, rounds int) {
	asked, tried, narrowed, altered := 0, 0, 0, 0
	had := map[string]int{}
	for round := range rounds {
		d := rand.New(rand.NewPCG(uint64(round), 7))
		b := newBench(t, address, fmt.Sprintf("round%d", round))
		b.fill(4, 5)
		g := targettest.Load(t, b.policy(d, []string{"db"}))
		addresses := []string{"db", "db", "everything"}
		for i := range g.Estate().Tree.Len() {
			if r := g.Estate().Tree.At(i); r.Type != "account" {
				addresses = append(addresses, r.Address.String())
			}
		}
		for range 4 { // the later ones are edits
			text := b.policy(d, addresses)
			if round%2 == 1 { // it decides about the tables that no inventory lists too
				text = strings.Replace(text, "kind: database,", "kind: database, unlisted: judge,", 1)
			}
			g = targettest.Load(t, text)
			plan := b.Push(g)
			if round%2 == 0 {
				assert.NotContains(t, targettest.Texts(plan), readsAll, "it reads what the policy gives nobody")
			}
			a, r, wrong := b.Ask(g)
			require.Empty(t, wrong, "round %d\n%s\n%s", round, text, targettest.Texts(plan))
			asked, tried = asked+a, tried+r
			altered += b.alter(g)
			snap, err := b.system.Read(t.Context())
			require.NoError(t, err)
			for _, c := range b.Arrange(g, snap, nil).Fidelity() {
				if c.How == target.Narrower {
					narrowed++
				}
			}
		}
		for operation, n := range b.Allowed {
			had[operation] += n
		}
		b.system.Close()
		for _, name := range madeBy(b) {
			b.exec("DROP OWNED BY %s; DROP ROLE %s", ident(name), ident(name))
		}
	}
	t.Logf("asked %d, of which %d were tried", asked, tried)
	assert.Greater(t, tried, asked/4)
	assert.Greater(t, narrowed, 0)
	assert.Greater(t, altered, 0)
	if !testing.Short() {
		targettest.EachIsGiven(t, &Driver.Carries, had)
	}
}

// alter has everybody alter and drop every table, and tells how many could.
func (b *bench) alter(g *gate.Gate) (could int) {
	snap, err := b.system.Read(b.T.Context())
	require.NoError(b.T, err)
	w := b.Arrange(g, snap, nil).Wanted
	for q := range targettest.Everything(w) {
		if q.Operation != "table.alter" && q.Operation != "view.drop" && q.Operation != "function.drop" {
			continue
		}
		o := &snap.(*snapshot).objects[q.Place]
		text := map[string]string{"table.alter": "ALTER TABLE %[1]s ADD extra int; DROP TABLE %[1]s",
			"view.drop": "DROP VIEW %s", "function.drop": "DROP ROUTINE %s"}[q.Operation]
		tx, err := b.owner.Begin(b.T.Context())
		require.NoError(b.T, err)
		_, err = tx.Exec(b.T.Context(), "SET LOCAL ROLE "+ident(q.Holder.Account)+";"+fmt.Sprintf(text, o.text()),
			pgx.QueryExecModeSimpleProtocol)
		assert.Equal(b.T, q.Expected, err == nil, "%s %s %s: %v", q.Holder.Account, q.Operation, o.text(), err)
		if err == nil {
			could++
		}
		require.NoError(b.T, tx.Rollback(b.T.Context()))
	}
	return could
}

// madeBy lists the roles that pushes made.
func madeBy(b *bench) []string {
	rows, err := b.owner.Query(b.T.Context(),
		"SELECT rolname FROM pg_roles WHERE oid >= 16384 AND rolname <> current_user")
	require.NoError(b.T, err)
	out, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(b.T, err)
	slices.Sort(out)
	return out
}

func rounds() int {
	if testing.Short() {
		return 2
	}
	return 24
}
