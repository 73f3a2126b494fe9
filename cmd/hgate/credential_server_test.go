//go:build unix

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/servers"
)

// door is a server that trusts an authority of the demo.
type door struct {
	*observatory
	root *servers.Root
	home string
}

func newDoor(t *testing.T) *door {
	o, root, key := base(t)
	d := &door{o, root, filepath.Dir(o.dir)}
	d.says(0, "base-hosts is reached", "connect", "base-hosts", "--driver", "linux", "--at", root.Address, "--secret-file",
		key)
	for _, line := range []string{
		"add system base-keys --kind authority --makes ssh --yes",
		"add profile door --authority base-keys --system base-hosts --longest 1d --yes",
		"add resource base-hosts:accounts/ines --owner ines.okafor --yes",
		"add role host-user --allow host.view,host.sign-in --yes",
		"add role asks --allow credential.request,credential.revoke,credential.view,revocations.publish --yes",
		"add grant all-ask --to everyone --role asks --on base-keys --yes",
		"add grant ines-signs-in --to ines.okafor --role host-user --on base-hosts --when 'network: 127.0.0.0/8' --yes",
		"credential authority make base-keys --identity .keys/ines.okafor --yes",
	} {
		d.says(0, "", words(line)...)
	}
	d.says(0, "Wrote", "credential", "authority", "show", "base-keys", "--out", d.file("trusted"))
	trusted, err := os.ReadFile(d.file("trusted"))
	require.NoError(t, err)
	root.Run("useradd --create-home --shell /bin/sh --password '*' ines; " +
		"useradd --create-home --shell /bin/sh --password '*' tomas.velho; touch /etc/ssh/revoked; " +
		"cd /usr/local/bin; chmod 750 planner weather; setfacl -m u:tomas.velho:rx planner; " +
		"printf '%s\\n' '" + strings.TrimSpace(string(trusted)) + "' >/etc/ssh/trusted; " +
		"printf 'TrustedUserCAKeys /etc/ssh/trusted\\nRevokedKeys /etc/ssh/revoked\\n' >/etc/ssh/sshd_config.d/a.conf; " +
		"kill -HUP $(cat /run/sshd.pid); sleep 1")
	return d
}

func (d *door) file(name string) string { return filepath.Join(d.home, name) }

// ask has somebody ask for a certificate, and writes it beside its key. It gives the number of the request.
func (d *door) ask(who, key, name string, more ...string) string {
	out, code := d.hgate(append([]string{"request", "credential", "door", "--key-out", d.file(name), "--by", who,
		"--key", key}, more...)...)
	require.Zero(d.t, code, out)
	number := regexp.MustCompile(`Request (\d+)`).FindStringSubmatch(out)[1]
	d.says(0, "Wrote", "credential", "show", number, "--out", d.file(name+"-cert.pub"))
	return number
}

// in signs in with a certificate as OpenSSH's own client does, and runs a command.
func (d *door) in(account, name, command string) (string, error) {
	host, port, _ := strings.Cut(d.root.Host, ":")
	out, err := exec.Command(
		"ssh",
		"-F",
		"/dev/null",
		"-i",
		d.file(name),
		"-o",
		"IdentitiesOnly=yes",
		"-o",
		"BatchMode=yes",
		"-o",
		"UserKnownHostsFile="+d.root.Known,
		"-o",
		"IdentityAgent=none",
		"-p",
		port,
		account+"@"+host,
		command,
	).Output()
	return string(out), err
}

// A certificate for SSH lets its holder in to the accounts that are theirs, to do what the policy surely lets them,
// from where it does, and for its time.
func TestACertificateLetsItsHolderIntoAServer(t *testing.T) {
	d := newDoor(t)
	ines := filepath.Join(d.dir, ".keys", "ines.okafor")
	number := d.ask("ines.okafor", ines, "ines")
	d.says(0, "ALLOWED  ines.okafor", "try", "--certificate", d.file("ines-cert.pub"), "host.sign-in", "base-hosts",
		"--network", "127.0.0.1")
	out, err := d.in("ines", "ines", "id -un")
	require.NoError(t, err, out)
	assert.Equal(t, "ines\n", out)
	d.says(0, "The bundle for ines.okafor is in", "credential", "bundle", number, d.file("for-ines"), "--with-key",
		d.file("ines"))
	d.says(0, "base-hosts lets ines.okafor in as ines.", "credential", "test", d.file("for-ines"))
	handed := exec.Command("ssh", "-F", "ssh_config", "-o", "BatchMode=yes", "base-hosts", "id -un")
	handed.Dir = d.file("for-ines")
	said, err := handed.CombinedOutput()
	require.NoError(t, err, string(said))
	assert.Equal(t, "ines\n", string(said), "with what stands in the bundle alone")
	_, err = d.in("tomas.velho", "ines", "id -un")
	assert.Error(t, err, "somebody else's account")

	private, public := servers.NewKey(t)
	require.NoError(t, os.WriteFile(d.file("tomas.own"), []byte(private), 0o600))
	ends := time.Now().Add(25 * time.Second).UTC().Truncate(time.Second)
	d.says(0, "", "set", "person", "tomas.velho", "--keys", public, "--ends", ends.Format(time.RFC3339), "--yes")
	visit := d.ask("tomas.velho", d.file("tomas.own"), "tomas")
	out, err = d.in("tomas.velho", "tomas", "id -un")
	require.NoError(t, err, out)
	assert.Equal(t, "the planner opens\n", out, "whoever may open one application opens it, whatever they ask for")
	d.says(
		0,
		"",
		"add",
		"test",
		"tomas-plans",
		"--who",
		"tomas.velho",
		"--allowed",
		"application.open on base-hosts:planner",
		"--denied",
		"application.open on base-hosts:weather,host.sign-in on base-hosts",
		"--yes",
	)
	d.says(0, "The bundle for tomas.velho is in", "credential", "bundle", visit, d.file("for-tomas"), "--with-key",
		d.file("tomas"))
	out, code := d.hgate("credential", "test", d.file("for-tomas"))
	assert.Zero(t, code, out)
	for _, line := range []string{"allowed  application.open  base-hosts:planner  as test tomas-plans says",
		"refused  application.open  base-hosts:weather  as test tomas-plans says",
		"refused  host.sign-in      base-hosts          as test tomas-plans says"} {
		assert.Contains(t, out, line)
	}

	d.says(0, "", "set", "grant", "ines-signs-in", "--when", "network: 10.40.0.0/16", "--yes")
	d.ask("ines.okafor", ines, "far")
	_, err = d.in("ines", "far", "id -un")
	assert.Error(t, err, "from elsewhere")
	d.says(0, "", "set", "grant", "ines-signs-in", "--when", "hours: daily 00:00-23:59", "--yes")
	d.says(2, "does not let ines.okafor sign in to base-hosts", "request", "credential", "door", "--key-out", d.file("no"),
		"--by", "ines.okafor", "--key", ines)
	assert.NoFileExists(t, d.file("no"))

	d.says(0, "is revoked", "credential", "revoke", number, "--by", "ines.okafor", "--key", ines)
	d.says(0, "1 credential", "credential", "revocations", "base-keys", "--out", d.file("revoked"), "--by", "ines.okafor",
		"--key", ines)
	revoked, err := os.ReadFile(d.file("revoked"))
	require.NoError(t, err)
	d.root.Run("printf '%s' '" + string(revoked) + "' >/etc/ssh/revoked")
	_, err = d.in("ines", "ines", "id -un")
	assert.Error(t, err, "it is revoked")

	time.Sleep(time.Until(ends) + 1500*time.Millisecond)
	_, err = d.in("tomas.velho", "tomas", "id -un")
	assert.Error(t, err, "their time is over")
}
