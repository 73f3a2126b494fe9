//go:build unix

package main

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/standin/web"
)

// cluster is the built program as a stand-in for the demo's cluster, which trusts the demo's authority.
type cluster struct {
	*console
	home string // where people keep what is theirs
}

func newCluster(t *testing.T) *cluster {
	dir := t.TempDir()
	c := &cluster{&console{observatory: &observatory{t: t, dir: filepath.Join(dir, "demo")}}, filepath.Join(dir, "home")}
	writeDemo(t, c.dir)
	require.NoError(t, os.Mkdir(c.home, 0o700))
	c.folder = filepath.Join(c.home, "reduce")
	return c
}

func (c *cluster) start() {
	c.serve("cluster", "--listen", c.at.At, "--like", "reduce", "--data", c.folder,
		"--trust", filepath.Join(c.home, "base-ca.pem"), "--revoked", filepath.Join(c.home, "revoked.pem"))
}

// as sends a line with a certificate.
func (c *cluster) as(certificate, key, line string) (said string, err error) {
	pair, err := tls.LoadX509KeyPair(filepath.Join(c.home, certificate), filepath.Join(c.home, key))
	require.NoError(c.t, err)
	pool := x509.NewCertPool()
	text, err := os.ReadFile(filepath.Join(c.folder, web.AuthorityFile))
	require.NoError(c.t, err)
	require.True(c.t, pool.AppendCertsFromPEM(text))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool,
		Certificates: []tls.Certificate{pair}}}}
	defer client.CloseIdleConnections()
	body, err := json.Marshal(map[string]string{"line": line})
	require.NoError(c.t, err)
	answer, err := client.Post("https://"+c.at.At+"/do", "application/json", bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	var reply web.Reply
	err = json.NewDecoder(answer.Body).Decode(&reply)
	return strings.Join(reply.Said, "\n"), err
}

// The guide's chapter on certificates runs as it stands: a person signs in with a certificate, does what they may and
// nothing else, and is refused once it is revoked.
func TestTheChapterOnCertificatesRuns(t *testing.T) {
	c := newCluster(t)
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c.at.At = free.Addr().String()
	free.Close()
	served, signedIn := false, false
	c.chapter("\n## Issue a certificate", func(block string) {
		kind, text, _ := strings.Cut(block, "\n")
		switch {
		case kind == "sh" && !served:
			require.Contains(t, text, "hgate stand-in cluster")
			c.start()
			served = true
		case kind == "text":
			for _, one := range strings.Split(strings.TrimPrefix(text, "marek.dvorin> "), "\nmarek.dvorin> ") {
				line, want, _ := strings.Cut(strings.TrimSpace(one), "\n")
				said, err := c.as("marek.pem", "marek.key", line)
				require.NoError(t, err, line)
				assert.Contains(t, said, want, line)
			}
			signedIn = true
		}
	}, "/home/gate", c.home, "127.0.0.1:7401", c.at.At)
	assert.True(t, signedIn)
	_, err = c.as("marek.pem", "marek.key", "restart at nightly")
	assert.Error(t, err, "it is revoked")
	c.secretsStay()
}

// secretsStay sees that no private key that was made stands in the policy, the log or the settings.
func (c *cluster) secretsStay() {
	var secrets []string
	for _, name := range []string{"marek.key", "marek"} {
		info, err := os.Stat(filepath.Join(c.home, name))
		require.NoError(c.t, err)
		assert.Equal(c.t, os.FileMode(0o600), info.Mode().Perm(), name)
		text, err := os.ReadFile(filepath.Join(c.home, name))
		require.NoError(c.t, err)
		lines := strings.Split(strings.TrimSpace(string(text)), "\n")
		secrets = append(secrets, lines[min(3, len(lines)-2)]) // of OpenSSH's form the first lines are the same
	}
	looked := 0
	require.NoError(c.t, filepath.WalkDir(filepath.Dir(c.dir), func(path string, d os.DirEntry, err error) error {
		if bundle := filepath.Join(c.home, "for-marek"); err == nil && strings.HasPrefix(path, bundle) {
			info, err := d.Info()
			require.NoError(c.t, err)
			assert.Zero(c.t, info.Mode().Perm()&0o077, path)
			return nil
		}
		if err != nil || d.IsDir() || filepath.Dir(path) == c.home && strings.HasPrefix(d.Name(), "marek") {
			return err
		}
		text, err := os.ReadFile(path)
		looked++
		for _, s := range secrets {
			assert.NotContains(c.t, string(text), s, path)
		}
		return err
	}))
	assert.Greater(c.t, looked, 15)
	for _, s := range secrets {
		assert.NotContains(c.t, c.logged(), s)
	}
}
