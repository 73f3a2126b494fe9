package signature

import (
	"errors"
	"fmt"
	"io"
	"net"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"hiddengate/internal/private"
)

// Found is a key that can sign, and what closes the way to it.
type Found struct {
	ssh.Signer
	Line string // the public key, as the policy lists it
	io.Closer
}

// nothing is what closes a key that was read from a file.
type nothing struct{}

func (nothing) Close() error { return nil }

// ErrNone says that no key at hand is one of those that are wanted.
var ErrNone = errors.New("none of the keys at hand is one that the policy lists")

// maxKey bounds the size of a file with a private key, in bytes.
const maxKey = 1 << 16

// FromFile reads a private key from a file that nobody else may read. passphrase is asked for where the key has one.
func FromFile(name string, keys []string, passphrase func() ([]byte, error)) (*Found, error) {
	text, err := private.ReadFile(name, maxKey)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(text)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		phrase, wrong := passphrase()
		if wrong != nil {
			return nil, wrong
		}
		signer, err = ssh.ParsePrivateKeyWithPassphrase(text, phrase)
	}
	if err != nil {
		return nil, fmt.Errorf("%s holds no private SSH key that can be read, or its passphrase is another", name)
	}
	for _, line := range keys {
		if Same(line, signer.PublicKey()) {
			return &Found{signer, line, nothing{}}, nil
		}
	}
	return nil, fmt.Errorf("the key in %s is not among the `keys` that the policy lists for who acts", name)
}

// FromAgent finds one of some public keys in the agent that listens at a socket ("" for none).
func FromAgent(socket string, keys []string) (*Found, error) {
	if socket == "" || len(keys) == 0 {
		return nil, ErrNone
	}
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return nil, fmt.Errorf("the SSH agent cannot be reached: %w", err)
	}
	signers, err := agent.NewClient(conn).Signers()
	if err != nil {
		conn.Close()
		return nil, fmt.Errorf("the SSH agent does not tell its keys: %w", err)
	}
	for _, line := range keys {
		for _, s := range signers {
			if Same(line, s.PublicKey()) {
				return &Found{s, line, conn}, nil
			}
		}
	}
	conn.Close()
	return nil, ErrNone
}
