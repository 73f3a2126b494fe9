//go:build unix

package postgres

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// addressesOf lists the addresses of what a policy lists, but for accounts.
func addressesOf(text string, t *testing.T) (out []string) {
	e := targettest.Load(t, text).Estate()
	for i := range e.Tree.Len() {
		if r := e.Tree.At(i); r.Type != "account" {
			out = append(out, r.Address.String())
		}
	}
	return out
}

// Whatever somebody changes by hand is undone by the next push, and an account that the policy does not name keeps all
// that it has.
func TestDriftIsFoundAndUndone(t *testing.T) {
	onEach(t, driftIsUndone)
}

func driftIsUndone(t *testing.T, address string, rounds int) {
	b := newBench(t, address, "drifting")
	b.fill(3, 5)
	found := 0
	for round := range rounds {
		d := rand.New(rand.NewPCG(uint64(round), 9))
		text := b.policy(d, addressesOf(b.policy(d, []string{"db"}), t))
		g := targettest.Load(t, text)
		b.Push(g)
		if round == 0 {
			b.exec("CREATE ROLE stranger LOGIN; CREATE ROLE accounting; CREATE ROLE books; GRANT accounting TO books")
			b.exec("GRANT ALL ON ALL TABLES IN SCHEMA %s TO stranger, accounting", ident("plain"))
		}
		accounts := madeBy(b)
		var people []string
		for _, name := range accounts {
			if !strings.HasPrefix(name, "hgate:") && name != "stranger" && name != "accounting" && name != "books" {
				people = append(people, name)
			}
		}
		require.NotEmpty(t, people)
		who := func() string { return ident(people[d.IntN(len(people))]) }
		schema := func() string { return ident(awkward[d.IntN(3)]) }
		for range 1 + d.IntN(4) {
			switch d.IntN(10) {
			case 0:
				b.exec("GRANT SELECT, DELETE ON ALL TABLES IN SCHEMA %s TO PUBLIC", schema())
			case 1:
				b.exec("GRANT books TO %s", who())
			case 2:
				b.exec("ALTER ROLE %s SUPERUSER", who())
			case 3:
				b.exec("GRANT CREATE, USAGE ON SCHEMA %s TO %s", schema(), who())
			case 4:
				b.exec("GRANT ALL ON ALL TABLES IN SCHEMA %s TO %s WITH GRANT OPTION", schema(), who())
			case 5:
				b.exec("GRANT pg_read_all_data, pg_signal_backend TO %s", who())
			case 6:
				b.exec("ALTER ROLE %s NOLOGIN", who())
			case 8:
				if made := hgates(accounts); made != "" {
					b.exec("GRANT %s TO stranger", ident(made))
				}
			case 7:
				b.exec("GRANT SELECT (\"Value\") ON %s TO %s", ident("plain", "plain"), who())
			default:
				b.exec("REVOKE ALL ON ALL TABLES IN SCHEMA %s FROM %s", schema(), who())
			}
		}
		_, _, wrong := b.Ask(g)
		if len(wrong) > 0 {
			found++
		}
		b.Push(g)
		_, _, wrong = b.Ask(g)
		require.Empty(t, wrong, text)
		var extra int
		require.NoError(t, b.owner.QueryRow(t.Context(), `SELECT count(*) FROM pg_auth_members
			WHERE member = 'stranger'::regrole`).Scan(&extra))
		require.Zero(t, extra, "what hgate made is for those whom the policy names")
		var kept int
		require.NoError(t, b.owner.QueryRow(t.Context(), `SELECT count(*) FROM pg_class c JOIN pg_namespace n
			ON n.oid = c.relnamespace WHERE n.nspname = 'plain' AND relkind IN ('r', 'v')
			AND NOT has_table_privilege('stranger', c.oid, 'SELECT, INSERT, UPDATE, DELETE')`).Scan(&kept))
		require.Zero(t, kept)
	}
	if !testing.Short() { // what two drifts change the policy may allow
		assert.Greater(t, found, rounds/3)
	}
}

// hgates gives a role that hgate made, if there is one.
func hgates(roles []string) string {
	for _, name := range roles {
		if strings.HasPrefix(name, "hgate:") {
			return name
		}
	}
	return ""
}

// A connection that is cut at any moment leaves the database as it was or as it should be.
func TestACutConnectionLeavesNothingHalfDone(t *testing.T) {
	address := servers.Postgres(t)
	b := newBench(t, address, "cut")
	b.fill(3, 5)
	texts := addressesOf(b.policy(rand.New(rand.NewPCG(0, 3)), []string{"db"}), t)
	before, after := 0, 0
	for round := range 4 * rounds() {
		d := rand.New(rand.NewPCG(uint64(round), 3))
		g := targettest.Load(t, b.policy(d, texts))
		at := strings.Replace(address, "/postgres?", "/cut?", 1)
		s, err := connect(t.Context(), target.Connection{System: "db", At: at, Listed: someSettings})
		require.NoError(t, err)
		was, err := s.Read(t.Context())
		require.NoError(t, err)
		plan := was.Plan(b.Arrange(g, was, nil))
		pid := s.(*system).conn.PgConn().PID()
		var wait sync.WaitGroup
		wait.Go(func() {
			time.Sleep(time.Duration(d.IntN(30_000)) * time.Microsecond)
			_, _ = b.owner.Exec(context.Background(), "SELECT pg_terminate_backend($1)", pid)
		})
		_ = s.Write(t.Context(), was, plan, func(target.Snapshot) error { return nil })
		wait.Wait()
		s.Close()
		is, err := b.system.Read(t.Context())
		require.NoError(t, err)
		switch left := is.Plan(b.Arrange(g, is, nil)); {
		case len(left.Statements) == 0:
			after++
		default:
			require.Equal(t, was.(*snapshot).key, is.(*snapshot).key, "round %d", round)
			before++
		}
		b.Push(g)
	}
	t.Logf("as before %d times, as after %d times", before, after)
}

// Of two pushes of what was read at the same time, the second is refused.
func TestTwoPushesAtOnceAreOne(t *testing.T) {
	address := servers.Postgres(t)
	b := newBench(t, address, "twice")
	b.fill(3, 5)
	g := targettest.Load(t, b.policy(rand.New(rand.NewPCG(5, 3)), []string{"db"}))
	b.OfTwoAtOnce(g, func() target.System {
		at := strings.Replace(address, "/postgres?", "/twice?", 1)
		s, err := connect(t.Context(), target.Connection{System: "db", At: at})
		require.NoError(t, err)
		return s
	})
}

// What the check refuses is not done.
func TestWhatTheCheckRefusesIsNotDone(t *testing.T) {
	b := newBench(t, servers.Postgres(t), "checked")
	b.fill(2, 4)
	g := targettest.Load(t, b.policy(rand.New(rand.NewPCG(5, 3)), []string{"db"}))
	was, err := b.system.Read(t.Context())
	require.NoError(t, err)
	no := errors.New("no")
	assert.ErrorIs(t, b.system.Write(t.Context(), was, was.Plan(b.Arrange(g, was, nil)),
		func(target.Snapshot) error { return no }), no)
	is, err := b.system.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, was.(*snapshot).key, is.(*snapshot).key)
}

// What is lent is there while it is, and gone with the next push.
func TestALoanIsThereWhileItLasts(t *testing.T) {
	b := newBench(t, servers.Postgres(t), "lent")
	b.fill(2, 4)
	g := targettest.Load(t, "hidden-gate: 1\n"+
		"systems: {db: {kind: database, resources: {"+b.text+"}}}\npeople: {ana: {}, bo: {}}\n"+
		"roles: {r: {allow: [session.open, table.read]}}\n"+
		"grants: {stands: {to: bo, role: r, on: 'db'},\n"+
		" lift: {to: ana, role: r, on: [db, 'db:plain'], on-request: {longest: 1h}}}\n")
	reads := func(g2 *target.Arrangement, who string) bool {
		for _, r := range g2.RolesOf(who) {
			if r.Grant == "lift" {
				return true
			}
		}
		return false
	}
	lent := []estate.Elevation{{Grant: "lift", Subject: estate.Principal{ID: "ana"}, From: targettest.At - 1000,
		To: targettest.At + 1000}}
	with, err := g.WithLent(lent)
	require.NoError(t, err)
	snap, err := b.system.Read(t.Context())
	require.NoError(t, err)
	a := b.Arrange(with, snap, lent)
	require.True(t, reads(a, "ana"))
	require.NoError(t, b.system.Write(t.Context(), snap, snap.Plan(a), func(target.Snapshot) error { return nil }))
	ana := connectAs(t, strings.Replace(b.owner.Config().ConnString(), "//owner@", "//ana@", 1))
	query := fmt.Sprintf("SELECT * FROM %s", ident("plain", "plain"))
	_, err = ana.Exec(t.Context(), query, pgx.QueryExecModeSimpleProtocol)
	require.NoError(t, err)
	b.Push(g) // the loan is over
	_, err = ana.Exec(t.Context(), query, pgx.QueryExecModeSimpleProtocol)
	require.ErrorContains(t, err, "permission denied")
}

// What quotes and escapes give comes back from the server as it was.
func TestTheServerReadsWhatIsQuoted(t *testing.T) {
	b := newBench(t, servers.Postgres(t), "quoted")
	for _, text := range append(awkward, "", "a\nb", "E'x'", `\'; DROP TABLE x; --`, "''", `""`, "\u2028", "🛰") {
		var back string
		row := b.owner.QueryRow(t.Context(), "SELECT "+literal(text), pgx.QueryExecModeSimpleProtocol)
		require.NoError(t, row.Scan(&back))
		assert.Equal(t, text, back)
		if text == "" {
			continue
		}
		rows, err := b.owner.Query(t.Context(), "SELECT 1 AS "+ident(text), pgx.QueryExecModeSimpleProtocol)
		require.NoError(t, err)
		assert.Equal(t, text, rows.FieldDescriptions()[0].Name)
		rows.Close()
	}
}

// Nothing that others wrote into a database runs while it is asked: what cannot be planned without is not tried.
func TestNothingInADatabaseRunsWhileItIsAsked(t *testing.T) {
	b := newBench(t, servers.Postgres(t), "hostile")
	b.exec(`CREATE SCHEMA s; CREATE SEQUENCE s.canary; GRANT ALL ON SEQUENCE s.canary TO PUBLIC;
		CREATE FUNCTION s.evil(int) RETURNS int IMMUTABLE LANGUAGE plpgsql AS
			$$BEGIN PERFORM nextval('s.canary'); RETURN 1; END$$;
		CREATE TABLE s.plain (id int, v text DEFAULT now());
		CREATE TABLE s.defaults (id int DEFAULT s.evil(1));
		CREATE TABLE s.indexed (id int); CREATE INDEX ON s.indexed ((id + s.evil(1)));
		CREATE TABLE s.partial (id int); CREATE INDEX ON s.partial (id) WHERE s.evil(1) = 1;
		CREATE TABLE s.checked (id int CHECK (id > s.evil(1)));
		CREATE TABLE s.policed (id int); ALTER TABLE s.policed ENABLE ROW LEVEL SECURITY;
		CREATE POLICY p ON s.policed USING (s.evil(1) = 1);
		CREATE TABLE s.ruled (id int); CREATE RULE r AS ON INSERT TO s.ruled DO ALSO SELECT s.evil(1);
		CREATE TABLE s.parent (id int); CREATE TABLE s.child (n int DEFAULT s.evil(1)) INHERITS (s.parent);
		CREATE VIEW s.seen AS SELECT s.evil(1) AS id`)
	names := []string{"plain", "defaults", "indexed", "partial", "checked", "policed", "ruled", "parent", "child", "seen"}
	for i, name := range names {
		names[i] = fmt.Sprintf("s/%s: {type: %s}", name, map[bool]string{true: "view", false: "table"}[name == "seen"])
	}
	g := targettest.Load(t, "hidden-gate: 1\n"+
		"systems: {db: {kind: database, resources: {s: {}, "+strings.Join(names, ", ")+"}}}\n"+
		"people: {ana: {}, bo: {}}\nroles: {r: {allow: [up to change]}}\n"+
		"grants: {whole: {to: ana, role: r, on: db}, some: {to: bo, role: r, on: {in: db, exactly: true}}}\n")
	b.Push(g)
	var before, after bool
	called := "SELECT is_called FROM s.canary"
	require.NoError(t, b.owner.QueryRow(t.Context(), "SELECT setval('s.canary', 1, false) IS NOT NULL").Scan(&before))
	asked, tried, wrong := b.Ask(g)
	assert.Empty(t, wrong)
	require.NoError(t, b.owner.QueryRow(t.Context(), called).Scan(&after))
	assert.False(t, after, "something ran")
	assert.Positive(t, tried, "a plain table is tried")
	assert.Less(t, tried, asked/4)
}
