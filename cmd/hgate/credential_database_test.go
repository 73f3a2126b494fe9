//go:build unix

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/servers"
)

// A certificate lets into a real database that asks for one, tried with the bundle before it is handed over, and with
// PostgreSQL's own client as the bundle's configuration says; once it is revoked, it does not.
func TestABundleLetsIntoADatabase(t *testing.T) {
	server := servers.PostgresOverTLS(t)
	o := &observatory{t: t, dir: filepath.Join(t.TempDir(), "demo"), address: server.Address}
	writeDemo(t, o.dir)
	o.owner = o.as("owner")
	o.exec(`CREATE SCHEMA sky; CREATE TABLE sky.catalogue (id serial PRIMARY KEY, star text);
		CREATE TABLE sky."frames-0388" (id serial, frame text); CREATE TABLE sky."frames-0411" (id serial, frame text)`)
	home := t.TempDir()
	file := func(name string) string { return filepath.Join(home, name) }
	for _, line := range []string{
		"add profile db-client --authority base-ca --system obsdb --longest 1d --yes",
		"add role asks --allow credential.request,credential.revoke,credential.view,revocations.publish --yes",
		"add grant all-ask --to everyone --role asks --on base-ca --yes",
		"credential authority make base-ca --identity .keys/ines.okafor --yes",
		"credential authority show base-ca --out " + file("authority.pem"),
	} {
		o.says(0, "", words(line)...)
	}
	out, err := exec.Command("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1",
		"-nodes", "-days", "2", "-subj", "/CN=127.0.0.1", "-addext", "subjectAltName=IP:127.0.0.1", "-keyout",
		file("server.key"), "-out", file("server.pem")).CombinedOutput()
	require.NoError(t, err, string(out))
	out, err = exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "", "-f", file("signs")).CombinedOutput()
	require.NoError(t, err, string(out))
	public, err := os.ReadFile(file("signs.pub"))
	require.NoError(t, err)
	o.says(0, "", "set", "person", "lucas.amarel", "--keys", strings.TrimSpace(string(public)), "--yes")
	revoked := func() {
		o.says(0, "", "credential", "revocations", "base-ca", "--out", file("revoked.pem"), "--by", "ines.okafor", "--key",
			".keys/ines.okafor")
		for setting, name := range map[string]string{"ssl_cert_file": "server.pem", "ssl_key_file": "server.key",
			"ssl_ca_file": "authority.pem", "ssl_crl_file": "revoked.pem"} {
			text, err := os.ReadFile(file(name))
			require.NoError(t, err)
			o.exec("ALTER SYSTEM SET " + setting + " = '" + server.Keep(t, name, string(text)) + "'")
		}
		o.exec("ALTER SYSTEM SET ssl = on")
		o.exec("SELECT pg_reload_conf(), pg_sleep(0.5)")
	}
	revoked()
	o.says(0, "obsdb is reached", "connect", "obsdb", "--driver", "postgres", "--at", "postgres://owner@"+server.Host+
		"/postgres?sslrootcert="+file("server.pem")+"&sslmode=verify-full", "--accounts", "create")
	o.says(0, "obsdb was told", "push", "obsdb", "--yes")
	o.says(
		0,
		"",
		"add",
		"test",
		"lucas-watches",
		"--who",
		"lucas.amarel",
		"--allowed",
		"session.view on obsdb",
		"--denied",
		"table.alter on obsdb:sky/catalogue",
		"--yes",
	)
	said, code := o.hgate("request", "credential", "db-client", "--key-out", file("lucas.key"), "--by", "lucas.amarel",
		"--key", file("signs"))
	require.Zero(t, code, said)
	number := regexp.MustCompile(`Request (\d+)`).FindStringSubmatch(said)[1]
	bundle := file("for-lucas")
	o.says(0, "The bundle for lucas.amarel is in", "credential", "bundle", number, bundle, "--with-key", file("lucas.key"))

	said, code = o.hgate("credential", "test", bundle)
	assert.Zero(t, code, said)
	assert.Contains(t, said, "obsdb lets lucas.amarel in as lucas.amarel.")
	assert.Contains(t, said, "answers are as the tests and the policy say.")
	for _, line := range []string{`allowed  session.view +obsdb +as test lucas-watches`,
		`refused  table.alter +obsdb:sky/catalogue +as test lucas-watches`} {
		assert.Regexp(t, line, said)
	}

	psql := func(statement string) error {
		c := exec.Command("psql", "service=obsdb", "-c", statement)
		c.Dir = bundle
		c.Env = append(os.Environ(), "PGSERVICEFILE="+filepath.Join(bundle, "pg_service.conf"), "HOME="+home)
		return c.Run()
	}
	config, err := os.ReadFile(filepath.Join(bundle, "pg_service.conf"))
	require.NoError(t, err)
	assert.Contains(
		t,
		string(config),
		"sslmode=verify-full\nsslcert=certificate.pem\nsslkey=key.pem\nsslrootcert=server.pem\n",
	)
	if _, err := exec.LookPath("psql"); err == nil {
		assert.NoError(t, psql("SELECT count(*) FROM sky.catalogue"))
		assert.Error(t, psql("DELETE FROM sky.catalogue"))
	}
	mine := filepath.Join(bundle, "certificate.pem")
	o.says(0, "ALLOWED  lucas.amarel", "try", "--certificate", mine, "session.view", "obsdb")
	o.says(1, "DENIED", "try", "--certificate", mine, "table.alter", "obsdb:sky/catalogue")
	o.says(1, "it ended at", "try", "--certificate", mine, "session.view", "obsdb", "--at", "2091-01-01T00:00")
	o.says(2, "no authority of the policy has signed", "try", "--certificate", file("server.pem"), "session.view", "obsdb")
	o.says(3, "--certificate:", "try", "--certificate", file("lucas.key"), "session.view", "obsdb")
	o.says(2, "whoever holds it asks", "try", "lucas.amarel", "session.view", "obsdb", "--certificate", mine)
	_, err = o.owner.Exec(
		t.Context(),
		"GRANT UPDATE ON sky.catalogue TO \"lucas.amarel\"",
		pgx.QueryExecModeSimpleProtocol,
	)
	require.NoError(t, err)
	o.says(1, "says that it is refused", "credential", "test", bundle)
	o.says(0, "", "credential", "revoke", number, "--why", "lost", "--by", "lucas.amarel", "--key", file("signs"))
	revoked()
	o.says(1, "obsdb does not let lucas.amarel in", "credential", "test", bundle)
}
