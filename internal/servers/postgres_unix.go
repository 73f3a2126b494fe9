//go:build unix

// Package servers starts real servers for tests: private instances on loopback that end with the test.
package servers

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// AskingDatabase is the name of a database into which the private server lets nobody without a password. Tests make it.
const AskingDatabase = "asking"

// Postgres starts a PostgreSQL server and gives the address of its database, as the owner of all. It listens on a
// socket in a folder of its own alone. The test is skipped where PostgreSQL is not installed.
func Postgres(t testing.TB) (address string) {
	return start(t, program(t, "initdb"), program(t, "postgres"))
}

// newer is where `scripts/newer-postgres` puts a newer PostgreSQL than the system's.
const newer = "/opt/hgate-postgres/bin/"

// NewerPostgres is Postgres with a newer version. The test is skipped where that is not installed.
func NewerPostgres(t testing.TB) (address string) {
	if _, err := os.Stat(newer + "postgres"); err != nil {
		if os.Getenv("HGATE_SERVERS") == "needed" {
			t.Fatal("a newer PostgreSQL is not installed: run scripts/newer-postgres")
		}
		t.Skip("a newer PostgreSQL is not installed: run scripts/newer-postgres")
	}
	return start(t, newer+"initdb", newer+"postgres")
}

// TLSPostgres is a server of PostgreSQL that is reached at a port of this machine too, where everybody but its owner is
// asked for a certificate.
type TLSPostgres struct {
	Address string // as the owner of all, by its socket
	Host    string // with the port
	folder  string
	as      *syscall.SysProcAttr
}

// PostgresOverTLS is Postgres with a server that is reached over TLS too, once it has been told what to show.
func PostgresOverTLS(t testing.TB) *TLSPostgres {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	host := free.Addr().String()
	require.NoError(t, free.Close())
	_, port, err := net.SplitHostPort(host)
	require.NoError(t, err)
	out := &TLSPostgres{Host: host}
	out.folder, out.as = startAt(t, program(t, "initdb"), program(t, "postgres"), port,
		"hostssl all owner 127.0.0.1/32 trust\nhostssl all all 127.0.0.1/32 cert\n", "listen_addresses=127.0.0.1")
	out.Address = fmt.Sprintf("postgres://owner@/postgres?host=%s&port=%s", out.folder, port)
	return out
}

// Keep writes a file that the server can read, and nobody else, and gives its name.
func (p *TLSPostgres) Keep(t testing.TB, name, text string) string {
	name = filepath.Join(p.folder, name)
	require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	if c := p.as.Credential; c != nil {
		require.NoError(t, os.Chown(name, int(c.Uid), int(c.Gid)))
	}
	return name
}

func start(t testing.TB, initdb, server string) (address string) {
	folder, _ := startAt(t, initdb, server, "5432", "local "+AskingDatabase+" all scram-sha-256\n", "listen_addresses=")
	return fmt.Sprintf("postgres://owner@/postgres?host=%s", folder)
}

// startAt starts a server in a folder of its own, with a port, rules of who gets in how, before all others, and
// settings.
func startAt(t testing.TB, initdb, server, port, asking string, settings ...string,
) (folder string, as *syscall.SysProcAttr) {
	folder, err := os.MkdirTemp("", "hgpg")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	as = &syscall.SysProcAttr{}
	if os.Geteuid() == 0 { // the server refuses to be root
		uid, gid := account(t)
		as.Credential = &syscall.Credential{Uid: uid, Gid: gid}
		require.NoError(t, os.Chown(folder, int(uid), int(gid)))
	}
	data := filepath.Join(folder, "data")
	run := func(c *exec.Cmd) *exec.Cmd {
		c.SysProcAttr, c.Dir = as, folder
		c.Env = append(os.Environ(), "HOME="+folder, "LC_ALL=C")
		return c
	}
	out, err := run(
		exec.Command(initdb, "-D", data, "-U", "owner", "-A", "trust", "-E", "UTF8", "--no-sync")).CombinedOutput()
	require.NoError(t, err, string(out))
	rules := filepath.Join(data, "pg_hba.conf")
	trusting, err := os.ReadFile(rules)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(rules, append([]byte(asking), trusting...), 0o600))
	// What it holds need not outlive it, so it waits for no disk.
	words := []string{"-D", data, "-k", folder, "-p", port, "-c", "max_connections=150",
		"-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off"}
	for _, one := range settings {
		words = append(words, "-c", one)
	}
	c := run(exec.Command(server, words...))
	log, err := os.Create(filepath.Join(folder, "log"))
	require.NoError(t, err)
	c.Stdout, c.Stderr = log, log
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGQUIT) // at once
		_ = c.Wait()
		log.Close()
	})
	socket := filepath.Join(folder, ".s.PGSQL."+port)
	require.Eventually(t, func() bool {
		_, err := os.Stat(socket)
		return err == nil
	}, 20*time.Second, 20*time.Millisecond, "the server did not start")
	require.Eventually(t, func() bool {
		return exec.Command(program(t, "pg_isready"), "-h", folder, "-p", port).Run() == nil
	}, 20*time.Second, 50*time.Millisecond)
	return folder, as
}

// account is one without rights, for what refuses to run as root.
func account(t testing.TB) (uid, gid uint32) {
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		n, errU := strconv.ParseUint(u.Uid, 10, 32)
		g, errG := strconv.ParseUint(u.Gid, 10, 32)
		if errU == nil && errG == nil {
			return uint32(n), uint32(g)
		}
	}
	t.Fatal("there is no account to run a server as")
	return 0, 0
}

// program finds a program of PostgreSQL; the test is skipped if it is not there, or fails where it has to be.
func program(t testing.TB, name string) string {
	if path, err := exec.LookPath(name); err == nil {
		return path
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	if len(found) > 0 {
		return found[len(found)-1]
	}
	if os.Getenv("HGATE_SERVERS") == "needed" {
		t.Fatalf("%s of PostgreSQL is not installed", name)
	}
	t.Skipf("%s of PostgreSQL is not installed", name)
	return ""
}
