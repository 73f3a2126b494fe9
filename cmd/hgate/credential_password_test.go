//go:build unix

package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/servers"
	"hiddengate/internal/starter"
)

// signsIn says whether an account gets into the database that asks for passwords.
func (o *observatory) signsIn(account, password string) bool {
	config, err := pgx.ParseConfig(strings.Replace(o.address, "/postgres?", "/"+servers.AskingDatabase+"?", 1))
	require.NoError(o.t, err)
	config.User, config.Password = account, password
	conn, err := pgx.ConnectConfig(o.t.Context(), config)
	if err != nil {
		return false
	}
	conn.Close(o.t.Context())
	return true
}

// A password that is set here lets into a real database, which was told its verifier alone; it has to be changed by
// its holder, and does not let in after its time. It stands nowhere but where it was shown.
func TestAPasswordIsToldAsItsVerifier(t *testing.T) {
	o := newObservatory(t)
	o.exec("CREATE DATABASE " + servers.AskingDatabase)
	o.says(0, "obsdb is reached", "connect", "obsdb", "--driver", "postgres", "--at", o.address, "--accounts", "create")
	o.says(0, "", "add", "role", "helper", "--allow", "account.set-password,account.view", "--yes")
	o.says(0, "", "add", "grant", "vera-helps", "--to", "vera.stahl", "--role", "helper", "--on", "obsdb", "--yes")
	key := func(who string) string { return filepath.Join(o.dir, starter.KeysFolder, who) }
	set := func(who string, more ...string) string {
		out, code := o.hgate(append([]string{"credential", "password", "obsdb:accounts/ines.okafor", "--by", who, "--key",
			key(who)}, more...)...)
		require.Zero(t, code, out)
		if found := regexp.MustCompile(`shown this once (\S+)`).FindStringSubmatch(out); found != nil {
			return found[1]
		}
		return ""
	}
	o.says(2, "marek.dvorin may not do account.set-password", "credential", "password", "obsdb:accounts/ines.okafor",
		"--by", "marek.dvorin", "--key", key("marek.dvorin"))
	o.says(2, "summit-hosts takes no verifier", "credential", "password", "summit-hosts:accounts/ines.okafor", "--by",
		"vera.stahl", "--key", key("vera.stahl"))
	o.says(2, "would stand in the workspace", "credential", "password", "obsdb:accounts/ines.okafor", "--by", "vera.stahl",
		"--key", key("vera.stahl"), "--out", filepath.Join(o.dir, "password"))
	first := set("vera.stahl")
	assert.Len(t, first, 16)
	assert.False(t, o.signsIn("ines.okafor", first), "nobody was told yet")
	out, code := o.hgate("push", "obsdb", "--yes", "--despite", "a try")
	require.Zero(t, code, out)
	assert.Contains(t, out, `ALTER ROLE "ines.okafor" PASSWORD '…';`)
	assert.NotContains(t, out, "SCRAM")
	assert.True(t, o.signsIn("ines.okafor", first))
	assert.False(t, o.signsIn("ines.okafor", first+"x"))
	o.says(0, "nothing to tell it", "push", "obsdb")
	until := func() (at time.Time) {
		require.NoError(t, o.owner.QueryRow(t.Context(), "SELECT rolvaliduntil FROM pg_roles WHERE rolname = 'ines.okafor'").
			Scan(&at))
		return at
	}
	assert.WithinDuration(t, time.Now().Add(24*time.Hour), until(), time.Hour, "one that somebody else set")

	own := filepath.Join(filepath.Dir(o.dir), "own")
	set("ines.okafor", "--out", own)
	info, err := os.Stat(own)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	text, err := os.ReadFile(own)
	require.NoError(t, err)
	second := strings.TrimSpace(string(text))
	o.says(0, "obsdb was told", "push", "obsdb", "--yes", "--despite", "a try")
	assert.False(t, o.signsIn("ines.okafor", first))
	assert.True(t, o.signsIn("ines.okafor", second))
	assert.WithinDuration(t, time.Now().Add(90*24*time.Hour), until(), 2*time.Hour)
	o.says(0, "nothing to tell it", "push", "obsdb")

	o.says(0, "", "set", "workspace", "--passwords", "longest=1m", "--yes")
	o.says(0, "VALID UNTIL", "push", "obsdb", "--yes", "--despite", "a try")
	assert.WithinDuration(t, time.Now(), until(), 2*time.Minute, "the rules count as they are now")
	o.exec(`ALTER ROLE "ines.okafor" VALID UNTIL '2020-01-01'`)
	assert.False(t, o.signsIn("ines.okafor", second), "its time is over")
	log, code := o.hgate("log", "export", "-")
	require.Zero(t, code)
	for _, secret := range []string{first, second} {
		assert.NotContains(t, log, secret)
	}
	pushes := 0
	for line := range strings.Lines(log) {
		if strings.Contains(line, `"system.pushed"`) {
			pushes++
			assert.NotContains(t, line, "SCRAM")
		}
	}
	assert.Equal(t, 3, pushes)
	for _, format := range []string{"text", "ndjson", "json", "csv", "syslog", "cloudevents"} {
		shown, code := o.hgate("log", "--format", format)
		require.Zero(t, code, format)
		assert.Contains(t, shown, "ines.okafor")
		assert.NotContains(t, shown, "SCRAM-SHA-256$", format)
	}
}
