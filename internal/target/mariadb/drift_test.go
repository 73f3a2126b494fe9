//go:build unix

package mariadb

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// grantsOf gives what the server says of somebody's rights.
func (b *bench) grantsOf(one string) string {
	rows, err := b.owner.QueryContext(b.T.Context(), "SHOW GRANTS FOR "+one)
	require.NoError(b.T, err)
	defer rows.Close()
	var out []string
	for rows.Next() {
		var line string
		require.NoError(b.T, rows.Scan(&line))
		out = append(out, line)
	}
	require.NoError(b.T, rows.Err())
	slices.Sort(out)
	return strings.Join(out, "\n")
}

// Whatever somebody changes by hand is undone by the next push, whoever signs in can do what they should, and an
// account and a role that the policy does not name keep all that they have.
func TestDriftIsFoundAndUndone(t *testing.T) {
	b := newBench(t, servers.MariaDB(t))
	b.fill(4)
	var people []string
	for i := range 4 {
		people = append(people, who{awkward[i] + " person", anyHost}.text())
		b.exec("CREATE USER %s IDENTIFIED BY 'known'", people[i])
	}
	b.exec("CREATE USER stranger; CREATE ROLE accounting; CREATE ROLE books; GRANT accounting TO books")
	b.exec(
		"GRANT ALL ON plain.* TO stranger; GRANT ALL ON `per%%`.* TO stranger; GRANT SELECT, DROP ON plain.* TO accounting",
	)
	b.exec(
		"CREATE ROLE elsewhere; GRANT elsewhere TO PUBLIC; CREATE DATABASE archive; GRANT SELECT ON archive.* TO elsewhere",
	)
	stranger, accounting := b.grantsOf("stranger"), b.grantsOf("accounting")
	d := rand.New(rand.NewPCG(5, 9))
	who := func() string { return people[d.IntN(len(people))] }
	schema := func() string { return schemaText(awkward[d.IntN(4)]) }
	drifts := []func(){
		func() { b.exec("GRANT SELECT, DELETE ON %s TO PUBLIC", schema()) },
		func() { b.exec("GRANT books TO %s", who()) },
		func() { b.exec("GRANT accounting TO PUBLIC") },
		func() { b.exec("GRANT SUPER, FILE ON *.* TO %s", who()) },
		func() { b.exec("GRANT ALL ON *.* TO %s WITH GRANT OPTION", who()) },
		func() { b.exec("GRANT CREATE, EXECUTE ON %s TO %s", schema(), who()) },
		func() { b.exec("GRANT SELECT, INSERT ON `p%%`.* TO %s", who()) },
		func() { b.exec("GRANT UPDATE ON mysql.* TO %s", who()) },
		func() { b.exec("GRANT SELECT ON mysql.global_priv TO %s", who()) },
		func() { b.exec("ALTER USER %s ACCOUNT LOCK", who()) },
		func() { b.exec("ALTER USER %s ACCOUNT UNLOCK", who()) },
		func() { b.exec("GRANT SELECT (v) ON plain.plain TO %s", who()) },
		func() { b.exec("GRANT EXECUTE ON FUNCTION %s TO %s", identIn("plain", awkward[3]), who()) },
		func() { b.exec("REVOKE ALL, GRANT OPTION FROM %s", who()) },
		func() {
			one := who()
			b.exec("GRANT accounting TO %[1]s; SET DEFAULT ROLE accounting FOR %[1]s", one)
		},
		func() { b.exec("SET DEFAULT ROLE NONE FOR %s", who()) },
		func() {
			for role := range b.now().roles {
				if b.now().isHgates(role) {
					b.exec("GRANT DELETE ON plain.* TO %[1]s; GRANT books TO %[1]s", ident(role))
				}
				if b.now().isHgates(role) && role != markerName("db") {
					b.exec("GRANT %s TO stranger", ident(role))
				}
			}
		},
	}
	found := make([]int, len(drifts))
	for round := range rounds() * 4 {
		text := b.policy(d)
		g := targettest.Load(t, text)
		b.Push(g)
		n := round % len(drifts)
		drifts[n]()
		if _, _, wrong := b.Ask(g); len(wrong) > 0 {
			found[n]++
			assert.NotContains(t, wrong[0], "the server says so")
		}
		b.Push(g)
		_, _, wrong := b.Ask(g)
		require.Empty(t, wrong, text)
		if round%8 == 0 {
			b.tryAll(g, false)
		}
		for i, one := range people {
			if !b.mayDoEverything(g, awkward[i]+" person") {
				assert.NotRegexp(t, "ON `(mysql|p%)`|FILE|SUPER", b.grantsOf(one))
			}
		}
		require.Equal(t, []string{"elsewhere"}, b.now().in[public])
		require.Equal(t, stranger, b.grantsOf("stranger"))
		require.Equal(t, accounting, b.grantsOf("accounting"))
	}
	some := 0
	for _, n := range found {
		some += min(n, 1)
	}
	if !testing.Short() { // which draws fewer than there are sorts of drift
		assert.Greater(t, some, len(drifts)/2, "%v", found)
	}
}

func (b *bench) now() *snapshot {
	snap, err := b.system.Read(b.T.Context())
	require.NoError(b.T, err)
	return snap.(*snapshot)
}

// mayDoEverything says whether a policy lets the holder of an account do everything that it lists.
func (b *bench) mayDoEverything(g *gate.Gate, account string) bool {
	a := b.Arrange(g, b.now(), nil)
	i := slices.IndexFunc(a.Holders, func(h *target.Holder) bool { return h.Account == account })
	for place := range a.State.Places {
		if a.Listed(place) && !a.AllowsAll(a.Holders[i], place) {
			return false
		}
	}
	return true
}

// A push that breaks off at any moment gives nobody what neither the policy before nor the one after does; the next
// ends it.
func TestAPushThatBreaksOffGivesNobodyMore(t *testing.T) {
	b := newBench(t, servers.MariaDB(t))
	b.fill(3)
	d := rand.New(rand.NewPCG(6, 9))
	before := targettest.Load(t, b.policy(d))
	b.Push(before)
	halves := 0
	for range rounds() * 4 {
		after := targettest.Load(t, b.policy(d))
		for _, account := range []string{"p4", "p5"} { // they are made again
			b.exec("DROP USER IF EXISTS %s", account)
			delete(b.First, account)
		}
		reached, err := connect(t.Context(), target.Connection{System: "db", At: b.at})
		require.NoError(t, err)
		was, err := reached.Read(t.Context())
		require.NoError(t, err)
		plan := was.Plan(b.Arrange(after, was, nil))
		may := map[string][]target.Mask{}
		for _, g := range []*gate.Gate{before, after} {
			a := b.Arrange(g, was, nil)
			for _, h := range a.Holders {
				if may[h.Account] == nil {
					may[h.Account] = make([]target.Mask, len(was.State().Places))
				}
				for place := range may[h.Account] {
					may[h.Account][place] |= a.Mask(h, place)
				}
			}
		}
		for n := range plan.Statements {
			if d.IntN(1+len(plan.Statements)/4) == 0 {
				plan.Statements[n].Text = "NO SUCH STATEMENT"
				break
			}
		}
		plan.Passwords = map[string]string{}
		err = reached.Write(t.Context(), was, plan, func(target.Snapshot) error { return nil })
		reached.Close()
		if errors.Is(err, target.ErrPartly) {
			halves++
		}
		is := b.now()
		a := b.Arrange(after, is, nil)
		for account, mays := range may {
			for place, m := range is.masks(is.powerOf(accountOf(account)), true) {
				more := m &^ mays[place] &^ (1 << signingIn)
				if place < len(mays) && a.Listed(place) && more&^(1<<definingView|1<<droppingView) != 0 {
					assert.Zero(t, more, "%s at %s", account, is.state.Address("db", place))
				}
			}
		}
		b.Push(after)
		is = b.now()
		for _, h := range b.Arrange(after, is, nil).Holders {
			if is.powerOf(accountOf(h.Account)).open { // whoever may sign in can, with a password that was handed out
				require.NotEmpty(t, b.First[h.Account])
				db := b.signIn(h.Account)
				require.NotNil(t, db)
				db.Close()
			}
		}
		before = after
	}
	assert.Greater(t, halves, rounds())
}

// Of two pushes of what was read at the same time, the second is refused.
func TestTwoPushesAtOnceAreOne(t *testing.T) {
	b := newBench(t, servers.MariaDB(t))
	b.fill(2)
	g := targettest.Load(t, b.policy(rand.New(rand.NewPCG(5, 3))))
	b.OfTwoAtOnce(g, func() target.System {
		s, err := connect(t.Context(), target.Connection{System: "db", At: b.at})
		require.NoError(t, err)
		return s
	})
}

// What is lent is there while it is, and gone with the next push; whoever was signed in has it no more.
func TestALoanIsThereWhileItLasts(t *testing.T) {
	b := newBench(t, servers.MariaDB(t))
	b.fill(2)
	g := targettest.Load(t, "hidden-gate: 1\n"+
		"systems: {db: {kind: database, resources: {"+b.text+"}}}\npeople: {ana: {}, bo: {}}\n"+
		"roles: {r: {allow: [session.open, table.read]}, in: {allow: [session.open]}}\n"+
		"grants: {stands: {to: [ana, bo], role: in, on: 'db'},\n"+
		" lift: {to: ana, role: r, on: [db, 'db:plain'], on-request: {longest: 1h}}}\n")
	lent := []estate.Elevation{{Grant: "lift", Subject: estate.Principal{ID: "ana"}, From: targettest.At - 1000,
		To: targettest.At + 1000}}
	b.Push(g)
	ana := b.signIn("ana")
	query := "SELECT 1 FROM plain.plain LIMIT 0"
	_, err := ana.Exec(query)
	require.True(t, isDenied(err), "%v", err)
	with, err := g.WithLent(lent)
	require.NoError(t, err)
	snap := b.now()
	require.NoError(t, b.system.Write(t.Context(), snap, snap.Plan(b.Arrange(with, snap, lent)),
		func(target.Snapshot) error { return nil }))
	again := b.signIn("ana")
	_, err = again.Exec(query)
	require.NoError(t, err)
	b.Push(g) // the loan is over
	_, err = again.Exec(query)
	require.True(t, isDenied(err), "%v", err)
}

// A server that does not answer is given up.
func TestWhatDoesNotAnswerIsGivenUp(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	begun := time.Now()
	_, err = connect(ctx, target.Connection{System: "db", At: "mariadb://root@" + silent.Addr().String()})
	require.Error(t, err)
	assert.Less(t, time.Since(begun), 9*time.Second)
}
