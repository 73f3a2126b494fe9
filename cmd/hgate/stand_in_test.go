//go:build unix

package main

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"hiddengate/internal/sshreach"
	"hiddengate/internal/standin"
	"hiddengate/internal/target"
	"hiddengate/internal/target/simulated"
)

// console is the built program as a stand-in for the demo's network.
type console struct {
	*observatory
	folder string
	run    *exec.Cmd
	at     struct {
		At, Address string
		SecretFile  string `json:"secret-file"`
	}
}

func newConsole(t *testing.T) *console {
	c := &console{observatory: &observatory{t: t, dir: filepath.Join(t.TempDir(), "demo")}}
	writeDemo(t, c.dir)
	c.folder = filepath.Join(filepath.Dir(c.dir), "ridge")
	c.start()
	return c
}

// start starts it, and waits until it serves.
func (c *console) start() { c.serve("network", "--like", "ridge-net", "--data", c.folder) }

func (c *console) serve(args ...string) {
	c.run = c.command(append([]string{"stand-in", "--format", "json"}, args...)...)
	out, err := c.run.StdoutPipe()
	require.NoError(c.t, err)
	c.run.Stderr = os.Stderr
	require.NoError(c.t, c.run.Start())
	c.t.Cleanup(func() {
		_ = c.run.Process.Kill() // it may have ended
		_ = c.run.Wait()
	})
	require.NoError(c.t, json.NewDecoder(out).Decode(&c.at))
}

func (c *console) connect() {
	c.says(0, "ridge-net is reached", "connect", "ridge-net", "--driver", "stand-in-network", "--at", c.at.Address,
		"--secret-file", c.at.SecretFile, "--accounts", "create")
}

// as signs in, and gives what sends one line.
func (c *console) as(account, secret string) func(line, body string) (string, error) {
	client, err := sshreach.Dial(c.t.Context(), sshreach.Address{User: account, Host: c.at.At,
		Known: filepath.Join(c.folder, "known_hosts")}, secret)
	require.NoError(c.t, err)
	c.t.Cleanup(func() { client.Close() })
	return func(line, body string) (string, error) {
		s, err := client.NewSession()
		if err != nil {
			return "", err
		}
		defer s.Close()
		s.Stdin = strings.NewReader(body)
		out, err := s.Output(line)
		if refused := new(ssh.ExitError); errors.As(err, &refused) || errors.Is(err, io.EOF) {
			err = nil // it can be over before all that was sent is read
		}
		return string(out), err
	}
}

// firstOf finds the first password of an account in the file that a push wrote.
func (c *console) firstOf(account string) string {
	files, err := filepath.Glob(filepath.Join(filepath.Dir(c.dir), "hgate", "first-passwords", "*.csv"))
	require.NoError(c.t, err)
	for _, name := range files {
		info, err := os.Stat(name)
		require.NoError(c.t, err)
		assert.Zero(c.t, info.Mode().Perm()&0o077)
		text, err := os.ReadFile(name)
		require.NoError(c.t, err)
		for line := range strings.Lines(string(text)) {
			if password, found := strings.CutPrefix(strings.TrimSpace(line), account+","); found {
				return password
			}
		}
	}
	require.Fail(c.t, "there is no first password", account)
	return ""
}

// keeper reads what the keeper signs in with.
func (c *console) keeper() string {
	text, err := os.ReadFile(c.at.SecretFile)
	require.NoError(c.t, err)
	return strings.TrimSpace(string(text))
}

// The guide's chapter on consoles runs as it stands: a person signs in to a stand-in, does what they may and nothing
// else, and is out when the policy says so.
func TestTheChapterOnConsolesRuns(t *testing.T) {
	c := newConsole(t)
	var sela func(line, body string) (string, error)
	c.chapter("\n## Carry the policy to a console", func(block string) {
		kind, text, _ := strings.Cut(block, "\n")
		if kind == "sh" {
			return // it runs already, and who signs in does so below
		}
		if sela == nil {
			sela = c.as("sela.tuiasau", c.firstOf("sela.tuiasau"))
		}
		for _, one := range strings.Split(strings.TrimPrefix(text, "sela.tuiasau> "), "\nsela.tuiasau> ") {
			line, want, _ := strings.Cut(strings.TrimSpace(one), "\n")
			if strings.Contains(want, "Somebody else chose") {
				want = "Choose your own password first"
			}
			said, err := sela(line, "a password of mine\na password of mine\n")
			require.NoError(t, err, line)
			assert.Contains(t, said, want, line)
		}
	}, "127.0.0.1:7400", c.at.At, "/home/gate/ridge", c.folder)
	assert.NotContains(t, c.logged(), c.firstOf("joao.ferraz"))
}

func (c *console) logged() string {
	out, _ := c.hgate("log", "export", "-")
	return out
}

// The guide's chapter on adopting a system runs as it stands.
func TestTheChapterOnAdoptingRuns(t *testing.T) {
	c := newConsole(t)
	c.connect()
	c.chapter("\n## Adopt a system that is in use", func(block string) {
		kind, text, _ := strings.Cut(block, "\n")
		require.Equal(t, "json", kind)
		s, err := simulated.Named("network").Connect(t.Context(), target.Connection{System: "ridge-net", At: c.at.Address,
			Secret: c.keeper()})
		require.NoError(t, err)
		defer s.Close()
		require.NoError(t, simulated.ByHand(t.Context(), s, func(x *standin.Access) {
			*x = standin.Access{}
			require.NoError(t, json.Unmarshal([]byte(text), x))
		}))
	})
}

// A stand-in that is killed has all that it had answered, and the next one goes on with it.
func TestAStandInOutlivesBeingKilled(t *testing.T) {
	c := newConsole(t)
	c.connect()
	c.says(0, "ridge-net was told", "push", "ridge-net", "--yes")
	keeper := c.as(standin.Keeper, c.keeper())
	for i := range 30 {
		said, err := keeper("add route at summit: 10.40."+string(rune('a'+i))+" by relay", "")
		require.NoError(t, err)
		require.Contains(t, said, "Done.")
		if i%10 == 9 {
			require.NoError(t, c.run.Process.Kill())
			_ = c.run.Wait() // it was killed
			c.start()
			keeper = c.as(standin.Keeper, c.keeper())
			said, err = keeper("see routes at summit", "")
			require.NoError(t, err)
			assert.Equal(t, i+1, strings.Count(said, "by relay"))
		}
	}
	c.connect() // its port is another
	c.says(0, "ridge-net does what the policy says", "probe", "ridge-net")
	c.says(0, "nothing to tell it", "push", "ridge-net")
}

// The demo starts stand-ins, and leaves nothing of them.
func TestTheDemoCarriesThePolicyToStandIns(t *testing.T) {
	o := &observatory{t: t, dir: t.TempDir()}
	out, code := o.hgate("demo", "walked")
	require.Zero(t, code, out)
	assert.Equal(t, 6, strings.Count(out, "does what the policy says"))
	assert.Equal(t, 1, strings.Count(out, "ridge-net does not do what the policy says"))
	assert.Contains(t, out, "sela.tuiasau> add route at base: 10.40.9.0/24 by relay\n  You may not")
	assert.Contains(t, out, "the policy denies: everybody has change-routes")
	left, err := filepath.Glob(filepath.Join(filepath.Dir(o.dir), "hgate", "first-passwords", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.NoFileExists(t, filepath.Join(filepath.Dir(o.dir), "hgate", "settings.yaml"))
}

// What cannot be meant is refused before anything starts.
func TestAStandInIsRefusedWhatItCannotBe(t *testing.T) {
	o := &observatory{t: t, dir: filepath.Join(t.TempDir(), "demo")}
	writeDemo(t, o.dir)
	o.says(2, `there is no stand-in "router"`, "stand-in", "router")
	o.says(
		2,
		"obsdb is a database, and hgate stand-in network stands in for a network-console",
		"stand-in",
		"network",
		"--like",
		"obsdb",
	)
	o.says(2, "do: listen on 127.0.0.1, or add --open-to-others", "stand-in", "network", "--listen", "0.0.0.0:0")
	o.says(2, "write a time, as 10m", "stand-in", "network", "--idle", "0s")
	o.says(3, "no address", "stand-in", "network", "--listen", "here")
	o.says(0, `"take-control"`, "stand-in", "device", "--schema")
	o.says(
		3,
		"on this machine alone",
		"connect",
		"north-dish",
		"--driver",
		"stand-in-device",
		"--at",
		"http://keeper@192.0.2.1:80",
	)
}
