// Package sshreach signs in to hosts by SSH, whose keys have to be known.
package sshreach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"
)

// reachable is how long a server may take until it answers.
const reachable = 20 * time.Second

// Dial signs in to a host whose key is known. The secret is a private key or a password; without one the user's agent
// is asked.
func Dial(ctx context.Context, at Address, secret string) (*ssh.Client, error) {
	ways, done, err := waysIn(secret)
	if err != nil {
		return nil, err
	}
	defer done()
	return dial(ctx, at, ways)
}

// knownIn reads the hosts that are known, and tells from which file.
func knownIn(at Address) (check ssh.HostKeyCallback, known string, err error) {
	if known = at.Known; known == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return nil, "", err
		}
		known = filepath.Join(home, ".ssh", "known_hosts")
	}
	if check, err = knownhosts.New(known); err != nil {
		return nil, known, fmt.Errorf("the known hosts cannot be read: %w", err)
	}
	return check, known, nil
}

func dial(ctx context.Context, at Address, ways []ssh.AuthMethod) (*ssh.Client, error) {
	check, known, err := knownIn(at)
	if err != nil {
		return nil, err
	}
	conn, err := (&net.Dialer{Timeout: reachable}).DialContext(ctx, "tcp", at.Host)
	if err != nil {
		return nil, err
	}
	if err := conn.SetDeadline(time.Now().Add(reachable)); err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	config := &ssh.ClientConfig{User: at.User, Auth: ways, HostKeyCallback: check, Timeout: reachable,
		HostKeyAlgorithms: algorithms(check, at.Host, conn.RemoteAddr())}
	c, channels, requests, err := ssh.NewClientConn(conn, at.Host, config)
	if err != nil {
		conn.Close()
		return nil, unknown(err, at.Host, known)
	}
	if err := conn.SetDeadline(time.Time{}); err != nil {
		return nil, err
	}
	return ssh.NewClient(c, channels, requests), nil
}

// DialCertified signs in with a private key and its certificate, as one line of OpenSSH, to a host whose key is known.
func DialCertified(ctx context.Context, at Address, key, certificate []byte) (*ssh.Client, error) {
	signer, err := ssh.ParsePrivateKey(key)
	if err != nil {
		return nil, errors.New("the private key cannot be read")
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey(certificate)
	if err != nil {
		return nil, errors.New("the certificate cannot be read")
	}
	cert, ok := public.(*ssh.Certificate)
	if !ok {
		return nil, errors.New("the certificate is a plain key")
	}
	certified, err := ssh.NewCertSigner(cert, signer)
	if err != nil {
		return nil, errors.New("the certificate is for another key")
	}
	return dial(ctx, at, []ssh.AuthMethod{ssh.PublicKeys(certified)})
}

// Keys gives the keys by which a host is known, in the form of a file of known hosts.
func Keys(at Address) ([]byte, error) {
	check, _, err := knownIn(at)
	if err != nil {
		return nil, err
	}
	host, port, err := net.SplitHostPort(at.Host)
	if err != nil {
		return nil, err
	}
	number, err := net.LookupPort("tcp", port)
	if err != nil {
		return nil, err
	}
	var wrong *knownhosts.KeyError
	if !errors.As(check(at.Host, &net.TCPAddr{IP: net.ParseIP(host), Port: number}, unknownKey{}), &wrong) ||
		len(wrong.Want) == 0 {
		return nil, errors.New("the key of the host is not known")
	}
	var out []byte
	for _, k := range wrong.Want {
		out = append(out, knownhosts.Line([]string{at.Host}, k.Key)+"\n"...)
	}
	return out, nil
}

// waysIn gives the ways by which the user can show who they are.
func waysIn(secret string) (out []ssh.AuthMethod, done func(), err error) {
	done = func() {}
	switch {
	case strings.Contains(secret, "PRIVATE KEY-----"):
		key, err := ssh.ParsePrivateKey([]byte(secret))
		if err != nil {
			return nil, done, errors.New(
				"the secret is a private key that cannot be read, or that has a passphrase; use an agent",
			)
		}
		return []ssh.AuthMethod{ssh.PublicKeys(key)}, done, nil
	case secret != "":
		return []ssh.AuthMethod{ssh.Password(secret)}, done, nil
	case os.Getenv("SSH_AUTH_SOCK") == "":
		return nil, done, errors.New("there is neither a secret nor an agent (SSH_AUTH_SOCK): name where a private key is, " +
			"as with --secret-file")
	}
	conn, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
	if err != nil {
		return nil, done, fmt.Errorf("the agent does not answer: %w", err)
	}
	return []ssh.AuthMethod{ssh.PublicKeysCallback(agent.NewClient(conn).Signers)}, func() { conn.Close() }, nil
}

// algorithms lists those of the keys by which a host is known, so that it shows one of them.
func algorithms(check ssh.HostKeyCallback, host string, addr net.Addr) (out []string) {
	var wrong *knownhosts.KeyError
	if !errors.As(check(host, addr, unknownKey{}), &wrong) {
		return nil
	}
	for _, k := range wrong.Want {
		switch typ := k.Key.Type(); typ {
		case ssh.KeyAlgoRSA:
			out = append(out, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		default:
			out = append(out, typ)
		}
	}
	return out
}

// unknownKey is a key that no host has.
type unknownKey struct{}

func (unknownKey) Type() string                        { return "none" }
func (unknownKey) Marshal() []byte                     { return []byte("none") }
func (unknownKey) Verify([]byte, *ssh.Signature) error { return errors.New("nobody has it") }

// unknown says what is wrong with a host's key, where that is it.
func unknown(err error, host, known string) error {
	var wrong *knownhosts.KeyError
	switch {
	case !errors.As(err, &wrong):
		return err
	case len(wrong.Want) == 0:
		return fmt.Errorf("%s is in %s by no key: see by another way that its key is right, and add it", host, known)
	}
	return fmt.Errorf("%s shows another key than the one in %s:%d: do not go on before you know why", host,
		wrong.Want[0].Filename, wrong.Want[0].Line)
}
