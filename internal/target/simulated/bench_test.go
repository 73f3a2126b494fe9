package simulated

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/servers"
	"hiddengate/internal/standin"
	"hiddengate/internal/standin/starting"
	"hiddengate/internal/standin/web"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// trial is what the tests of a kind have.
type trial struct {
	*kind
	places []standin.Place // the last is in no inventory
}

func places(pairs ...string) (out []standin.Place) {
	for i := 0; i < len(pairs); i += 2 {
		out = append(out, standin.Place{Path: pairs[i], Type: pairs[i+1]})
	}
	return out
}

var trials = map[string]*trial{
	"cloud": {
		cloudKind,
		places("storage", "area", "archive", "area", "storage/raw", "store", "storage/raw/first frame", "item", "machines/m1",
			"machine", "images/i", "image", "nets/n", "network", "keys/k", "key", "secrets/s", "secret", "alerts/a", "alert",
			"stores", "area"),
	},
	"cluster": {
		clusterKind,
		places("nightly", "space", "nightly/calibrate", "workload", "survey", "space", "m/one", "machine",
			"survey/s:1", "secret", "surveys", "space"),
	},
	"network": {networkKind, places("summit", "site", "summit/switch 1", "device", "summit/switch 1/port:7", "interface",
		"base", "site", "zones/ridge", "zone", "zones/ridge/mast", "record", "base/pool", "pool", "base/pool/seat",
		"reservation", "basement", "site")},
	"device": {
		deviceKind,
		places("mount", "part", "mount/drive", "part", "eye", "part", "eyes", "part"),
	},
	"application": {applicationKind, places("cycle-9", "area", "cycle-8", "area",
		"cycle-9/dark halo", "item", "reports/r", "report",
		"connections/c", "connection", "cycle-90", "area")},
}

// bench is a stand-in with policies for it.
type bench struct {
	*targettest.Bench
	*trial
	run    *starting.Running
	system *system
	keys   map[string]string
	public map[string]string
	own    map[string]string // the passwords that accounts chose
}

// people of the random policies; those of the first have accounts with names of their own.
const people = 7

func newBench(t testing.TB, of *trial) *bench {
	b := &bench{trial: of, keys: map[string]string{}, public: map[string]string{}, own: map[string]string{}}
	b.start(t)
	secret, err := os.ReadFile(b.run.SecretFile)
	require.NoError(t, err)
	b.system, err = b.reach(t, standin.Keeper, string(secret))
	require.NoError(t, err)
	b.Bench = targettest.New(t, "real", &Named(of.name).Carries, b.system)
	for i := range people {
		id := fmt.Sprintf("p%d", i)
		b.keys[id], b.public[id] = servers.NewKey(t)
	}
	return b
}

// start starts a stand-in that lives as long as the test, at the moment of the tests.
func (b *bench) start(t testing.TB) {
	n := slices.IndexFunc(starting.Kinds, func(k *starting.Kind) bool { return k.Name == b.name })
	var err error
	b.run, err = starting.Kinds[n].Start(context.Background(), standin.Options{Data: filepath.Join(t.TempDir(), "data"),
		Places: b.places, Idle: time.Minute, Quick: true, Now: func() time.Time { return targettest.At.Time() }},
		"127.0.0.1:0", false)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, b.run.Close())
		assert.NoError(t, <-b.run.Done())
	})
}

// reach reaches the stand-in as somebody.
func (b *bench) reach(t testing.TB, account, secret string) (*system, error) {
	to := target.Connection{System: "real", Secret: strings.TrimSpace(secret),
		At: strings.Replace(b.run.Address, "://"+standin.Keeper+"@", "://"+account+"@", 1)}
	s, err := Named(b.name).Connect(t.Context(), to)
	if err != nil {
		return nil, err
	}
	t.Cleanup(s.Close)
	if c := webOf(s.(*system).client); c != nil { // the moment of the tests is not the clock's
		c.http.Transport.(*http.Transport).TLSClientConfig.Time = func() time.Time { return targettest.At.Time() }
	}
	return s.(*system), nil
}

func webOf(c client) *webClient {
	switch c := c.(type) {
	case *webClient:
		return c
	case *applicationClient:
		return c.webClient
	}
	return nil
}

// change changes the settings by hand, as a keeper would.
func (b *bench) change(how func(x *standin.Access)) {
	require.NoError(b.T, ByHand(b.T.Context(), b.system, how))
}

// doer is somebody who has signed in, by each of the ways that they have.
type doer []func(line string) error

// could says whether somebody can do what a line says.
func (d doer) could(t testing.TB, line string) bool {
	return slices.ContainsFunc(d, func(do func(line string) error) bool {
		err := do(line)
		if err != nil && !strings.Contains(err.Error(), "You may not") &&
			!strings.Contains(err.Error(), "You have no place") {
			require.Contains(t, err.Error(), standin.NotNow, line) // it may, and there is nothing to do it with
			return true
		}
		return err == nil
	})
}

// signIn signs in as the person would; nobody at all if that is refused.
func (b *bench) signIn(account, person string) doer {
	t := b.T
	if b.kind.keys {
		s, err := b.reach(t, account, b.keys[person])
		if err != nil {
			return nil
		}
		return doer{func(line string) error {
			_, err := s.client.(*networkClient).say(t.Context(), line, nil)
			return err
		}}
	}
	c := *webOf(b.system.client)
	c.auth, c.user = "", account
	roles, err := b.passIn(&c, account)
	if err != nil {
		return nil
	}
	var out doer
	for _, role := range roles {
		one := c
		if c.auth == "" && b.name != "cluster" {
			if byPassword(t.Context(), &one, webAddress{user: account, role: role}, b.own[account]) != nil {
				return nil
			}
		}
		out = append(out, func(line string) error {
			text, err := json.Marshal(map[string]string{"line": line})
			require.NoError(t, err)
			var reply web.Reply
			return one.send(t.Context(), http.MethodPost, "/do", text, &reply)
		})
	}
	return out
}

// passIn has an account choose a password of its own, and gives the roles that it can choose; for a cluster it gets a
// certificate.
func (b *bench) passIn(c *webClient, account string) (roles []string, err error) {
	ctx := b.T.Context()
	if b.own[account] == "" {
		first := *c
		if err := byPassword(ctx, &first, webAddress{user: account}, b.First[account]); err != nil {
			return nil, err
		}
		b.own[account] = "what " + account + " chose"
		text, err := json.Marshal(map[string]string{"new": b.own[account]})
		require.NoError(b.T, err)
		var reply web.Reply
		require.ErrorContains(b.T, first.send(ctx, http.MethodGet, "/places", nil, &reply), "Choose your own password")
		require.NoError(b.T, first.send(ctx, http.MethodPost, "/password", text, &reply))
	}
	if b.name == "cluster" {
		return []string{""}, b.certify(c, account)
	}
	roles = []string{""}
	if b.name == "application" {
		v, err := b.system.client.read(ctx)
		require.NoError(b.T, err)
		if teams := v.Settings.TeamsOf(account); len(teams) > 0 {
			roles = teams
		}
	}
	return roles, nil
}

// certify has a certificate signed for an account: it asks, the keeper approves.
func (b *bench) certify(c *webClient, account string) error {
	ctx, t := b.T.Context(), b.T
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.CreateCertificateRequest(
		rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: account}},
		key,
	)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	ask := map[string]any{"account": account, "password": b.own[account],
		"request": string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}))}
	send := func(c *webClient, path string, body any) (string, error) {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		var reply web.Reply
		err = c.send(ctx, http.MethodPost, path, text, &reply)
		return strings.Join(reply.Said, " "), err
	}
	said, err := send(c, "/certificate-requests", ask)
	if err != nil {
		return err
	}
	var number int
	_, err = fmt.Sscanf(said, "Request %d waits", &number)
	require.NoError(t, err, said)
	_, err = send(
		webOf(b.system.client),
		"/do",
		map[string]string{"line": fmt.Sprintf("approve certificate at .: %d", number)},
	)
	require.NoError(t, err)
	signed, err := send(
		c,
		"/certificates",
		map[string]any{"account": account, "password": b.own[account], "number": number},
	)
	require.NoError(t, err)
	secret := signed + string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
	s, err := b.reach(t, account, secret)
	if err != nil {
		return err
	}
	*c = *webOf(s.client)
	return nil
}
