//go:build unix

package servers

import (
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// MariaDB starts a MariaDB server and gives its address, as root without a password. It listens on a socket in a folder
// of its own alone. The test is skipped where MariaDB is not installed.
func MariaDB(t testing.TB) (address string) {
	for _, name := range []string{"mariadbd", "mariadb-install-db"} {
		needed(t, name, "mariadb-server")
	}
	folder, err := os.MkdirTemp("", "hgmd")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	data, socket := filepath.Join(folder, "data"), filepath.Join(folder, "s")
	me, err := user.Current()
	require.NoError(t, err)
	log, err := os.Create(filepath.Join(folder, "log"))
	require.NoError(t, err)
	t.Cleanup(func() { log.Close() })
	run := func(name string, args ...string) *exec.Cmd {
		c := exec.Command(name, append([]string{"--no-defaults", "--datadir=" + data, "--user=" + me.Username}, args...)...)
		c.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/usr/bin", "HOME="+folder)
		c.Stdout, c.Stderr, c.Dir = log, log, folder
		if path, err := exec.LookPath("/usr/sbin/" + name); err == nil {
			c.Path, c.Err = path, nil
		}
		return c
	}
	said := func() string {
		text, _ := os.ReadFile(log.Name())
		return string(text)
	}
	install := run("mariadb-install-db", "--auth-root-authentication-method=normal", "--skip-test-db")
	require.NoError(t, install.Run(), said())
	c := run("mariadbd", "--socket="+socket, "--skip-networking", "--pid-file="+filepath.Join(folder, "pid"),
		"--innodb-buffer-pool-size=16M", "--innodb-log-file-size=8M", "--innodb-flush-log-at-trx-commit=0",
		"--skip-log-bin", "--sync-frm=0")
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	require.Eventually(t, func() bool {
		conn, err := net.Dial("unix", socket)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 30*time.Second, 20*time.Millisecond, "the server did not start: %s", said())
	return "mariadb://root@localhost?socket=" + url.QueryEscape(socket)
}
