//go:build unix

package servers

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Root is a machine of its own as far as its accounts, files and programs go: a mount namespace in which the folders
// that administration touches are laid over the machine's.
type Root struct {
	t   testing.TB
	pid string
	// Address is how it is reached by SSH, as root.
	Address string
	// Key is a private key by which root signs in.
	Key string
	// Host is its address and port.
	Host string
	// Known is a file of known hosts.
	Known string
}

// setup lays a folder of memory over those folders, and puts a program in place of the one that controls services: it
// notes what it is told.
const setup = `set -e
base=$1
mount -t tmpfs hgate "$base"
for d in etc home srv opt usr/local var; do
  n=$(echo $d | tr / -); mkdir -p "$base/$n/u" "$base/$n/w" "$base/$n/c" /$d
  mount -t overlay hgate -o "lowerdir=/$d,upperdir=$base/$n/u,workdir=$base/$n/w" /$d 2>/dev/null || {
    # Where nothing can be laid over: copies of what administration needs.
    case $d in
      etc) cp -a /etc/. "$base/$n/c/" ;;
      var) mkdir "$base/$n/c/log" "$base/$n/c/mail" "$base/$n/c/lib" ;;
    esac
    mount --bind "$base/$n/c" /$d
  }
done
mount -t tmpfs hgate /run
mkdir -p /usr/local/bin
mount -t tmpfs -o mode=755 hgate /usr/local/bin
mkdir -p /run/sshd /run/lock
cat >"$base/control" <<'END'
#!/bin/sh
case "$1" in
  list-unit-files) cat /etc/units ;;
  reload) exit 1 ;;
  *) echo "$@" >>/var/log/told; chmod 666 /var/log/told ;;
esac
END
chmod 755 "$base/control"
[ -e /usr/bin/systemctl ] || touch /usr/bin/systemctl
mount --bind "$base/control" /usr/bin/systemctl
cat >/etc/ssh/sshd_config <<END
Include /etc/ssh/sshd_config.d/*.conf
UsePAM yes
PasswordAuthentication no
MaxStartups 200
Port $2
ListenAddress 127.0.0.1
Subsystem sftp internal-sftp
END
rm -f /etc/ssh/sshd_config.d/* /etc/sudoers.d/*
printf '%s\n' "$3" >/etc/ssh/root-key
printf 'Match User root\n  AuthorizedKeysFile /etc/ssh/root-key\n' >/etc/ssh/sshd_config.d/root.conf
rm -f /etc/ssh/ssh_host_*; ssh-keygen -q -t ed25519 -N '' -f /etc/ssh/ssh_host_ed25519_key
/usr/sbin/sshd -t
/usr/sbin/sshd -E "$base/log"
cat /etc/ssh/ssh_host_ed25519_key.pub
cat >/dev/null
kill "$(cat /run/sshd.pid)"
`

// Linux makes a private root with an SSH server on loopback. The test is skipped where what it needs is not installed.
func Linux(t testing.TB) *Root {
	for _, name := range []string{"unshare", "nsenter", "sshd", "sudo", "setfacl", "runuser"} {
		needed(t, name, "openssh-server, sudo and acl")
	}
	if os.Geteuid() != 0 {
		t.Skip("only root can make a private root")
	}
	base, err := os.MkdirTemp("", "hgroot")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	port := freePort(t)
	private, public := NewKey(t)
	c := exec.Command("unshare", "--mount", "/bin/sh", "-c", setup, "sh", base, port, public)
	c.Env = append(os.Environ(), "PATH=/usr/sbin:/usr/bin:/sbin:/bin")
	in, err := c.StdinPipe()
	require.NoError(t, err)
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	var said strings.Builder
	c.Stderr = &said
	require.NoError(t, c.Start())
	t.Cleanup(func() { in.Close(); _ = c.Wait() })
	line := make([]byte, 1000)
	n, err := io.ReadAtLeast(out, line, 10)
	require.NoError(t, err, &said)
	r := &Root{t: t, pid: strconv.Itoa(c.Process.Pid), Host: "127.0.0.1:" + port, Key: private,
		Known: filepath.Join(t.TempDir(), "known")}
	key := strings.Fields(string(line[:n]))
	require.NoError(t, os.WriteFile(r.Known, fmt.Appendf(nil, "[127.0.0.1]:%s %s %s\n", port, key[0], key[1]), 0o600))
	r.Address = fmt.Sprintf("ssh://root@%s?known-hosts=%s", r.Host, r.Known)
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", r.Host)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
	return r
}

// Shell is the command that runs a script, which it reads, as root in there.
func (r *Root) Shell() []string { return []string{"nsenter", "-t", r.pid, "-m", "/bin/sh", "-s"} }

// Run runs a script as root in there, and gives what it prints.
func (r *Root) Run(script string) string {
	r.t.Helper()
	shell := r.Shell()
	c := exec.Command(shell[0], shell[1:]...)
	c.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C"}
	c.Stdin = strings.NewReader("set -e\n" + script)
	out, err := c.CombinedOutput()
	require.NoError(r.t, err, "%s\n%s", script, out)
	return string(out)
}

// As signs in as an account with its private key, and runs a command.
func (r *Root) As(account, private, command string) (out string, err error) {
	key, err := ssh.ParsePrivateKey([]byte(private))
	require.NoError(r.t, err)
	client, err := ssh.Dial("tcp", r.Host, &ssh.ClientConfig{User: account, Auth: []ssh.AuthMethod{ssh.PublicKeys(key)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		return "", err
	}
	defer client.Close()
	s, err := client.NewSession()
	if err != nil {
		return "", err
	}
	defer s.Close()
	text, err := s.CombinedOutput(command)
	return string(text), err
}

func freePort(t testing.TB) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	return port
}

// needed skips a test where a program is not installed, or fails it where it has to be.
func needed(t testing.TB, name, of string) {
	for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/sbin", "/sbin") {
		if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
			return
		}
	}
	if os.Getenv("HGATE_SERVERS") == "needed" {
		t.Fatalf("%s is not installed (%s)", name, of)
	}
	t.Skipf("%s is not installed (%s)", name, of)
}
