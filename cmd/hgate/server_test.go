//go:build unix

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/servers"
)

// base makes the demo, and a server as its base-hosts has it, with what tells how it is reached.
func base(t *testing.T) (o *observatory, root *servers.Root, key string) {
	o = &observatory{t: t, dir: filepath.Join(t.TempDir(), "demo")}
	writeDemo(t, o.dir)
	root = servers.Linux(t)
	root.Run("for p in planner weather; do printf '#!/bin/sh\necho the %s opens\n' $p >/usr/local/bin/$p; " +
		"chmod 755 /usr/local/bin/$p; done; touch /etc/units")
	key = filepath.Join(filepath.Dir(o.dir), "key")
	require.NoError(t, os.WriteFile(key, []byte(root.Key), 0o600))
	return o, root, key
}

// The guide's chapter on servers runs as it stands, on a real one: the contractor, who signs in with their own key,
// opens one application and gets nothing else.
func TestTheChapterOnServersRuns(t *testing.T) {
	o, root, key := base(t)
	o.chapter("\n## Carry the policy to a server", func(block string) {
		text := strings.TrimPrefix(block, "sh\n")
		who, command, _ := strings.Cut(text, "\n")
		switch {
		case strings.HasPrefix(who, "# as Tomás"):
			private, err := os.ReadFile(filepath.Join(filepath.Dir(o.dir), "tomas"))
			require.NoError(t, err)
			out, err := root.As("tomas.velho", string(private), command)
			require.NoError(t, err, out)
			assert.Equal(t, "the planner opens\n", out)
		case strings.HasPrefix(who, "# as root"):
			root.Run(command)
		default:
			c := exec.Command("sh", "-ec", text)
			c.Dir = o.dir
			c.Env = append(os.Environ(), "PATH="+bin+string(os.PathListSeparator)+os.Getenv("PATH"))
			out, err := c.CombinedOutput()
			require.NoError(t, err, string(out))
		}
	}, "ssh://root@base.ternhollow.example", root.Address, "KEY", key)
	o.says(0, "pushed the policy to base-hosts: ", "log")
	o.says(0, "nothing to tell it", "push", "base-hosts")

	o.says(0, "", "remove", "person", "tomas.velho", "--with-references", "--yes")
	o.says(0, "usermod --shell /usr/sbin/nologin -- tomas.velho", "push", "base-hosts", "--yes", "--despite", "they left")
	private, err := os.ReadFile(filepath.Join(filepath.Dir(o.dir), "tomas"))
	require.NoError(t, err)
	_, err = root.As("tomas.velho", string(private), "true")
	assert.Error(t, err)
}

// A server of which nobody knows the key is not reached; what breaks off in the middle stands in the log, and the next
// push does the rest; and a server that is in use is adopted as it is.
func TestAServerIsAdoptedAndPushedInParts(t *testing.T) {
	o, root, key := base(t)
	root.Run("useradd --create-home --shell /bin/sh --password '$y$x' hana.kobari; usermod -aG adm hana.kobari")
	stranger := strings.Replace(root.Address, root.Known, "/dev/null", 1)
	o.says(3, "see by another way that its key is right", "connect", "base-hosts", "--driver", "linux", "--at", stranger,
		"--secret-file", key)
	o.says(
		0,
		"base-hosts is reached",
		"connect",
		"base-hosts",
		"--driver",
		"linux",
		"--at",
		root.Address,
		"--secret-file",
		key,
	)
	o.says(0, "stand for what it gives", "pull", "base-hosts", "--yes")
	o.says(0, "ALLOWED", "try", "hana.kobari", "log.view", "base-hosts")
	o.says(0, "base-hosts does what the policy says", "probe", "base-hosts", "--who", "hana.kobari")
	root.Run("mount --bind /bin/false /usr/sbin/visudo")
	o.says(
		3,
		"base-hosts was told in part, and the rest is in the next push",
		"push",
		"base-hosts",
		"--yes",
		"--despite",
		"a try",
	)
	o.says(0, "began to push the policy to base-hosts: it broke off", "log")
	root.Run("umount /usr/sbin/visudo")
	o.says(0, "base-hosts was told", "push", "base-hosts", "--yes", "--despite", "a try")
	o.says(0, "base-hosts does what the policy says", "probe", "base-hosts", "--who", "tomas.velho")
}

// Somebody whose time is over gets in no more, though nobody pushes: the server ends it by itself.
func TestAnAccountEndsByItself(t *testing.T) {
	o, root, key := base(t)
	private, public := servers.NewKey(t)
	ends := time.Now().Add(25 * time.Second).UTC().Truncate(time.Second)
	o.says(0, "base-hosts is reached", "connect", "base-hosts", "--driver", "linux", "--at", root.Address,
		"--secret-file", key)
	o.says(0, "", "set", "person", "tomas.velho", "--keys", public, "--ends", ends.Format(time.RFC3339), "--yes")
	o.says(0, "base-hosts was told", "push", "base-hosts", "--yes", "--despite", "a short visit")
	out, err := root.As("tomas.velho", private, "planner")
	require.NoError(t, err, out)
	assert.Equal(t, "the planner opens\n", out)
	time.Sleep(time.Until(ends) + 1500*time.Millisecond)
	_, err = root.As("tomas.velho", private, "planner")
	assert.Error(t, err)
}
