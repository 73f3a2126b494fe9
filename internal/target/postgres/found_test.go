//go:build unix

package postgres

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// What is pulled from a database of any state, as a policy, is what the database does: every account is asked about
// everything, and nothing differs.
func TestWhatIsPulledIsWhatTheDatabaseDoes(t *testing.T) {
	address := servers.Postgres(t)
	asked, allowed, proposed := 0, 0, 0
	for round := range rounds() {
		d := rand.New(rand.NewPCG(uint64(round), 11))
		b := newBench(t, address, fmt.Sprintf("found%d", round))
		b.fill(3, 5)
		names := byHand(b, d)
		snap, err := b.system.Read(t.Context())
		require.NoError(t, err)
		owner := func(account string) (estate.Principal, bool) {
			id := strings.TrimSuffix(account, " person")
			return estate.Principal{ID: id}, id != account
		}
		adopted := target.Adopt("db", &Driver.Carries, snap.State(), snap.Found(), owner)
		assert.Empty(t, adopted.Unfit)
		text := "hidden-gate: 1\nedition: 2\nsystems: {db: {kind: database, resources: {" + b.text +
			", accounts: {}"
		for _, s := range awkward[:3] { // a pull lists all that there is
			text += fmt.Sprintf(", %q: {type: table}", s+"/unlisted")
		}
		people := "people: {"
		for _, name := range names {
			text += fmt.Sprintf(", %q: {owner: %s}", "accounts/"+name, strings.TrimSuffix(name, " person"))
			people += strings.TrimSuffix(name, " person") + ": {}, "
		}
		text += "}}}\n" + people + "}\n" + string(adopted.File("db", snap.State()))
		g := targettest.Load(t, text)
		a, _, wrong := b.Ask(g)
		require.Empty(t, wrong, "round %d\n%s", round, text)
		asked += a
		if round%4 == 0 { // what is proposed is the same
			proposal := target.Propose("db", &Driver.Carries, snap.State(), snap.Found(), owner,
				func([]string) string { return "" })
			text = strings.Replace(text, string(adopted.File("db", snap.State())),
				string(proposal.File("db", snap.State())), 1)
			_, _, wrong = b.Ask(targettest.Load(t, text))
			require.Empty(t, wrong, "round %d, proposed\n%s", round, text)
			proposed += len(proposal.Groups)
		}
		w := b.Arrange(g, snap, nil).Wanted
		for q := range targettest.Everything(w) {
			if q.Expected {
				allowed++
			}
		}
		b.system.Close()
		for _, name := range madeBy(b) {
			b.exec("REASSIGN OWNED BY %s TO owner; DROP OWNED BY %s; DROP ROLE %s", ident(name), ident(name), ident(name))
		}
	}
	t.Logf("asked %d, of which %d are allowed", asked, allowed)
	assert.Greater(t, allowed, asked/10)
	assert.Positive(t, proposed)
}

// byHand makes accounts and roles with rights of all sorts, and names the accounts.
func byHand(b *bench, d *rand.Rand) (accounts []string) {
	var all, roles []string
	for i := range 5 {
		name := fmt.Sprintf("a%d person", i)
		accounts, all = append(accounts, name), append(all, name)
		b.exec("CREATE ROLE %s %s", ident(name), []string{"LOGIN", "LOGIN CREATEROLE", "LOGIN SUPERUSER"}[d.IntN(8)/3])
	}
	for i := range 4 {
		name := awkward[i] + " role"
		b.exec("CREATE ROLE %s", ident(name))
		for _, up := range roles {
			if d.IntN(3) == 0 {
				b.exec("GRANT %s TO %s", ident(up), ident(name))
			}
		}
		roles, all = append(roles, name), append(all, name)
	}
	whom := func() string {
		if d.IntN(6) == 0 {
			return "PUBLIC"
		}
		return ident(all[d.IntN(len(all))])
	}
	schema := func() string { return ident(awkward[d.IntN(3)]) }
	table := func() string { return ident(awkward[0], awkward[d.IntN(2)]) }
	for range 12 + d.IntN(20) {
		switch d.IntN(10) {
		case 0, 1:
			b.exec("GRANT USAGE ON SCHEMA %s TO %s", schema(), whom())
		case 2:
			b.exec("GRANT CREATE ON SCHEMA %s TO %s", schema(), whom())
		case 3:
			b.exec("GRANT SELECT, UPDATE ON ALL TABLES IN SCHEMA %s TO %s", schema(), whom())
		case 4:
			b.exec("GRANT INSERT, DELETE ON %s TO %s", table(), whom())
		case 5:
			b.exec("REVOKE EXECUTE ON ALL FUNCTIONS IN SCHEMA %s FROM PUBLIC", schema())
		case 6:
			b.exec("GRANT %s TO %s", ident(roles[d.IntN(len(roles))]), ident(accounts[d.IntN(len(accounts))]))
		case 7:
			b.exec("GRANT %s TO %s", []string{readsAll, writesAll, "pg_monitor", "pg_signal_backend"}[d.IntN(4)],
				ident(all[d.IntN(len(all))]))
		case 8:
			b.exec("ALTER TABLE %s OWNER TO %s", table(), ident(all[d.IntN(len(all))]))
		default:
			b.exec("REVOKE CONNECT ON DATABASE %s FROM PUBLIC; GRANT CONNECT, CREATE ON DATABASE %s TO %s",
				ident(b.owner.Config().Database), ident(b.owner.Config().Database), ident(all[d.IntN(len(all))]))
		}
	}
	return accounts
}
