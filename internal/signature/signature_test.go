//go:build unix

package signature_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"hiddengate/internal/signature"
)

func pair(t *testing.T) (ed25519.PrivateKey, string) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	public, err := ssh.NewPublicKey(private.Public())
	require.NoError(t, err)
	return private, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public))) + " ana"
}

func inFile(t *testing.T, private ed25519.PrivateKey, passphrase string) string {
	block, err := ssh.MarshalPrivateKey(private, "")
	if passphrase != "" {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte(passphrase))
	}
	require.NoError(t, err)
	name := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(name, pem.EncodeToMemory(block), 0o600))
	return name
}

func never() ([]byte, error) { return nil, errors.New("nobody is asked") }

func TestASignatureIsOfOneTextByOneKey(t *testing.T) {
	private, public := pair(t)
	_, other := pair(t)
	key, err := signature.FromFile(inFile(t, private, ""), []string{other, public}, never)
	require.NoError(t, err)
	signed, err := signature.Sign(key, []byte("approved"))
	require.NoError(t, err)
	by, err := signature.Check([]string{other, public}, []byte("approved"), signed)
	require.NoError(t, err)
	assert.Equal(t, public, by)
	for _, c := range []struct {
		keys            []string
		text, signature string
	}{
		{[]string{public}, "refused", signed}, {[]string{other}, "approved", signed}, {nil, "approved", signed},
		{[]string{public}, "approved", ""}, {[]string{public}, "approved", strings.Replace(signed, "A", "B", 1)},
		{[]string{public}, "approved", "-----BEGIN SSH SIGNATURE-----\n-----END SSH SIGNATURE-----\n"},
	} {
		_, err := signature.Check(c.keys, []byte(c.text), c.signature)
		assert.Error(t, err, "%v", c)
	}
}

func TestAKeyThatOthersCanReadIsNotTaken(t *testing.T) {
	private, public := pair(t)
	name := inFile(t, private, "")
	require.NoError(t, os.Chmod(name, 0o644))
	_, err := signature.FromFile(name, []string{public}, never)
	require.ErrorContains(t, err, "chmod 600")
}

func TestALockedKeyNeedsItsPassphrase(t *testing.T) {
	private, public := pair(t)
	name := inFile(t, private, "storm")
	_, err := signature.FromFile(name, []string{public}, never)
	require.EqualError(t, err, "nobody is asked")
	_, err = signature.FromFile(name, []string{public}, func() ([]byte, error) { return []byte("calm"), nil })
	require.ErrorContains(t, err, "its passphrase is another")
	assert.NotContains(t, err.Error(), "calm")
	_, err = signature.FromFile(name, []string{public}, func() ([]byte, error) { return []byte("storm"), nil })
	require.NoError(t, err)
}

func TestAnAgentSignsWithAListedKey(t *testing.T) {
	private, public := pair(t)
	_, other := pair(t)
	ring := agent.NewKeyring()
	require.NoError(t, ring.Add(agent.AddedKey{PrivateKey: private}))
	folder, err := os.MkdirTemp("", "a") // a socket's path is short
	require.NoError(t, err)
	defer os.RemoveAll(folder)
	socket := filepath.Join(folder, "s")
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { _ = agent.ServeAgent(ring, conn) }()
		}
	}()
	key, err := signature.FromAgent(socket, []string{other, public})
	require.NoError(t, err)
	defer key.Close()
	signed, err := signature.Sign(key, []byte("approved"))
	require.NoError(t, err)
	_, err = signature.Check([]string{public}, []byte("approved"), signed)
	require.NoError(t, err)
	_, err = signature.FromAgent(socket, []string{other})
	require.ErrorIs(t, err, signature.ErrNone)
	_, err = signature.FromAgent("", []string{public})
	require.ErrorIs(t, err, signature.ErrNone)
	_, err = signature.FromAgent(filepath.Join(folder, "none"), []string{public})
	require.ErrorContains(t, err, "cannot be reached")
}
