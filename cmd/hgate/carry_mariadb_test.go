//go:build unix

package main

import (
	"database/sql"
	"encoding/csv"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/servers"
)

// newObservatoryAt is the demo, with a server at some address.
func newObservatoryAt(t *testing.T, address string) *observatory {
	o := &observatory{t: t, dir: filepath.Join(t.TempDir(), "demo"), address: address}
	writeDemo(t, o.dir)
	return o
}

// sky is the observatory's database.
var sky = []string{"CREATE DATABASE sky", "CREATE TABLE sky.catalogue (id int, star text)",
	"CREATE TABLE sky.`frames-0388` (frame text)", "CREATE TABLE sky.`frames-0411` (frame text)"}

// The guide's chapter on MariaDB and directories shows what the program does on real ones.
func TestTheChapterOnMariaDBAndDirectoriesRuns(t *testing.T) {
	o := newObservatoryAt(t, servers.MariaDB(t))
	at, err := url.Parse(o.address)
	require.NoError(t, err)
	db, err := sql.Open("mysql", "root@unix("+at.Query().Get("socket")+")/")
	require.NoError(t, err)
	defer db.Close()
	for _, text := range sky {
		_, err := db.Exec(text)
		require.NoError(t, err)
	}
	const base = "dc=ternhollow,dc=example"
	ldif := "dn: " + base + "\nobjectClass: dcObject\nobjectClass: organization\ndc: ternhollow\no: Ternhollow\n\n"
	for _, unit := range []string{"people", "groups"} {
		ldif += "dn: ou=" + unit + "," + base + "\nobjectClass: organizationalUnit\nou: " + unit + "\n\n"
	}
	for _, id := range []string{"ines.okafor", "lucas.amarel", "marek.dvorin"} {
		ldif += "dn: uid=" + id + ",ou=people," + base + "\nobjectClass: inetOrgPerson\nuid: " + id + "\ncn: x\nsn: x\n\n"
	}
	ldif += "dn: cn=dome-crew,ou=groups," + base + "\nobjectClass: groupOfNames\ncn: dome-crew\n" +
		"member: uid=lucas.amarel,ou=people," + base + "\n"
	is := servers.Directory(t, ldif)
	t.Setenv("STAFF_PASSWORD", is.Password)
	o.chapter("\n## Carry the policy to MariaDB, and to a directory", func(block string) {
		text, ok := strings.CutPrefix(block, "yaml\n")
		require.True(t, ok, block)
		file, err := os.OpenFile(filepath.Join(o.dir, "staff.yaml"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		defer file.Close()
		_, err = file.WriteString(text)
		require.NoError(t, err)
	}, "mariadb://hgate@db.ternhollow.example", o.address,
		`"ldaps://dir.ternhollow.example/`+base+"?user=cn=keeper,"+base+`"`,
		is.Secure+"/"+base+"?user="+is.User+"&ca="+is.File)
}

// The demo's policy is carried to MariaDB. The junior administrator signs in with the first password, has to change it,
// and can do what the policy lets them do, and no more; no password stands anywhere but in its file.
func TestThePolicyIsCarriedToMariaDB(t *testing.T) {
	o := newObservatoryAt(t, servers.MariaDB(t))
	at, err := url.Parse(o.address)
	require.NoError(t, err)
	as := func(user, password string) *sql.DB {
		config := mysql.NewConfig()
		config.User, config.Passwd, config.Net, config.Addr = user, password, "unix", at.Query().Get("socket")
		connector, err := mysql.NewConnector(config)
		require.NoError(t, err)
		db := sql.OpenDB(connector)
		db.SetMaxOpenConns(1)
		t.Cleanup(func() { db.Close() })
		return db
	}
	root := as("root", "")
	exec := func(texts ...string) {
		for _, text := range texts {
			_, err := root.Exec(text)
			require.NoError(t, err, text)
		}
	}
	exec(sky...)
	o.says(2, "or: hgate connect obsdb --driver mariadb --at mariadb://USER@HOST", "push", "obsdb")
	o.says(0, "GRANT `hgate:obsdb:made` TO `lucas.amarel`@`%`", "compile", "obsdb", "--driver", "mariadb")
	o.says(2, "there is no driver", "compile", "obsdb", "--driver", "none")
	o.says(0, "obsdb is reached", "connect", "obsdb", "--driver", "mariadb", "--at", o.address, "--accounts", "create")
	o.says(0, "obsdb was told", "push", "obsdb", "--yes")
	o.says(0, "nothing to tell it", "push", "obsdb")
	o.says(0, "obsdb does what the policy says", "probe", "obsdb")

	first := ""
	found, err := filepath.Glob(filepath.Join(filepath.Dir(o.dir), "hgate", "first-passwords", "*.csv"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	is, err := os.Stat(found[0])
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), is.Mode().Perm())
	file, err := os.Open(found[0])
	require.NoError(t, err)
	rows, err := csv.NewReader(file).ReadAll()
	require.NoError(t, err)
	for _, row := range rows {
		if row[0] == "lucas.amarel" {
			first = row[1]
		}
	}
	require.NotEmpty(t, first)
	log, _ := o.hgate("log", "--format", "json")
	assert.NotContains(t, log, first)

	junior := as("lucas.amarel", first)
	_, err = junior.Exec("SELECT star FROM sky.catalogue")
	require.ErrorContains(t, err, "You must SET PASSWORD")
	_, err = junior.Exec("SET PASSWORD = PASSWORD('wind and weather')")
	require.NoError(t, err)
	junior = as("lucas.amarel", "wind and weather")
	_, err = junior.Exec("SELECT star FROM sky.catalogue")
	require.NoError(t, err)
	for _, text := range []string{"SELECT frame FROM sky.`frames-0388`", "ALTER TABLE sky.catalogue ADD extra text",
		"INSERT INTO sky.catalogue (star) VALUES ('Vega')", "SET GLOBAL max_connections = 1", "CREATE DATABASE other"} {
		_, err := junior.Exec(text)
		require.ErrorContains(t, err, "denied", text)
	}

	exec("GRANT SELECT ON sky.`frames-0388` TO PUBLIC", "CREATE ROLE accounting", "CREATE USER stranger",
		"GRANT UPDATE ON sky.catalogue TO accounting", "GRANT UPDATE ON sky.catalogue TO stranger",
		"GRANT accounting TO `lucas.amarel`", "GRANT ALL ON `s%`.* TO `marek.dvorin`")
	o.says(1, "is granted to PUBLIC", "probe", "obsdb")
	o.says(
		1,
		"by the role\n  accounting it has UPDATE",
		"probe",
		"obsdb",
		"--who",
		"lucas.amarel",
		"--where",
		"obsdb:sky/catalogue",
	)
	o.says(1, "the account itself has", "probe", "obsdb", "--who", "marek.dvorin")
	o.says(0, "remove  REVOKE SELECT ON `sky`.`frames-0388` FROM PUBLIC;", "push", "obsdb", "--yes")
	o.says(0, "obsdb does what the policy says", "probe", "obsdb")
	out, _ := o.hgate("push", "obsdb", "--dry-run")
	assert.NotContains(t, out, "stranger")
	var kept int
	require.NoError(t, root.QueryRow("SELECT count(*) FROM mysql.tables_priv WHERE User = 'stranger'").Scan(&kept))
	assert.Equal(t, 1, kept)
}
