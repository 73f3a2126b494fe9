//go:build unix

package main

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/csv"
	"encoding/json"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/credential"
	"hiddengate/internal/standin/web"
	"hiddengate/internal/starter"
)

// desk is the built program as a stand-in that people reach over HTTP.
type desk struct {
	*console
	client http.Client
}

// newDesk starts a stand-in for a system of the demo, which the demo then reaches.
func newDesk(t *testing.T, kind, system string, before ...[]string) *desk {
	d := &desk{console: &console{observatory: &observatory{t: t, dir: filepath.Join(t.TempDir(), "demo")}}}
	writeDemo(t, d.dir)
	for _, args := range before {
		d.says(0, "", args...)
	}
	d.folder = filepath.Join(filepath.Dir(d.dir), kind)
	d.serve(kind, "--like", system, "--data", d.folder)
	if text, err := os.ReadFile(filepath.Join(d.folder, web.AuthorityFile)); err == nil {
		pool := x509.NewCertPool()
		require.True(t, pool.AppendCertsFromPEM(text))
		d.client.Transport = &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}
	}
	t.Cleanup(d.client.CloseIdleConnections)
	d.says(0, system+" is reached", "connect", system, "--driver", "stand-in-"+kind, "--at", d.at.Address,
		"--secret-file", d.at.SecretFile)
	return d
}

// send sends something to the stand-in.
func (d *desk) send(path, auth string, body any) web.Reply {
	text, err := json.Marshal(body)
	require.NoError(d.t, err)
	scheme, _, _ := strings.Cut(d.at.Address, "://")
	r, err := http.NewRequestWithContext(d.t.Context(), http.MethodPost, scheme+"://"+d.at.At+path, bytes.NewReader(text))
	require.NoError(d.t, err)
	r.Header.Set("Authorization", auth)
	answer, err := d.client.Do(r)
	require.NoError(d.t, err)
	defer answer.Body.Close()
	var reply web.Reply
	require.NoError(d.t, json.NewDecoder(answer.Body).Decode(&reply))
	return reply
}

func (d *desk) signIn(account, password, code string) web.Reply {
	return d.send("/sign-in", "", web.SigningIn{Account: account, Password: password, Code: code,
		Role: "hgate:proposals:panel-judges"})
}

// shown finds a secret that a command shows once.
func (d *desk) shown(pattern string, args ...string) string {
	d.t.Helper()
	out, code := d.hgate(args...)
	require.Zero(d.t, code, out)
	found := regexp.MustCompile(pattern).FindStringSubmatch(out)
	require.NotNil(d.t, found, out)
	return found[1]
}

func (d *desk) key(who string) []string {
	return []string{"--by", who, "--key", filepath.Join(d.dir, starter.KeysFolder, who)}
}

// standNowhere sees that no secret stands in a file of the demo, its log, its state or its settings.
func (d *desk) standNowhere(secrets ...string) {
	looked := 0
	require.NoError(d.t, filepath.WalkDir(filepath.Dir(d.dir), func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.HasPrefix(path, d.folder) || strings.HasPrefix(e.Name(), "mine") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, secret := range secrets {
			assert.NotContains(d.t, string(text), secret, path)
		}
		looked++
		return err
	}))
	assert.Greater(d.t, looked, 10)
	log := d.logged()
	for _, secret := range secrets {
		require.NotEmpty(d.t, secret)
		assert.NotContains(d.t, log, secret)
	}
}

// A password is told to an application as a verifier, and a second factor as what makes its codes: it asks for both
// from then on, and takes each recovery code once.
func TestAnApplicationAsksForASecondFactor(t *testing.T) {
	const account = "proposals:accounts/nadia.brandt"
	d := newDesk(t, "application", "proposals",
		[]string{"add", "resource", account, "--owner", "nadia.brandt", "--yes"},
		[]string{"add", "role", "helper", "--allow", "account.set-password,account.view", "--yes"},
		[]string{"add", "grant", "vera-helps", "--to", "vera.stahl", "--role", "helper", "--on", "proposals", "--yes"})
	d.says(2, "nor is it theirs", append([]string{"credential", "second-factor", account}, d.key("marek.dvorin")...)...)
	d.says(2, "obsdb cannot be told of second factors", append([]string{"credential", "second-factor",
		"obsdb:accounts/ines.okafor"}, d.key("ines.okafor")...)...)
	password := d.shown(`shown this once (\S+)`, append([]string{"credential", "password", account},
		d.key("vera.stahl")...)...)
	d.says(2, "nothing was set", append([]string{"credential", "second-factor", account}, d.key("vera.stahl")...)...)
	file := filepath.Join(filepath.Dir(d.dir), "mine")
	d.says(2, "nothing was set", append([]string{"credential", "second-factor", account, "--out", file},
		d.key("vera.stahl")...)...)
	assert.NoFileExists(t, file)
	factor := d.equips(account, file, d.key("vera.stahl")...)
	d.says(0, "proposals was told", "push", "proposals", "--yes", "--despite", "a try")
	d.says(0, "nothing to tell it", "push", "proposals")

	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.Len(t, factor.Recovery, credential.RecoveryCodes)

	assert.False(t, d.signIn("nadia.brandt", password+"x", factor.Code(time.Now())).Done)
	first := d.signIn("nadia.brandt", password, "")
	assert.Contains(t, strings.Join(first.Said, " "), "choose your own first")
	assert.True(t, d.send("/password", "Bearer "+first.Token, map[string]string{"new": "a password of my own"}).Done)
	assert.False(t, d.signIn("nadia.brandt", "a password of my own", "").Done, "it asks for a code")
	assert.True(t, d.signIn("nadia.brandt", "a password of my own", factor.Code(time.Now())).Done)
	assert.True(t, d.signIn("nadia.brandt", "a password of my own", strings.ToLower(factor.Recovery[0])).Done)
	assert.False(t, d.signIn("nadia.brandt", "a password of my own", factor.Recovery[0]).Done, "it counts once")
	d.says(0, "no second factor any more", append([]string{"credential", "second-factor", account, "--remove"},
		d.key("vera.stahl")...)...)
	assert.True(t, d.signIn("nadia.brandt", "a password of my own", "").Done)
	log, _ := d.hgate("log")
	for _, said := range []string{"gave " + account + " of nadia.brandt a second factor", "took the second factor from",
		"set a password for " + account} {
		assert.Contains(t, strings.Join(strings.Fields(log), " "), said)
	}
	d.standNowhere(password, factor.Secret, factor.Recovery[0], factor.Recovery[7])
}

// Whoever is invited joins by a code that counts once: they are active then, and sign in with what they have set.
func TestSomebodyWhoIsInvitedJoins(t *testing.T) {
	const account = "proposals:accounts/lena.voss"
	d := newDesk(t, "application", "proposals",
		[]string{"set", "workspace", "--owner", "ines.okafor", "--yes"},
		[]string{"add", "person", "lena.voss", "--status", "invited", "--yes"},
		[]string{"add", "resource", account, "--owner", "lena.voss", "--yes"},
		[]string{"set", "group", "panel", "--members", "+lena.voss", "--yes"},
		[]string{"add", "role", "helper", "--allow", "account.set-password,account.view", "--yes"},
		[]string{"add", "grant", "ines-helps", "--to", "ines.okafor", "--role", "helper", "--on", "proposals", "--yes"})
	d.says(2, "is not invited", append([]string{"invite", "nadia.brandt"}, d.key("ines.okafor")...)...)
	d.says(2, "may not make lena.voss active", append([]string{"invite", "lena.voss"}, d.key("vera.stahl")...)...)
	code := d.shown(`shown this once\s+(\S+)`, append([]string{"invite", "lena.voss"}, d.key("ines.okafor")...)...)
	d.says(2, "no invitation with this code", "join", "AAAA-BBBB-CCCC-DDDD")
	d.says(0, "can join until", "check")

	password, factor := d.joins(strings.ToLower(code))

	out, _ := d.hgate("check")
	assert.NotContains(t, out, "can join until")
	d.says(2, "joined with this code already", "join", code)
	d.says(0, "active", "list", "people", "--where", "id=lena.voss")
	d.says(0, "proposals was told", "push", "proposals", "--yes", "--despite", "a try")
	reply := d.signIn("lena.voss", password, factor.Code(time.Now()))
	assert.True(t, reply.Done, reply.Said)
	assert.NotContains(t, strings.Join(reply.Said, " "), "choose your own", "it is their own already")
	assert.False(t, d.signIn("lena.voss", password, "").Done)
	assert.True(t, d.signIn("lena.voss", password, factor.Recovery[0]).Done)
	log, _ := d.hgate("log")
	assert.Contains(t, strings.Join(strings.Fields(log), " "), "invited lena.voss to join")
	assert.Contains(t, strings.Join(strings.Fields(log), " "), "with 1 password and 1 second factor")
	d.standNowhere(code, password, factor.Secret, factor.Recovery[0])
}

// equips gives an account a second factor that goes into a file, with a first code of it.
func (d *desk) equips(account, file string, by ...string) *credential.Factor {
	run := d.command(append([]string{"credential", "second-factor", account, "--out", file}, by...)...)
	in, err := run.StdinPipe()
	require.NoError(d.t, err)
	var said bytes.Buffer
	run.Stdout = &said
	require.NoError(d.t, run.Start())
	factor := &credential.Factor{}
	require.Eventually(d.t, func() bool {
		text, _ := os.ReadFile(file) // which stands there whole, once it does
		lines := strings.Fields(string(text))
		if len(lines) > 0 {
			factor.Secret = regexp.MustCompile(`secret=(\w+)`).FindStringSubmatch(lines[0])[1]
			factor.Recovery = lines[1:]
		}
		return len(lines) > 0
	}, time.Minute, 10*time.Millisecond)
	_, err = in.Write([]byte(factor.Code(time.Now()) + "\n"))
	require.NoError(d.t, err)
	require.NoError(d.t, run.Wait())
	assert.Contains(d.t, said.String(), "asks for its codes")
	return factor
}

// joins has somebody join by a code, and gives what they sign in with then.
func (d *desk) joins(code string) (password string, factor *credential.Factor) {
	run := d.command("join", code)
	in, err := run.StdinPipe()
	require.NoError(d.t, err)
	shows, err := run.StdoutPipe()
	require.NoError(d.t, err)
	run.Stderr = os.Stderr
	require.NoError(d.t, run.Start())
	said := ""
	factor = &credential.Factor{}
	lines := bufio.NewScanner(shows)
	for lines.Scan() {
		said += lines.Text() + "\n"
		if secret, found := strings.CutPrefix(lines.Text(), "  secret  "); found {
			factor.Secret = strings.ReplaceAll(secret, " ", "")
			_, err = in.Write([]byte(factor.Code(time.Now()) + "\n"))
			require.NoError(d.t, err)
		}
	}
	require.NoError(d.t, run.Wait(), said)
	found := regexp.MustCompile(`shown this once: (\S{16})\n`).FindStringSubmatch(said)
	require.NotNil(d.t, found, said)
	for _, one := range regexp.MustCompile(`(?m)^    (\S{19})$`).FindAllStringSubmatch(said, -1) {
		factor.Recovery = append(factor.Recovery, one[1])
	}
	require.Len(d.t, factor.Recovery, credential.RecoveryCodes, said)
	return found[1], factor
}

// A token lets a program act as an account, narrowed to a role, until it ends or is replaced; the cloud account knows a
// hash of it.
func TestATokenIsNarrowedAndReplaced(t *testing.T) {
	const account = "archive:accounts/nightly"
	d := newDesk(
		t,
		"cloud",
		"archive",
		[]string{"add", "resource", account, "--owner", "service:nightly-reduce", "--yes"},
		[]string{"add", "role", "raw-reader", "--allow", "store.view,object.list,object.read", "--yes"},
		[]string{"add", "role", "raw-writer", "--allow", "store.view,object.list,object.write", "--yes"},
		[]string{
			"add",
			"grant",
			"reads",
			"--to",
			"service:nightly-reduce",
			"--role",
			"raw-reader",
			"--on",
			"archive",
			"--yes",
		},
		[]string{"add", "grant", "writes", "--to", "service:nightly-reduce", "--role", "raw-writer", "--on", "archive",
			"--yes"},
		[]string{"add", "role", "helper", "--allow", "account.set-password", "--yes"},
		[]string{"add", "grant", "vera-helps", "--to", "vera.stahl", "--role", "helper", "--on", "archive", "--yes"},
	)
	by := d.key("vera.stahl")
	token := func(args ...string) string {
		return d.shown(`shown this once\s+(\S+)`, append(append([]string{"credential", "token"}, args...), by...)...)
	}
	does := func(token, line string) bool {
		return d.send("/do", "Key "+token, map[string]any{"line": line, "try": true}).Done
	}
	push := func() { d.says(0, "archive was told", "push", "archive", "--yes", "--despite", "a try") }
	const read, write = "read object at storage/raw: one", "write object at storage/raw: one"
	d.says(2, "nor is it theirs", append([]string{"credential", "token", "make", account}, d.key("marek.dvorin")...)...)
	d.says(2, "takes no tokens", append([]string{"credential", "token", "make", "obsdb:accounts/ines.okafor"},
		d.key("ines.okafor")...)...)
	d.says(2, "90d at most", append([]string{"credential", "token", "make", account, "--lasts", "91d"}, by...)...)
	d.says(2, `no role "raw-raeder"`, append([]string{"credential", "token", "make", account, "--role", "raw-raeder"},
		by...)...)
	whole, narrow := token("make", account), token("make", account, "--role", "raw-reader")
	assert.False(t, does(whole, read), "nobody was told yet")
	push()
	assert.True(t, does(whole, read))
	assert.True(t, does(whole, write))
	assert.True(t, does(narrow, read))
	assert.False(t, does(narrow, write), "it is narrowed to a role")
	assert.False(t, does(narrow+"X", read))

	id := regexp.MustCompile(`/(\w+)\.`)
	old := id.FindStringSubmatch(narrow)[1]
	file := filepath.Join(filepath.Dir(d.dir), "mine.csv")
	d.says(
		0,
		"follows",
		append([]string{"credential", "token", "replace", old, "--overlap", "1h", "--out", file}, by...)...)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	next := rows[1][0] + "/" + rows[1][1] + "." + rows[1][2]
	push()
	for _, one := range []string{narrow, next} {
		assert.True(t, does(one, read), "they overlap")
		assert.False(t, does(one, write))
	}
	d.says(0, "is over", append([]string{"credential", "token", "end", old}, by...)...)
	d.says(2, "is over", append([]string{"credential", "token", "end", old}, by...)...)
	push()
	assert.False(t, does(narrow, read))
	assert.True(t, does(next, read))
	d.says(0, "raw-reader", "credential", "token", "list")
	d.says(0, "", "suspend", "service:nightly-reduce", "--yes")
	push()
	assert.False(t, does(whole, read))
	secret := func(token string) string { _, s, _ := strings.Cut(token, "."); return s }
	d.standNowhere(secret(whole), secret(narrow), secret(next))
}

// The guide's chapter on signing in runs as it stands: somebody joins by a code, and signs in with what that gave them.
func TestTheChapterOnSigningInRuns(t *testing.T) {
	dir := t.TempDir()
	d := &desk{console: &console{observatory: &observatory{t: t, dir: filepath.Join(dir, "demo")}}}
	writeDemo(t, d.dir)
	home := filepath.Join(dir, "home")
	require.NoError(t, os.Mkdir(home, 0o700))
	d.folder = filepath.Join(home, "proposals")
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	d.at.At = free.Addr().String()
	free.Close()
	password, factor := "", &credential.Factor{}
	d.chapter("\n## Let people and programs sign in", func(block string) {
		switch {
		case strings.Contains(block, "hgate stand-in"):
			d.serve("application", "--listen", d.at.At, "--like", "proposals", "--data", d.folder)
		case strings.Contains(block, "hgate join"):
			code, err := os.ReadFile(filepath.Join(home, "lena.code"))
			require.NoError(t, err)
			password, factor = d.joins(strings.TrimSpace(string(code)))
		}
	}, "/home/gate", home, "127.0.0.1:7402", d.at.At)
	require.NotEmpty(t, password)
	assert.True(t, d.signIn("lena.voss", password, "").Done, "the next was set, and not told")
	require.Len(t, factor.Recovery, credential.RecoveryCodes)
	d.says(0, "", "set", "system", "proposals", "--sign-in", "certificate", "--yes")
	d.says(2, "5 accounts would have nothing to sign in with (no-sign-in): hana.kobari, ines.okafor, lena.voss,",
		"push", "proposals", "--yes")
	d.says(0, "", "set", "system", "proposals", "--sign-in", "password", "--yes")
	d.says(0, "proposals was told", "push", "proposals", "--yes")
	text, err := os.ReadFile(filepath.Join(home, "lena.password"))
	require.NoError(t, err)
	assert.True(t, d.signIn("lena.voss", strings.TrimSpace(string(text)), "").Done)
	assert.False(t, d.signIn("lena.voss", password, "").Done)
}
