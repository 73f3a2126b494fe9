package starting

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"hiddengate/internal/sshreach"
	"hiddengate/internal/standin"
	"hiddengate/internal/standin/application"
	"hiddengate/internal/standin/network"
	"hiddengate/internal/standin/web"
)

func kindOf(name string) *Kind {
	for _, k := range Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// desk is a stand-in under test, with one keeper whose password is known, at a clock that the test moves.
type desk struct {
	*testing.T
	*Running
	kind   *Kind
	folder string
	keeper string       // the keeper's password
	ahead  atomic.Int64 // how far the clock is ahead
}

func open(t *testing.T, kind string, idle time.Duration) *desk {
	d := &desk{T: t, kind: kindOf(kind), folder: filepath.Join(t.TempDir(), "data")}
	d.start(idle)
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	return d
}

func (d *desk) start(idle time.Duration) {
	r, err := d.kind.Start(
		d.Context(),
		standin.Options{Data: d.folder, Places: d.kind.Places, Idle: idle, Quick: true,
			Now: func() time.Time { return time.Now().Add(time.Duration(d.ahead.Load())) }},
		"127.0.0.1:0",
		false,
	)
	require.NoError(d, err)
	d.Running = r
	text, err := os.ReadFile(filepath.Join(d.folder, standin.Keeper))
	require.NoError(d, err)
	d.keeper = strings.TrimSpace(string(text))
}

// client is one for HTTP, which trusts the stand-in.
func (d *desk) client() *http.Client {
	pool := x509.NewCertPool()
	if text, err := os.ReadFile(filepath.Join(d.folder, web.AuthorityFile)); err == nil {
		pool.AppendCertsFromPEM(text)
	}
	config := &tls.Config{RootCAs: pool}
	if text, err := os.ReadFile(filepath.Join(d.folder, "keeper.pem")); err == nil {
		pair, err := tls.X509KeyPair(text, text)
		require.NoError(d, err)
		config.Certificates = []tls.Certificate{pair}
	}
	return &http.Client{Transport: &http.Transport{TLSClientConfig: config}, Timeout: time.Minute}
}

// send sends a request, and gives the status and what was said.
func (d *desk) send(method, path, token string, body any) (int, web.Reply) {
	text, ok := body.([]byte)
	if !ok {
		var err error
		text, err = json.Marshal(body)
		require.NoError(d, err)
	}
	r, err := http.NewRequestWithContext(d.Context(), method, d.kind.scheme+"://"+d.At+path, bytes.NewReader(text))
	require.NoError(d, err)
	if token != "" {
		r.Header.Set("Authorization", token)
	}
	c := d.client()
	defer c.CloseIdleConnections()
	answer, err := c.Do(r)
	if err != nil { // it hung up while more was coming
		return 0, web.Reply{}
	}
	defer answer.Body.Close()
	out, err := io.ReadAll(answer.Body)
	require.NoError(d, err)
	var reply web.Reply
	if answer.StatusCode != http.StatusOK || path != "/settings" {
		_ = json.Unmarshal(out, &reply) // what is no reply is empty
	} else if method == http.MethodGet {
		reply.Said = []string{string(out)}
	}
	return answer.StatusCode, reply
}

func (d *desk) signIn(account, password, role, code string) (string, web.Reply) {
	_, reply := d.send(
		"POST",
		"/sign-in",
		"",
		web.SigningIn{Account: account, Password: password, Role: role, Code: code},
	)
	return "Bearer " + reply.Token, reply
}

// do sends a line, and gives what was said.
func (d *desk) do(token, line string) (bool, string) {
	_, reply := d.send("POST", "/do", token, map[string]string{"line": line})
	return reply.Done, strings.Join(reply.Said, " ")
}

// asKeeper gives what the keeper of a stand-in over HTTP sends along.
func (d *desk) asKeeper() string {
	switch d.kind.Name {
	case "cluster":
		return ""
	case "cloud":
		text, err := os.ReadFile(d.SecretFile)
		require.NoError(d, err)
		return "Key keeper/" + strings.TrimSpace(string(text))
	}
	token, reply := d.signIn(standin.Keeper, d.keeper, "", "")
	require.True(d, reply.Done, reply.Said)
	return token
}

// settle puts accounts in place, each with "the first of NAME" as its first password where it has none.
func (d *desk) settle(settings string, first ...string) {
	token := d.asKeeper()
	_, reply := d.send("GET", "/settings", token, nil)
	var is struct{ Revision string }
	require.NoError(d, json.Unmarshal([]byte(reply.Said[0]), &is), reply.Said)
	passwords := map[string]string{}
	for _, account := range first {
		passwords[account] = "the first of " + account
	}
	status, reply := d.send("PUT", "/settings", token, map[string]any{"was": is.Revision, "first": passwords,
		"settings": json.RawMessage(settings)})
	require.Equal(d, http.StatusOK, status, reply.Said)
}

// owned has an account choose "the own of NAME" as its password.
func (d *desk) owned(account string) {
	token, reply := d.signIn(account, "the first of "+account, "", "")
	require.True(d, reply.Done, reply.Said)
	status, reply := d.send("POST", "/password", token, map[string]string{"new": "the own of " + account})
	require.Equal(d, http.StatusOK, status, reply.Said)
}

func (d *desk) ssh(account, secret string) (*ssh.Client, error) {
	return sshreach.Dial(d.Context(), sshreach.Address{User: account, Host: d.At,
		Known: filepath.Join(d.folder, network.KnownHosts)}, secret)
}

// say sends the network console one command.
func (d *desk) say(c *ssh.Client, line, body string) (string, error) {
	s, err := c.NewSession()
	if err != nil {
		return "", err
	}
	defer s.Close()
	s.Stdin = strings.NewReader(body)
	out, err := s.Output(line)
	return strings.TrimSpace(string(out)), err
}

const twoAccounts = `{"accounts": {"keeper": {"keeper": true},
  "noor": {"permits": {"mount": ["take-control", "see-live", "set-position"]}, "ranks": {"mount": 2}},
  "sela": {"permits": {"mount": ["take-control", "see-live"]}, "ranks": {"mount": 1}},
  "pia": {"permits": {"mount": ["take-control"]}}, "joao": {"permits": {"mount": ["take-control"]}}}}`

// One alone has the control of a device; whoever comes first in the precedence takes it over, and on a tie it stays.
func TestTheControlOfADeviceIsOnes(t *testing.T) {
	d := open(t, "device", time.Minute)
	d.settle(twoAccounts, "noor", "sela", "pia", "joao")
	token := map[string]string{}
	for _, account := range []string{"noor", "sela", "pia", "joao"} {
		d.owned(account)
		token[account], _ = d.signIn(account, "the own of "+account, "", "")
	}
	for _, one := range []struct {
		account, line string
		done          bool
		said          string
	}{
		{"noor", "go to at mount: the zenith", true, "Done."},
		{"pia", "take control at mount", true, "You have the control."},
		{"joao", "take control at mount", false, "pia has the control and keeps it: you stand alike."},
		{"noor", "go to at mount: the west", false, "pia has the control."},
		{"noor", "take control at mount", true, "You have the control: you come before pia, who had it."},
		{"pia", "take control at mount", false, "noor has the control and comes before you."},
		{"noor", "go to at mount: the west", true, "Done."},
		{"sela", "take control at mount", true, "You have the control: you come before noor, who had it."},
		{"noor", "see live at mount", true, "sela has the control."},
		{"pia", "see live at mount", false, "You may not: at mount it needs see-live."},
		{"noor", "leave control at mount", false, "you do not have the control."},
		{"sela", "leave control at mount", true, "You have left the control."},
		{"noor", "see live at mount", true, "It points to the west"},
		{"noor", "see live at .", false, "You have no place"},
		{"sela", "take control at mount", true, "You have the control."},
	} {
		done, said := d.do(token[one.account], one.line)
		assert.Equal(t, one.done, done, "%s: %s: %s", one.account, one.line, said)
		assert.Contains(t, said, one.said, "%s: %s", one.account, one.line)
	}
	d.settle(strings.Replace(twoAccounts, `"sela": {`, `"sela": {"locked": true, `, 1))
	_, said := d.do(token["noor"], "see live at mount")
	assert.Contains(t, said, "nobody has the control") // whoever had it may no more
}

const editors = `{"accounts": {"keeper": {"keeper": true}, "noor": {"roles": ["editor", "checker"]},
  "sela": {"roles": ["editor"], "second-factor": true}, "joao": {"roles": ["billing"]}, "pia": {}},
  "everybody": {".": ["see-areas"]},
  "roles": {"editor": {"permits": {"*": ["read-content", "hand-in"]}},
    "checker": {"permits": {"*": ["decide", "publish"]}},
    "billing": {"permits": {".": ["see-bills", "pay-bills"]}}}}`

// An application knows whoever signs in by one of their roles, and lets content pass through its stages alone.
func TestAnApplicationHasOneRoleForASession(t *testing.T) {
	d := open(t, "application", time.Minute)
	d.settle(editors, "noor", "sela", "joao", "pia")
	for _, account := range []string{"noor", "sela", "joao", "pia"} {
		d.owned(account)
	}
	_, reply := d.signIn("noor", "the own of noor", "", "")
	assert.Equal(t, []string{"Choose one of your roles: checker, editor."}, reply.Said)
	_, reply = d.signIn("noor", "the own of noor", "billing", "")
	assert.False(t, reply.Done)
	edits, _ := d.signIn("noor", "the own of noor", "editor", "")
	checks, _ := d.signIn("noor", "the own of noor", "checker", "")
	pays, _ := d.signIn("joao", "the own of joao", "", "")
	looks, _ := d.signIn("pia", "the own of pia", "", "")
	for _, one := range []struct {
		token, line string
		done        bool
		said        string
	}{
		{checks, "publish at cycle-9/dark-halo", false, "it is at work, not accepted."},
		{checks, "hand in at cycle-9/dark-halo", false, "it needs hand-in"},
		{edits, "hand in at cycle-9/dark-halo", true, "It is handed in now."},
		{edits, "accept at cycle-9/dark-halo", false, "it needs decide"},
		{checks, "accept at cycle-9/dark-halo", true, "It is accepted now."},
		{checks, "publish at cycle-9/dark-halo", true, "It is published now."},
		{pays, "see bills at .", true, "There are none."},
		{pays, "read content at cycle-9", false, "You have no place"},
		{looks, "see area at .", true, "There are none."},
		{looks, "see bills at .", false, "You may not"},
	} {
		done, said := d.do(one.token, one.line)
		assert.Equal(t, one.done, done, "%s: %s", one.line, said)
		assert.Contains(t, said, one.said, one.line)
	}
	d.settle(strings.Replace(editors, `"roles": ["editor", "checker"]`, `"roles": ["checker"]`, 1))
	done, said := d.do(edits, "read content at cycle-9")
	assert.False(t, done, said) // the role is no more theirs
	_, reply = d.signIn("sela", "the own of sela", "", "")
	assert.Contains(t, reply.Said[0], "no second factor yet")
	_, reply = d.send("POST", "/second-factor", "", web.SigningIn{Account: "sela", Password: "the own of sela"})
	require.True(t, reply.Done, reply.Said)
	secret := strings.TrimSuffix(strings.Fields(reply.Said[0])[7], ".")
	_, reply = d.signIn("sela", "the own of sela", "", "")
	assert.Equal(t, []string{"The code of the second factor is missing or wrong."}, reply.Said)
	_, reply = d.signIn("sela", "the own of sela", "", application.Code(secret, time.Now()))
	assert.True(t, reply.Done, reply.Said)
	status, _ := d.send("POST", "/second-factor", "", web.SigningIn{Account: "sela", Password: "the own of sela"})
	assert.Equal(t, http.StatusForbidden, status)
}

// The codes of RFC 6238, appendix B, in their last six digits.
func TestTheCodesAreThoseOfTheStandard(t *testing.T) {
	const secret = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"
	for at, code := range map[int64]string{59: "287082", 1111111109: "081804",
		1234567890: "005924", 20000000000: "353130"} {
		assert.Equal(t, code, application.Code(secret, time.Unix(at, 0)))
	}
}

// Whoever sends nothing for long is signed out, and whose account ends while they are signed in is out at once.
func TestASessionEndsByItself(t *testing.T) {
	d := open(t, "device", 2*time.Second)
	d.settle(strings.Replace(twoAccounts, `"sela": {`, `"sela": {"ends": "`+
		time.Now().Add(time.Hour).UTC().Format(time.RFC3339)+`", `, 1), "noor", "sela")
	d.owned("noor")
	d.owned("sela")
	token, _ := d.signIn("noor", "the own of noor", "", "")
	d.ahead.Store(int64(2500 * time.Millisecond))
	_, said := d.do(token, "see live at mount")
	assert.Equal(t, "You were signed out: nothing came for 2s.", said)
	token, _ = d.signIn("sela", "the own of sela", "", "")
	d.ahead.Store(int64(2 * time.Hour))
	_, said = d.do(token, "see live at mount")
	assert.Equal(t, "Your account is closed, and you are signed out.", said)
	_, said = d.do(token, "see live at mount")
	assert.Equal(t, "Sign in first.", said)
	_, reply := d.signIn("sela", "the own of sela", "", "")
	assert.False(t, reply.Done)

	n := open(t, "network", 2*time.Second)
	c, err := n.ssh(standin.Keeper, n.keeper)
	require.NoError(t, err)
	defer c.Close()
	s, err := c.NewSession()
	require.NoError(t, err)
	in, err := s.StdinPipe()
	require.NoError(t, err)
	out, err := s.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, s.Shell())
	_, err = io.WriteString(in, "whoami\n")
	require.NoError(t, err)
	text, err := io.ReadAll(out)
	require.NoError(t, err)
	assert.Contains(t, string(text), "You are keeper.")
	assert.Contains(t, string(text), "You were signed out: nothing came for 2s.")
}

// Wrong passwords make the next answers slower, and then close the account to passwords for a while; many at once are
// no way round.
func TestWrongPasswordsAreSlowedDown(t *testing.T) {
	for _, kind := range []string{"device", "network"} {
		d := open(t, kind, time.Minute)
		try := func(password string) bool {
			if kind == "network" {
				c, err := d.ssh(standin.Keeper, password)
				if err == nil {
					c.Close()
				}
				return err == nil
			}
			_, reply := d.signIn(standin.Keeper, password, "", "")
			return reply.Done
		}
		var all sync.WaitGroup
		for range 10 {
			all.Go(func() { assert.False(t, try("none of the passwords")) })
		}
		all.Wait()
		assert.False(t, try(d.keeper), "%s: the right one is taken after too many wrong ones", kind)
		d.ahead.Store(int64(2 * time.Minute))
		assert.True(t, try(d.keeper), kind)
	}
}

// What would leave its place, hide, or is too much is refused, and changes nothing.
func TestWhatIsHostileIsRefused(t *testing.T) {
	for _, k := range Kinds {
		if k.scheme == "ssh" {
			continue
		}
		d := open(t, k.Name, time.Minute)
		token := d.asKeeper()
		_, before := d.send("GET", "/settings", token, nil)
		var is struct{ Revision string }
		require.NoError(t, json.Unmarshal([]byte(before.Said[0]), &is))
		for _, settings := range []string{
			`null`, `{}`, `{"accounts": null}`, `{"accounts": {"keeper": null}}`, `[]`,
			`{"accounts": {"keeper": {"keeper": true}, "../../etc/x": {}}}`, `{"accounts": {"keeper": {"keeper": true},
				"a/b": {}}}`,
			`{"accounts": {"keeper": {"keeper": true}, "a\nb": {}}}`, `{"accounts": {"keeper": {"keeper": true}, "": {}}}`,
			`{"accounts": {"keeper": {"keeper": true, "locked": true}}}`, `{"accounts": {"keeper": {"keeper": true}},
				"more": 1}`,
			`{"accounts": {"keeper": {"keeper": true}}, "everybody": {"../x": []}}`,
			`{"accounts": {"keeper": {"keeper": true}}, "everybody": {".": ["everything"]}}`,
			`{"accounts": {"keeper": {"keeper": true}}} {}`,
			`{"accounts": {"keeper": {"keeper": true}}, "teams": {"t": null}, "roles": {"t": null}}`,
		} {
			body := fmt.Sprintf(`{"was": %q, "settings": %s}`, is.Revision, settings)
			status, _ := d.send("PUT", "/settings", token, []byte(body))
			assert.Equal(t, http.StatusBadRequest, status, "%s: %s", k.Name, settings)
		}
		for _, line := range []string{"see area at ../../state.json", "manage accounts at /etc/passwd", "manage accounts at",
			`manage accounts at "`, "manage accounts at .\x00", "", strings.Repeat("manage ", 5000)} {
			done, said := d.do(token, line)
			assert.False(t, done, "%s: %.40s: %s", k.Name, line, said)
		}
		for _, path := range []string{"/../state.json", "/%2e%2e/state.json", "/keeper", "//keeper", "/state.json"} {
			status, _ := d.send("GET", path, token, nil)
			assert.NotEqual(t, http.StatusOK, status, path)
		}
		big := append(bytes.Repeat([]byte(" "), 40<<20), `{}`...)
		for _, path := range []string{"/sign-in", "/do", "/rehearse"} {
			status, _ := d.send("POST", path, token, big)
			assert.NotEqual(t, http.StatusOK, status)
		}
		_, after := d.send("GET", "/settings", d.asKeeper(), nil)
		assert.Equal(t, before.Said, after.Said)
	}
	d := open(t, "network", time.Minute)
	c, err := d.ssh(standin.Keeper, d.keeper)
	require.NoError(t, err)
	defer c.Close()
	before, err := d.say(c, "settings", "")
	require.NoError(t, err)
	for line, body := range map[string]string{"replace settings": strings.Repeat(" ", 40<<20), "rehearse": "{",
		"see routes at ../../etc/passwd": "", "see routes at \x1b[2J": "", strings.Repeat("x", 100_000): ""} {
		said, err := d.say(c, line, body)
		assert.Error(t, err, "%.40s: %s", line, said)
		assert.NotContains(t, said, "\x1b")
	}
	after, err := d.say(c, "settings", "")
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

// A hundred connections that say nothing keep nobody out, and 200 people at once are served.
func TestManyClientsAreServedAtOnce(t *testing.T) {
	for _, k := range Kinds {
		d := open(t, k.Name, time.Minute)
		for range 100 {
			c, err := net.Dial("tcp", d.At)
			require.NoError(t, err)
			defer c.Close()
		}
		token := ""
		if k.scheme != "ssh" {
			token = d.asKeeper()
		}
		var all sync.WaitGroup
		var served atomic.Int64
		for range 200 {
			all.Go(func() {
				if k.scheme == "ssh" {
					c, err := d.ssh(standin.Keeper, d.keeper)
					if !assert.NoError(t, err) {
						return
					}
					defer c.Close()
					if said, err := d.say(c, "whoami", ""); assert.NoError(t, err) &&
						strings.Contains(said, "You are keeper.") {
						served.Add(1)
					}
					return
				}
				if status, reply := d.send("GET", "/whoami", token, nil); status == http.StatusOK && reply.Done {
					served.Add(1)
				}
			})
		}
		all.Wait()
		assert.EqualValues(t, 200, served.Load(), k.Name)
	}
}

// A stand-in listens on this machine alone unless it is told otherwise, says what it is, and keeps others out of its
// folder.
func TestAStandInKeepsToItself(t *testing.T) {
	for _, k := range Kinds {
		how := standin.Options{
			Data:   filepath.Join(t.TempDir(), "data"),
			Places: k.Places,
			Idle:   time.Minute,
			Now:    time.Now,
			Quick:  true,
		}
		for _, listen := range []string{"0.0.0.0:0", "[::]:0", ":0", "192.0.2.1:0"} {
			_, err := k.Start(t.Context(), how, listen, false)
			require.ErrorIs(t, err, standin.ErrNotHere)
		}
		r, err := k.Start(t.Context(), how, "0.0.0.0:0", true)
		require.NoError(t, err)
		_, err = k.Start(t.Context(), how, "127.0.0.1:0", false)
		require.ErrorContains(t, err, "another stand-in runs")
		require.NoError(t, r.Close())
		assert.NoError(t, <-r.Done())
		files, err := os.ReadDir(how.Data)
		require.NoError(t, err)
		for _, f := range files {
			info, err := f.Info()
			require.NoError(t, err)
			if f.Name() != "lock" {
				assert.Zero(t, info.Mode().Perm()&0o077, f.Name())
			}
		}
	}
	d := open(t, "device", time.Minute)
	answer, err := http.Get("http://" + d.At + "/")
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.Contains(t, string(text), standin.Said)
	assert.NotContains(t, string(text), "<")
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+d.At+"/", http.NoBody)
	require.NoError(t, err)
	r.Header.Set("Accept", "text/html,*/*")
	shown, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer shown.Body.Close()
	text, err = io.ReadAll(shown.Body)
	require.NoError(t, err)
	assert.Contains(t, string(text), "<p class=\"said\">"+standin.Said)
	assert.Contains(t, shown.Header.Get("Content-Security-Policy"), "default-src 'none'; script-src 'self'")
}

// What is told outlives the stand-in, and what was first is not made again.
func TestTheStateIsThereAgain(t *testing.T) {
	d := open(t, "device", time.Minute)
	d.settle(twoAccounts, "noor")
	d.owned("noor")
	token, _ := d.signIn("noor", "the own of noor", "", "")
	done, _ := d.do(token, "go to at mount: the south")
	require.True(t, done)
	require.NoError(t, d.Close())
	<-d.Done()
	d.start(time.Minute)
	token, reply := d.signIn("noor", "the own of noor", "", "")
	require.True(t, reply.Done)
	_, said := d.do(token, "see live at mount")
	assert.Contains(t, said, "It points to the south")
}

// The stand-ins decide without anything that the policy's own decisions are made of, and each is small.
func TestStandInsShareNothingWithTheGate(t *testing.T) {
	out, err := exec.CommandContext(context.Background(), "go", "list", "-deps", "hiddengate/internal/standin/...").
		Output()
	require.NoError(t, err)
	for _, name := range strings.Fields(string(out)) {
		if strings.HasPrefix(name, "hiddengate/") {
			assert.True(t, strings.HasPrefix(name, "hiddengate/internal/standin"), name)
		}
	}
	for _, k := range Kinds {
		files, err := filepath.Glob(filepath.Join("..", k.Name, "*.go"))
		require.NoError(t, err)
		require.NotEmpty(t, files)
		lines := 0
		for _, f := range files {
			if !strings.HasSuffix(f, "_test.go") {
				text, err := os.ReadFile(f)
				require.NoError(t, err)
				lines += bytes.Count(text, []byte("\n"))
			}
		}
		assert.Less(t, lines, 900, k.Name)
	}
}
