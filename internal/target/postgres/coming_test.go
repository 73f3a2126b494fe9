//go:build unix

package postgres

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// Where the policy decides about what no inventory lists, a table that is made after a push is had at once by those who
// may have whatever comes, and by nobody who may not.
func TestWhatComesIsGivenAtOnce(t *testing.T) {
	address := servers.Postgres(t)
	allowed, missed := 0, 0
	for round := range rounds() {
		d := rand.New(rand.NewPCG(uint64(round), 13))
		b := newBench(t, address, fmt.Sprintf("coming%d", round))
		b.fill(3, 4)
		addresses := []string{"db", "db", "everything", "db:plain/t*", "db:*/t2", "db:Upper Case/*"}
		first := targettest.Load(t, b.policy(d, []string{"db"}))
		for i := range first.Estate().Tree.Len() {
			if r := first.Estate().Tree.At(i); r.Type == "schema" || r.Type == "table" {
				addresses = append(addresses, r.Address.String())
			}
		}
		for edit := range 3 {
			text := strings.Replace(b.policy(d, addresses), "kind: database,", "kind: database, unlisted: judge,", 1)
			g := targettest.Load(t, text)
			plan := b.Push(g)
			snap, err := b.system.Read(t.Context())
			require.NoError(t, err)
			holders := b.Arrange(g, snap, nil).Holders
			for _, schema := range awkward[:3] {
				for _, table := range []string{"t1", "t2", "other"} {
					name := ident(schema, fmt.Sprintf("%s%d", table, edit))
					b.exec("CREATE TABLE %s (id serial, n int)", name)
					a, m := b.comes(g, holders, schema, fmt.Sprintf("%s%d", table, edit), text+"\n"+targettest.Texts(plan))
					allowed, missed = allowed+a, missed+m
				}
			}
			b.Push(g) // now it is there, and the policy decides about it
			_, _, wrong := b.Ask(g)
			require.Empty(t, wrong, text)
			_, m := b.comes(g, holders, "plain", fmt.Sprintf("t1%d", edit), text)
			assert.Zero(t, m, text)
		}
		b.system.Close()
		for _, name := range madeBy(b) {
			b.exec("DROP OWNED BY %s; DROP ROLE %s", ident(name), ident(name))
		}
	}
	t.Logf("%d answers are allowed on what came, and %d more by the policy alone", allowed, missed)
	assert.Greater(t, allowed, missed)
}

// comes holds what the database lets everybody do with a new table against the policy.
func (b *bench) comes(g *gate.Gate, holders []*target.Holder, schema, table, text string) (allowed, missed int) {
	path, ok := target.PathOf(schema, table)
	require.True(b.T, ok)
	context := g.NewContext()
	context.Time(targettest.At)
	for _, h := range holders {
		for native, operation := range map[string]string{"SELECT": "table.read", "INSERT": "table.insert",
			"UPDATE": "table.update", "DELETE": "table.delete"} {
			var has bool
			require.NoError(b.T, b.owner.QueryRow(b.T.Context(), `SELECT has_table_privilege($1::name, c.oid, $2) AND
				has_schema_privilege($1::name, c.relnamespace, 'USAGE') FROM pg_class c
				WHERE c.oid = $3::text::regclass`, h.Account, native, ident(schema, table)).Scan(&has))
			outcome, err := g.Decide(gate.Request{Subject: h.Subject, Operation: operation,
				Resource: estate.Address{System: "db", Path: path}.String(), Context: context})
			require.NoError(b.T, err)
			if has {
				allowed++
				require.Equal(b.T, gate.Allow, outcome, "%s %s %s/%s\n%s", h.Account, operation, schema, table, text)
			} else if outcome == gate.Allow {
				missed++
			}
		}
	}
	return allowed, missed
}

// What somebody gives by hand on what is made later is taken from those in the policy's care, and from everybody.
func TestDriftInWhatComesIsUndone(t *testing.T) {
	b := newBench(t, servers.Postgres(t), "drift")
	b.fill(1, 2)
	g := targettest.Load(t, "hidden-gate: 1\nedition: 2\n"+
		"systems: {db: {kind: database, unlisted: judge, resources: {"+b.text+"}}}\n"+
		"people: {p0: {}}\nroles: {r: {allow: [session.open, table.read]}}\n"+
		"grants: {g: {to: p0, role: r, on: db}}\n")
	plan := b.Push(g)
	assert.Contains(t, targettest.Texts(plan), `IN SCHEMA "plain" GRANT SELECT ON TABLES TO "hgate:db:g"`)
	b.exec(`ALTER DEFAULT PRIVILEGES IN SCHEMA plain GRANT UPDATE ON TABLES TO PUBLIC, p0;
		CREATE ROLE stranger LOGIN; ALTER DEFAULT PRIVILEGES IN SCHEMA plain GRANT UPDATE ON TABLES TO stranger`)
	undone := targettest.Texts(b.Push(g))
	assert.Contains(t, undone, `REVOKE UPDATE ON TABLES FROM PUBLIC`)
	assert.Contains(t, undone, `REVOKE UPDATE ON TABLES FROM "p0"`)
	assert.NotContains(t, undone, "stranger")
	_, err := b.owner.Exec(t.Context(), "CREATE TABLE plain.fresh (n int); SET ROLE p0; SELECT * FROM plain.fresh",
		pgx.QueryExecModeSimpleProtocol)
	require.NoError(t, err)
	b.exec("RESET ROLE")
	none := targettest.Load(t, "hidden-gate: 1\nedition: 2\nsystems: {db: {kind: database, unlisted: judge, resources: {"+
		b.text+", accounts/p0: {owner: p0}}}}\npeople: {p0: {}}\n")
	b.Push(none)
	b.exec("CREATE TABLE plain.later (n int)")
	var has bool
	row := b.owner.QueryRow(t.Context(), "SELECT has_table_privilege('p0', 'plain.later', 'SELECT')")
	require.NoError(t, row.Scan(&has))
	assert.False(t, has)
}
