// Package signature signs statements and checks signatures in the SSH signature format, which ssh-keygen -Y reads and
// writes (OpenSSH, PROTOCOL.sshsig).
package signature

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"
)

// Namespace is the domain of all signatures of the program: what is signed for it counts for nothing else.
const Namespace = "hgate"

// Sign signs a text with a key, and gives the signature in its armor.
func Sign(key ssh.Signer, text []byte) (string, error) {
	sig, err := sshsig.Sign(bytes.NewReader(text), key, sshsig.HashSHA512, Namespace)
	if err != nil {
		return "", fmt.Errorf("the key could not sign: %w", err)
	}
	return string(sshsig.Armor(sig)), nil
}

// ErrKey says that none of the keys made a signature.
var ErrKey = errors.New("it was not made by a key that the policy lists")

// Check sees that one of some public keys, as OpenSSH writes them, made a signature of a text. It gives that key.
func Check(keys []string, text []byte, signature string) (string, error) {
	sig, err := sshsig.Unarmor([]byte(signature))
	if err != nil {
		return "", errors.New("it is no signature")
	}
	for _, line := range keys {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if err != nil || !bytes.Equal(key.Marshal(), sig.PublicKey.Marshal()) {
			continue
		}
		if sshsig.Verify(bytes.NewReader(text), sig, key, sig.HashAlgorithm, Namespace) != nil {
			return "", errors.New("it is a signature of something else")
		}
		return line, nil
	}
	return "", ErrKey
}

// Fingerprint names a public key shortly, as ssh-keygen -l does, with its comment.
func Fingerprint(line string) string {
	key, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(ssh.FingerprintSHA256(key) + " " + comment)
}

// Same says whether two lines name the same public key, whatever their comments.
func Same(line string, key ssh.PublicKey) bool {
	other, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	return err == nil && bytes.Equal(other.Marshal(), key.Marshal())
}
