//go:build unix

package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/servers"
	"hiddengate/internal/starter"
)

// observatory is the demo with a real database.
type observatory struct {
	t       *testing.T
	dir     string
	address string
	owner   *pgx.Conn
}

// heard is what commands have said, by the folder of the demo in which they ran.
var heard sync.Map

// writeDemo writes the demo, whose clocks show noon, whenever the tests run: what it lets people do hangs on the hour.
func writeDemo(t *testing.T, dir string) {
	t.Cleanup(func() {
		said, _ := heard.Load(dir)
		text, _ := said.(string)
		secretsStay(t, text, filepath.Dir(dir))
	})
	require.NoError(t, starter.Write(starter.Demo(), dir))
	require.NoError(t, starter.WriteKeys(dir))
	name := filepath.Join(dir, "hidden-gate.yaml")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	zone := "UTC"
	if behind := time.Now().UTC().Hour() - 12; behind != 0 {
		zone = fmt.Sprintf("Etc/GMT%+d", behind) // whose sign is the other way round
	}
	noon := strings.Replace(string(text), "Atlantic/Azores", zone, 1)
	require.NotEqual(t, string(text), noon)
	require.NoError(t, os.WriteFile(name, []byte(noon), 0o600))
}

func newObservatory(t *testing.T) *observatory {
	o := &observatory{t: t, dir: filepath.Join(t.TempDir(), "demo"), address: servers.Postgres(t)}
	writeDemo(t, o.dir)
	o.owner = o.as("owner")
	o.exec(`CREATE SCHEMA sky; CREATE TABLE sky.catalogue (id serial PRIMARY KEY, star text);
		CREATE TABLE sky."frames-0388" (id serial, frame text); CREATE TABLE sky."frames-0411" (id serial, frame text)`)
	return o
}

// as connects as an account. The private server asks for no password.
func (o *observatory) as(account string) *pgx.Conn {
	conn, err := pgx.Connect(o.t.Context(), strings.Replace(o.address, "//owner@", "//"+account+"@", 1))
	require.NoError(o.t, err)
	o.t.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

func (o *observatory) exec(text string) {
	_, err := o.owner.Exec(o.t.Context(), text)
	require.NoError(o.t, err)
}

// hgate runs the program in the demo's folder.
func (o *observatory) hgate(args ...string) (out string, code int) {
	text, err := o.command(args...).CombinedOutput()
	before, _ := heard.LoadOrStore(o.dir, "")
	heard.Store(o.dir, before.(string)+string(text))
	if err == nil {
		return string(text), 0
	}
	var exit *exec.ExitError
	require.ErrorAs(o.t, err, &exit, string(text))
	return string(text), exit.ExitCode()
}

// command is the program in the demo's folder, with state and settings of its own.
func (o *observatory) command(args ...string) *exec.Cmd {
	run := exec.Command(filepath.Join(bin, "hgate"), args...)
	run.Dir = o.dir
	state := filepath.Dir(o.dir)
	run.Env = append(os.Environ(), "XDG_STATE_HOME="+state, "XDG_CONFIG_HOME="+state)
	return run
}

func (o *observatory) says(code int, want string, args ...string) {
	o.t.Helper()
	out, got := o.hgate(args...)
	assert.Equal(o.t, code, got, "%s\n%s", args, out)
	assert.Contains(o.t, out, want, args)
}

// refused says that an account may not run a statement.
func refused(t *testing.T, conn *pgx.Conn, statement string) {
	t.Helper()
	_, err := conn.Exec(t.Context(), statement)
	var fault *pgconn.PgError
	if assert.ErrorAs(t, err, &fault, statement) {
		assert.Equal(t, "42501", fault.Code, statement)
	}
}

// The demo's policy is carried to a real database, whose answers agree; drift is found, named and undone; and the
// junior administrator can do there what the policy lets them do, and no more.
func TestThePolicyIsCarriedToARealDatabase(t *testing.T) {
	o := newObservatory(t)
	o.says(2, "do: hgate connect obsdb --driver postgres", "push", "obsdb")
	o.says(2, "has a driver and an address", "connect", "obsdb", "--driver", "postgres")
	o.says(2, "write listed or create", "connect", "obsdb", "--driver", "postgres", "--at", o.address, "--accounts", "all")
	o.says(3, "holds a password", "connect", "obsdb", "--driver", "postgres", "--at", "postgres://a:b@127.0.0.1/x")
	o.says(
		2,
		"the driver postgres carries a database, and reduce is a cluster",
		"connect",
		"reduce",
		"--driver",
		"postgres",
		"--at",
		o.address,
	)
	o.says(0, "obsdb is reached", "connect", "obsdb", "--driver", "postgres", "--at", o.address, "--accounts", "create")
	o.says(0, "obsdb is reached", "connect", "obsdb")
	o.says(2, `there is no group "nobody"`, "probe", "obsdb", "--who", "group:nobody")
	o.says(0, "postgres://owner@", "connect")
	o.says(0, `add     CREATE ROLE "lucas.amarel" LOGIN;`, "push", "obsdb", "--dry-run")
	o.says(2, "nobody can be asked", "push", "obsdb")
	o.says(0, "obsdb was told", "push", "obsdb", "--yes")
	o.says(0, "nothing to tell it", "push", "obsdb")
	o.says(0, "obsdb does what the policy says", "probe", "obsdb")
	o.says(0, "pushed the policy to obsdb", "log")

	junior := o.as("lucas.amarel")
	_, err := junior.Exec(t.Context(), "SELECT star FROM sky.catalogue")
	require.NoError(t, err)
	var known int
	require.NoError(t, junior.QueryRow(t.Context(), "SELECT count(query) FROM pg_stat_activity").Scan(&known))
	refused(t, junior, `SELECT frame FROM sky."frames-0388"`)
	refused(t, junior, "ALTER TABLE sky.catalogue ADD extra text")
	refused(t, junior, "INSERT INTO sky.catalogue (star) VALUES ('Vega')")
	refused(t, junior, "SELECT pg_reload_conf()")

	o.exec(`GRANT SELECT ON sky."frames-0388" TO PUBLIC; CREATE ROLE accounting; CREATE ROLE stranger LOGIN;
		GRANT UPDATE ON sky.catalogue TO accounting, stranger; GRANT accounting TO "lucas.amarel";
		ALTER ROLE "marek.dvorin" SUPERUSER`)
	o.says(1, "SELECT is granted to PUBLIC", "probe", "obsdb")
	o.says(1, "a member of accounting, which has UPDATE on it", "probe", "obsdb", "--who", "lucas.amarel")
	o.says(1, "the account is a superuser", "probe", "obsdb", "--who", "marek.dvorin", "--where", "obsdb:sky")
	o.says(1, `"system": "allow"`, "probe", "obsdb", "--format", "json")
	o.says(1, "<failure", "probe", "obsdb", "--format", "junit")
	o.says(0, `remove  REVOKE SELECT ON TABLE "sky"."frames-0388" FROM PUBLIC;`, "push", "obsdb", "--yes")
	o.says(0, "obsdb does what the policy says", "probe", "obsdb")
	var left bool
	require.NoError(t, o.owner.QueryRow(t.Context(), "SELECT has_table_privilege('stranger', 'sky.catalogue', 'UPDATE')").
		Scan(&left))
	assert.True(t, left, "an account outside the policy's care keeps what it has")

	o.says(0, "", "suspend", "lucas.amarel", "--yes")
	o.says(0, `alter   ALTER ROLE "lucas.amarel" NOLOGIN;`, "push", "obsdb", "--yes", "--despite", "they left in a hurry")
	o.says(0, "despite what stood against it: they left in a hurry", "log")
	_, err = pgx.Connect(t.Context(), strings.Replace(o.address, "//owner@", "//lucas.amarel@", 1))
	require.ErrorContains(t, err, "not permitted to log in")
	o.says(0, "settings.yaml", "connect", "obsdb", "--remove")
}

// A policy that fails its tests is not carried anywhere.
func TestNothingIsToldWhileATestFails(t *testing.T) {
	o := newObservatory(t)
	o.says(0, "obsdb is reached", "connect", "obsdb", "--driver", "postgres", "--at", o.address)
	o.says(0, "", "set", "role", "database-watcher", "--allow", "+table.alter", "--yes")
	o.says(2, "fails, so nothing was told to obsdb", "push", "obsdb", "--yes")
	rows, err := o.owner.Query(t.Context(), "SELECT rolname FROM pg_roles WHERE rolname LIKE 'hgate%'")
	require.NoError(t, err)
	roles, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	assert.Empty(t, roles)
}

// A loan is on the real system while it lasts, with a push that stays, and gone after its end.
func TestALoanIsCarriedWhileAPushStays(t *testing.T) {
	o := newObservatory(t)
	o.says(0, "", "add", "grant", "drivers-tidy", "--to", "marek.dvorin", "--role", "data-keeper", "--on",
		"obsdb:sky/catalogue", "--on-request", "longest=1h", "--yes")
	o.says(0, "obsdb is reached", "connect", "obsdb", "--driver", "postgres", "--at", o.address, "--accounts", "create")
	stays := exec.Command(filepath.Join(bin, "hgate"), "push", "obsdb", "--watch", "--yes")
	stays.Dir = o.dir
	state := filepath.Dir(o.dir)
	stays.Env = append(os.Environ(), "XDG_STATE_HOME="+state, "XDG_CONFIG_HOME="+state)
	said, err := os.Create(filepath.Join(state, "said"))
	require.NoError(t, err)
	defer said.Close()
	stays.Stdout, stays.Stderr = said, said
	require.NoError(t, stays.Start())
	defer func() {
		_ = stays.Process.Signal(os.Interrupt)
		assert.NoError(t, stays.Wait())
		text, err := os.ReadFile(said.Name())
		assert.NoError(t, err)
		assert.Contains(t, string(text), "obsdb was told.")
	}()
	may := func() bool {
		var yes bool
		err := o.owner.QueryRow(t.Context(), `SELECT coalesce((SELECT has_table_privilege(oid, 'sky.catalogue', 'UPDATE')
			FROM pg_roles WHERE rolname = 'marek.dvorin'), false)`).Scan(&yes)
		return err == nil && yes
	}
	assert.False(t, may())
	key := []string{"--by", "marek.dvorin", "--key", filepath.Join(starter.KeysFolder, "marek.dvorin")}
	o.says(0, "asks for grant drivers-tidy",
		append([]string{"request", "drivers-tidy", "--for", "1h", "--reason", "a look"}, key...)...)
	require.Eventually(t, may, 20*time.Second, 100*time.Millisecond)
	o.says(0, "", append([]string{"finish"}, key...)...)
	require.Eventually(t, func() bool { return !may() }, 20*time.Second, 100*time.Millisecond)
}

// A database that is in use is adopted: what it gives becomes a policy, and what the policy forbids is told.
func TestALiveDatabaseIsAdopted(t *testing.T) {
	o := newObservatory(t)
	o.exec(`CREATE ROLE readers; CREATE ROLE "pia.lindqvist" LOGIN; CREATE ROLE lucas LOGIN; CREATE ROLE stranger LOGIN;
		GRANT USAGE ON SCHEMA sky TO readers, stranger; GRANT SELECT ON ALL TABLES IN SCHEMA sky TO readers;
		GRANT readers TO "pia.lindqvist", lucas; GRANT SELECT (star) ON sky.catalogue TO stranger`)
	require.NoError(t, os.WriteFile(filepath.Join(o.dir, "map.csv"), []byte("account,owner\nlucas,lucas.amarel\n"), 0o600))
	o.says(0, "obsdb is reached", "connect", "obsdb", "--driver", "postgres", "--at", o.address)
	o.says(0, "fit nobody: stranger", "pull", "obsdb", "--match", "map.csv", "--yes")
	text, err := os.ReadFile(filepath.Join(o.dir, "found-obsdb.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "obsdb-readers: {title: readers, members: [lucas.amarel, pia.lindqvist]}")
	o.says(0, "Nothing changes", "pull", "obsdb", "--match", "map.csv", "--yes")
	o.says(0, "ALLOWED", "try", "lucas.amarel", "table.read", "obsdb:sky/catalogue")
	o.says(1, "the account is a member of readers, which has SELECT on it", "probe", "obsdb", "--who", "lucas.amarel")
	o.exec("CREATE TABLE sky.later (id int)")
	o.says(0, "found-obsdb.csv", "pull", "obsdb", "--match", "map.csv", "--yes")
	o.says(0, "obsdb:sky/later", "list", "resources")
}

// The guide's chapter on databases shows what the program does on a real one, command after command.
func TestTheChapterOnDatabasesRuns(t *testing.T) {
	o := newObservatory(t)
	o.chapter("\n## Carry the policy to a database", func(block string) {
		text, ok := strings.CutPrefix(block, "sql\n")
		require.True(t, ok, block)
		o.exec(text)
	}, "postgres://hgate@db.ternhollow.example/obs", o.address)
	pia := o.as("pia.lindqvist")
	var star string
	require.NoError(t, pia.QueryRow(t.Context(), "SELECT string_agg(star, ', ') FROM sky.targets").Scan(&star))
	assert.Equal(t, "The lantern", star, "of the rows of others she sees none")
	_, err := pia.Exec(t.Context(), "INSERT INTO sky.targets VALUES ('The net', 'pia.lindqvist')")
	require.NoError(t, err)
	refused(t, pia, "INSERT INTO sky.targets VALUES ('The net', 'nadia.brandt')")
	refused(t, pia, "UPDATE sky.targets SET astronomer = 'nadia.brandt'")
}

// chapter runs the commands of a chapter of the guide, with some words replaced, and sees that what it shows comes
// back;
// other blocks are for others to run.
func (o *observatory) chapter(heading string, other func(block string), replaced ...string) {
	ran := 0
	for i, block := range strings.Split(chapter(o.t, "../../docs/guide.md", heading), "```") {
		if i%2 == 0 {
			continue
		}
		if !strings.HasPrefix(block, "\n$ ") {
			other(block)
			continue
		}
		for _, one := range strings.Split(strings.TrimPrefix(block, "\n$ "), "\n$ ") {
			line, want, _ := strings.Cut(strings.TrimSpace(one), "\n")
			line = strings.NewReplacer(replaced...).Replace(line)
			out, code := o.hgate(words(line)[1:]...)
			assert.LessOrEqual(o.t, code, 1, "%s\n%s", line, out)
			for shown := range strings.Lines(want) {
				if shown = strings.TrimRight(shown, "\n"); shown != "" {
					assert.Contains(o.t, out, shown, line)
				}
			}
			ran++
		}
	}
	assert.Greater(o.t, ran, 5)
}

// words splits a line as a shell does where it has no quotes but single ones.
func words(line string) (out []string) {
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			out = append(out, part)
		} else {
			out = append(out, strings.Fields(part)...)
		}
	}
	return out
}

// The demo goes on with a real database, and ends with one that does what the policy says.
func TestTheDemoGoesOnWithARealDatabase(t *testing.T) {
	o := &observatory{t: t, dir: t.TempDir(), address: servers.Postgres(t)}
	out, code := o.hgate("demo", "--with", o.address)
	require.Zero(t, code, out)
	assert.Equal(t, 2, strings.Count(out, "obsdb does what the policy says"))
	assert.Equal(t, 1, strings.Count(out, "obsdb does not do what the policy says"))
	assert.Contains(t, out, "SELECT is granted to PUBLIC")
	assert.Contains(t, out, "cd ternhollow")
	out, code = o.hgate("demo", "--with", o.address)
	assert.Equal(t, 3, code, "a database that is not empty is left alone")
	assert.Contains(t, out, "already exists")
}

// A push that is killed at any moment leaves the database as before or as after, and the next one completes it.
func TestAPushThatIsKilledDoesAllOrNothing(t *testing.T) {
	o := newObservatory(t)
	o.says(0, "obsdb is reached", "connect", "obsdb", "--driver", "postgres", "--at", o.address, "--accounts", "create")
	before, after := 0, 0
	for wait := 20 * time.Millisecond; after < 6 && wait < 10*time.Second; wait += wait / 8 {
		o.exec(`DO $$ DECLARE r text; BEGIN FOR r IN SELECT rolname FROM pg_roles WHERE oid >= 16384 AND rolname <> 'owner'
			LOOP EXECUTE format('DROP OWNED BY %I; DROP ROLE %I', r, r); END LOOP; END $$`)
		run := o.command("push", "obsdb", "--yes")
		require.NoError(t, run.Start())
		time.Sleep(wait)
		require.NoError(t, run.Process.Kill())
		_ = run.Wait()
		require.Eventually(t, func() bool {
			var n int
			err := o.owner.QueryRow(t.Context(),
				"SELECT count(*) FROM pg_stat_activity WHERE application_name = 'hgate'").Scan(&n)
			return err == nil && n == 0
		}, 10*time.Second, 10*time.Millisecond)
		var made int
		require.NoError(t, o.owner.QueryRow(t.Context(),
			"SELECT count(*) FROM pg_roles WHERE oid >= 16384 AND rolname <> 'owner'").Scan(&made))
		if made == 0 {
			before++
			continue
		}
		after++
		o.says(0, "nothing to tell it", "push", "obsdb")
	}
	t.Logf("%d times as before, %d times as after", before, after)
	assert.Positive(t, before)
	assert.Positive(t, after)
	o.hgate("push", "obsdb", "--yes")
	o.says(0, "nothing to tell it", "push", "obsdb")
}

// What the system gives to whoever gets in, and a guarantee forbids, stands against a push.
func TestWhatEverybodyGetsStandsAgainstAPush(t *testing.T) {
	o := newObservatory(t)
	o.says(0, "obsdb is reached", "connect", "obsdb", "--driver", "postgres", "--at", o.address, "--accounts", "create")
	name := filepath.Join(o.dir, "tests.yaml")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	text = append(text, "  visitors-see-no-roles: {never: group:visitors, may: role.view, on: obsdb}\n"...)
	require.NoError(t, os.WriteFile(name, text, 0o600))
	o.says(0, "visitors-see-no-roles", "prove")
	o.says(1, "pia.lindqvist can use role.view on obsdb whatever the policy says", "compile", "obsdb", "--fidelity")
	o.says(1, "visitors-see-no-roles forbids it", "compile", "obsdb", "--format", "json")
	o.says(2, "guarantee visitors-see-no-roles forbids pia.lindqvist what the system gives to whoever gets in (role.view)",
		"push", "obsdb", "--yes")
	o.says(0, "obsdb was told", "push", "obsdb", "--yes", "--despite", "nothing secret stands there")
}

// A structure is found in what a database gives to one account after another: those who have the same are a group,
// named by whom it is like, and who does not fit is told.
func TestAStructureIsProposed(t *testing.T) {
	o := newObservatory(t)
	o.says(0, "obsdb is reached", "connect", "obsdb", "--driver", "postgres", "--at", o.address)
	for _, who := range []string{"sela.tuiasau", "joao.ferraz", "nadia.brandt", "vera.stahl", "otto.lind", "ravi.menon",
		"hana.kobari"} {
		o.exec(`CREATE ROLE "` + who + `" LOGIN; GRANT USAGE ON SCHEMA sky TO "` + who + `";
			GRANT SELECT, INSERT ON sky.catalogue, sky."frames-0388" TO "` + who + `"`)
	}
	for _, who := range []string{"sela.tuiasau", "joao.ferraz", "nadia.brandt"} {
		o.exec(`GRANT UPDATE, DELETE ON sky."frames-0411" TO "` + who + `"; GRANT CREATE ON SCHEMA sky TO "` + who + `"`)
	}
	o.exec(`GRANT DELETE ON sky.catalogue TO "otto.lind"`)
	o.says(0, "of the system's", "pull", "obsdb", "--propose", "--dry-run")
	o.says(0, "otto.lind is the only one of 7 in group:obsdb-", "pull", "obsdb", "--propose", "--yes")
	o.says(0, "Those of group:ridge-crews", "show", "group", "obsdb-ridge-crews")
	o.says(0, "sela.tuiasau", "show", "group", "obsdb-ridge-crews")
	o.says(1, "CREATE", "probe", "obsdb", "--who", "hana.kobari") // whom the demo's policy gives more
	o.says(0, "obsdb does what the policy says", "probe", "obsdb", "--who", "group:obsdb-ridge-crews", "--where",
		"obsdb:sky/catalogue")
}
