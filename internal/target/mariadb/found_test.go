//go:build unix

package mariadb

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// What is pulled from a server of any state, as a policy, is what the server does: every account signs in, and tries
// everything.
func TestWhatIsPulledIsWhatTheServerDoes(t *testing.T) {
	b := newBench(t, servers.MariaDB(t))
	b.fill(4)
	last := strings.ReplaceAll(awkward[3], "'", "''")
	d := rand.New(rand.NewPCG(7, 11))
	asked, tried, allowed, proposed := 0, 0, 0, 0
	for round := range rounds() {
		names, forget := byHand(b, d)
		snap := b.now()
		id := func(account string) string {
			return strings.NewReplacer(" person", "", "@localhost", "").Replace(account)
		}
		owner := func(account string) (estate.Principal, bool) {
			return estate.Principal{ID: id(account)}, slices.Contains(names, account)
		}
		adopted := target.Adopt("db", &Driver.Carries, snap.State(), snap.Found(), owner)
		text := "hidden-gate: 1\nedition: 2\nsystems: {db: {kind: database, resources: {" + b.text +
			", accounts: {}, '" + last + "/unlisted': {type: table}" // a pull lists all that there is
		people := "people: {"
		for _, name := range names {
			text += fmt.Sprintf(", %q: {owner: %s}", "accounts/"+name, id(name))
			people += id(name) + ": {}, "
		}
		text += "}}}\n" + people + "}\n" + string(adopted.File("db", snap.State()))
		g := targettest.Load(t, text)
		a, _, wrong := b.Ask(g)
		require.Empty(t, wrong, "round %d\n%s", round, text)
		asked += a
		tried += b.tryAll(g, true)
		if round%4 == 0 { // what is proposed is the same
			proposal := target.Propose("db", &Driver.Carries, snap.State(), snap.Found(), owner,
				func([]string) string { return "" })
			text = strings.Replace(text, string(adopted.File("db", snap.State())),
				string(proposal.File("db", snap.State())), 1)
			_, _, wrong = b.Ask(targettest.Load(t, text))
			require.Empty(t, wrong, "round %d, proposed\n%s", round, text)
			proposed += len(proposal.Groups)
		}
		for q := range targettest.Everything(b.Arrange(g, snap, nil).Wanted) {
			if q.Expected {
				allowed++
			}
		}
		forget()
	}
	t.Logf("asked %d, of which %d are allowed, and tried %d", asked, allowed, tried)
	assert.Greater(t, allowed, asked/10)
	assert.Greater(t, tried, asked/3)
	assert.Positive(t, proposed)
}

// byHand makes accounts and roles with rights of all sorts, names the accounts, and gives what takes all away again.
func byHand(b *bench, d *rand.Rand) (accounts []string, forget func()) {
	var all, roles []string
	var undo []string
	for i := range 5 {
		host := []string{anyHost, anyHost, "localhost"}[d.IntN(3)]
		one := who{fmt.Sprintf("a%d person", i), host}
		accounts, all = append(accounts, one.name()), append(all, one.text())
		b.exec("CREATE USER %s IDENTIFIED BY 'known'", one.text())
		undo = append(undo, "DROP USER "+one.text())
		if host == "localhost" && d.IntN(2) == 0 { // whose rights in schemas are the other's too
			also := who{one.user, anyHost}
			b.exec("CREATE USER %s IDENTIFIED BY 'known' ACCOUNT LOCK", also.text())
			all, undo = append(all, also.text()), append(undo, "DROP USER "+also.text())
		}
	}
	for i := range 4 {
		name := ident(awkward[i] + " role")
		b.exec("CREATE ROLE %s", name)
		undo = append(undo, "DROP ROLE "+name)
		for _, up := range roles {
			if d.IntN(3) == 0 {
				b.exec("GRANT %s TO %s", up, name)
			}
		}
		roles, all = append(roles, name), append(all, name)
	}
	whom := func() string {
		if d.IntN(6) == 0 {
			return "PUBLIC"
		}
		return all[d.IntN(len(all))]
	}
	schema := func(most int) string {
		return []string{schemaText(awkward[d.IntN(4)]), schemaText(awkward[d.IntN(4)]), "`p%`.*", "`%n`.*", "`quo_te`.*",
			"`%`.*"}[d.IntN(most)]
	}
	table := func() string { return identIn(awkward[0], awkward[d.IntN(2)]) }
	for range 12 + d.IntN(20) {
		switch d.IntN(8) {
		case 0:
			b.exec("GRANT SELECT, UPDATE ON %s TO %s", schema(5), whom())
		case 1:
			b.exec("GRANT CREATE, DROP ON %s TO %s", []string{schema(2), "`%`.*"}[d.IntN(2)], whom())
		case 2:
			b.exec("GRANT CREATE VIEW, CREATE ROUTINE, EXECUTE ON %s TO %s", schema(6), whom())
		case 3:
			b.exec("GRANT INSERT, DELETE ON %s TO %s", table(), whom())
		case 4:
			b.exec("GRANT ALTER, INDEX, CREATE VIEW ON %s TO %s", identIn(awkward[0], awkward[2]), whom())
		case 5: // as hgate does for those that it makes
			one := accountOf(accounts[d.IntN(len(accounts))]).text()
			b.exec("GRANT %[1]s TO %[2]s; SET DEFAULT ROLE %[1]s FOR %[2]s", roles[d.IntN(len(roles))], one)
		case 6:
			b.exec("GRANT %s ON *.* TO %s", []string{"PROCESS", "CONNECTION ADMIN", "SELECT", "CREATE USER", "SUPER",
				"ALTER ROUTINE", "ALL"}[d.IntN(7)], all[d.IntN(len(all))])
		default:
			b.exec("GRANT EXECUTE, ALTER ROUTINE ON FUNCTION %s TO %s", identIn("plain", awkward[3]), whom())
		}
	}
	b.exec("FLUSH PRIVILEGES") // MariaDB 10.11 was seen to keep other rights of nested roles in mind than in its tables
	return accounts, func() {
		b.exec("%s", strings.Join(undo, "; "))
		b.exec("REVOKE ALL ON *.* FROM PUBLIC")
		for _, one := range b.now().inSchemas(public) {
			b.exec("REVOKE ALL ON %s FROM PUBLIC", one)
		}
	}
}

// inSchemas lists on what somebody has rights.
func (s *snapshot) inSchemas(one who) (out []string) {
	on := map[int]bool{}
	for h := range s.acl[one] {
		if !on[h.object] && h.object != 0 {
			on[h.object] = true
			out = append(out, s.objects[h.object].text())
		}
	}
	return out
}

// What no operation stands for is told.
func TestWhatIsNotPulledIsTold(t *testing.T) {
	b := newBench(t, servers.MariaDB(t))
	b.fill(1)
	b.exec("CREATE USER ana; CREATE USER bo@`10.%%`; GRANT PROXY ON bo@`10.%%` TO ana")
	b.exec("GRANT CREATE ON `sky%%`.* TO ana; GRANT SELECT (v) ON plain.plain TO bo@`10.%%`")
	b.exec("CREATE USER cai; GRANT UPDATE ON `m%%`.* TO cai; CREATE USER dee; GRANT INSERT ON mysql.global_priv TO dee")
	assert.Equal(t, []string{"ana may create databases whose names fit sky%", "ana may sign in as bo@10.%",
		"bo@10.% has SELECT on some columns of `plain`.`plain` alone",
		"cai can change who may do what, by UPDATE on `m%`.*",
		"dee can change who may do what, by INSERT on `mysql`.`global_priv`"}, b.now().Found().Left)
}

// Whoever can write the tables of rights can do everything, and is told of.
func TestWhoWritesTheTablesOfRightsIsToldOf(t *testing.T) {
	b := newBench(t, servers.MariaDB(t))
	b.exec("CREATE USER ana IDENTIFIED BY 'known'; CREATE USER bo IDENTIFIED BY 'known'")
	g := targettest.Load(t, "hidden-gate: 1\nedition: 2\nsystems: {db: {kind: database, resources: "+
		"{accounts/ana: {owner: ana}, accounts/bo: {owner: bo}}}}\npeople: {ana: {}, bo: {}}\n"+
		"roles: {r: {allow: [session.open]}}\ngrants: {a: {to: [ana, bo], role: r, on: db}}\n")
	b.Push(g)
	b.exec("GRANT UPDATE ON `m%%`.* TO ana")
	_, _, wrong := b.Ask(g)
	require.Len(t, wrong, 2*len(natives[makingAccounts].Gives)) // each beyond the policy, too
	assert.Contains(t, strings.Join(wrong, "\n"), "the account itself has UPDATE on `m%`.*")
	b.Push(g)
	_, _, wrong = b.Ask(g)
	assert.Empty(t, wrong)
}

// Each right on the whole server is read as what the server calls it.
func TestRightsAreReadAsTheServerCallsThem(t *testing.T) {
	b := newBench(t, servers.MariaDB(t))
	for _, right := range global {
		text := "GRANT " + right + " ON *.* TO ana"
		if right == grantOption {
			text = "GRANT USAGE ON *.* TO ana WITH GRANT OPTION"
		}
		b.exec("CREATE OR REPLACE USER ana; %s", text)
		assert.Equal(t, map[held]bool{{0, right}: true}, b.now().acl[who{"ana", anyHost}])
	}
	b.exec("CREATE DATABASE sky; CREATE TABLE sky.frames (id int); CREATE OR REPLACE USER ana")
	b.exec("GRANT ALL ON sky.* TO ana WITH GRANT OPTION; GRANT ALL ON sky.frames TO ana WITH GRANT OPTION")
	is := b.now()
	of := map[int]map[string]bool{}
	for h := range is.acl[who{"ana", anyHost}] {
		if of[h.object] == nil {
			of[h.object] = map[string]bool{}
		}
		of[h.object][h.right] = true
		assert.Contains(t, global, h.right)
	}
	assert.Len(t, of[is.at[told{kind: schema, name: "sky"}]], 20)
	assert.Len(t, of[is.at[told{kind: relation, schema: "sky", name: "frames"}]], 14)
}
