//go:build unix

package postgres

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
)

// at is when everything is pushed.
var at = clock.Instant(1_900_000_000_000_000)

// bench is a server with a policy for it.
type bench struct {
	t      testing.TB
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
	_, err := b.owner.Exec(b.t.Context(), fmt.Sprintf(format, args...), pgx.QueryExecModeSimpleProtocol)
	require.NoError(b.t, err, fmt.Sprintf(format, args...))
}

// newBench makes a database of some schemas with tables, views and functions, and its inventory.
func newBench(t testing.TB, address, base string) *bench {
	admin := connectAs(t, address)
	_, err := admin.Exec(t.Context(), "CREATE DATABASE "+ident(base))
	require.NoError(t, err)
	at := strings.Replace(address, "/postgres?", "/"+base+"?", 1)
	b := &bench{t: t, owner: connectAs(t, at)}
	b.system, err = connect(t.Context(), target.Connection{System: "db", At: at})
	require.NoError(t, err)
	t.Cleanup(b.system.Close)
	return b
}

// fill makes objects; each is listed but one table of each schema.
func (b *bench) fill(schemas, tables int) {
	var lines []string
	list := func(typ string, names ...string) {
		path, ok := pathOf(names...)
		require.True(b.t, ok, names)
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
	b.text = strings.Join(lines, ", ")
}

func load(t *testing.T, text string) *gate.Gate {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	require.NoError(t, err, text)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	return g
}

// arrange reads the database, and says what it has to give.
func (b *bench) arrange(g *gate.Gate, snap target.Snapshot, lent []estate.Elevation) *target.Arrangement {
	w, err := target.Work(b.t.Context(), target.Task{Gate: g, System: "db", At: at, Carries: &Driver.Carries,
		State: snap.State(), Create: true, Lent: lent})
	require.NoError(b.t, err)
	a, err := w.Arrange(b.t.Context())
	require.NoError(b.t, err)
	return a
}

// push pushes, and gives what was told.
func (b *bench) push(g *gate.Gate) *target.Plan {
	snap, err := b.system.Read(b.t.Context())
	require.NoError(b.t, err)
	plan := snap.Plan(b.arrange(g, snap, nil))
	require.NoError(b.t, b.system.Write(b.t.Context(), snap, plan, func(is target.Snapshot) error {
		again := is.Plan(b.arrange(g, is, nil))
		if len(again.Statements) > 0 {
			return fmt.Errorf("left: %v", again.Statements)
		}
		return nil
	}), "%s", texts(plan))
	return plan
}

func texts(p *target.Plan) string {
	var out []string
	for _, s := range p.Statements {
		out = append(out, s.Text)
	}
	return strings.Join(out, "\n")
}

// ask asks everything, and gives how much was asked and tried, and what is not as expected.
func (b *bench) ask(g *gate.Gate) (asked, tried int, wrong []string) {
	snap, err := b.system.Read(b.t.Context())
	require.NoError(b.t, err)
	w := b.arrange(g, snap, nil).Wanted
	questions := w.Questions(func(estate.Principal) bool { return true }, func(int) bool { return true })
	require.NoError(b.t, b.system.Ask(b.t.Context(), snap, questions, func(a target.Answer) bool {
		asked++
		if a.Tried {
			tried++
		}
		outcome, _ := w.Outcome(a.Holder, a.Operation, a.Place)
		if a.Allowed && outcome != gate.Allow {
			wrong = append(wrong, "WIDER")
		}
		if a.Allowed != a.Expected {
			wrong = append(wrong, fmt.Sprintf("%s %s %s: system %t, policy %t (%s)", a.Holder.Account, a.Operation,
				snap.State().Address("db", a.Place), a.Allowed, a.Expected, a.Why))
		}
		return true
	}))
	return asked, tried, wrong
}

// people of the random policies; those of the first have accounts with names of their own.
const people = 8

// policy draws a policy for what is listed.
func (b *bench) policy(d *rand.Rand, addresses []string) string {
	var out strings.Builder
	fmt.Fprintf(&out, "hidden-gate: 1\nedition: 2\nsystems: {db: {kind: database, resources: {%s, accounts: {}", b.text)
	for i := range people / 2 {
		path, _ := target.Escaped(awkward[i] + " person")
		fmt.Fprintf(&out, ", %q: {owner: p%d}", "accounts/"+path, i)
	}
	out.WriteString("}}}\npeople: {")
	for i := range people {
		fmt.Fprintf(&out, "p%d: {}, ", i)
	}
	out.WriteString("late: {starts: 2037-01-01}, gone: {status: suspended}}\n")
	out.WriteString("groups: {g0: {members: [p0, p1, p2]}, g1: {members: [p2, p3, p4, late]}, " +
		"g2: {members: [group:g0, p7, gone]}}\n")
	operations := []string{"session.open", "schema.create", "session.end", "session.view", "settings.view", "table.create",
		"view.define", "function.define", "table.read", "table.insert", "table.update", "table.delete", "function.run",
		"table.alter", "from change", "only use", "only view"}
	list := func(some []string, most int) string {
		var chosen []string
		for range 1 + d.IntN(most) {
			chosen = append(chosen, fmt.Sprintf("%q", some[d.IntN(len(some))]))
		}
		return strings.Join(chosen, ", ")
	}
	out.WriteString("roles:\n")
	for i := range 6 {
		fmt.Fprintf(&out, "  r%d: {allow: [%s]}\n", i, list(operations, 5))
	}
	whom := []string{"group:g0", "group:g1", "group:g2", "p0", "p3", "p5", "p6", "everyone"}
	when := []string{"", "", "", "", ", when: {mfa: true}", ", when: {network: [10.0.0.0/8]}", ", ends: 2020-01-01",
		", when: {hours: [\"09:00-17:00\"]}"}
	out.WriteString("grants:\n")
	for i := range 1 + d.IntN(9) {
		fmt.Fprintf(&out, "  grant-%d: {to: [%s], role: r%d, on: [%s]%s}\n", i, list(whom, 2), d.IntN(6), list(addresses, 3),
			when[d.IntN(len(when))])
	}
	out.WriteString("blocks:\n")
	for i := range 1 + d.IntN(2) {
		fmt.Fprintf(&out, "  block-%d: {to: [%s], deny: [%s], on: [%s]}\n", i, list(whom, 1), list(operations, 2),
			list(addresses, 2))
	}
	return out.String()
}

// Whatever a policy says, the database says after a push: every account is asked about everything.
func TestTheDatabaseSaysWhatThePolicySays(t *testing.T) {
	address := servers.Postgres(t)
	asked, tried, narrowed := 0, 0, 0
	for round := range rounds() {
		d := rand.New(rand.NewPCG(uint64(round), 7))
		b := newBench(t, address, fmt.Sprintf("round%d", round))
		b.fill(4, 5)
		g := load(t, b.policy(d, []string{"db"}))
		addresses := []string{"db", "db", "everything"}
		for i := range g.Estate().Tree.Len() {
			if r := g.Estate().Tree.At(i); r.Type != "account" {
				addresses = append(addresses, r.Address.String())
			}
		}
		for range 4 { // the later ones are edits
			text := b.policy(d, addresses)
			g = load(t, text)
			plan := b.push(g)
			a, r, wrong := b.ask(g)
			require.Empty(t, wrong, "round %d\n%s\n%s", round, text, texts(plan))
			asked, tried = asked+a, tried+r
			snap, err := b.system.Read(t.Context())
			require.NoError(t, err)
			for _, c := range b.arrange(g, snap, nil).Fidelity() {
				if c.How == target.Narrower {
					narrowed++
				}
			}
		}
		b.system.Close()
		for _, name := range madeBy(b) {
			b.exec("DROP OWNED BY %s; DROP ROLE %s", ident(name), ident(name))
		}
	}
	t.Logf("asked %d, of which %d were tried", asked, tried)
	assert.Greater(t, tried, asked/4)
	assert.Greater(t, narrowed, 0)
}

// madeBy lists the roles that pushes made.
func madeBy(b *bench) []string {
	rows, err := b.owner.Query(b.t.Context(),
		"SELECT rolname FROM pg_roles WHERE oid >= 16384 AND rolname <> current_user")
	require.NoError(b.t, err)
	out, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(b.t, err)
	slices.Sort(out)
	return out
}

func rounds() int {
	if testing.Short() {
		return 2
	}
	return 24
}
