package starter

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Keyed are the people of the demo who sign what they do.
var Keyed = []string{"ines.okafor", "marek.dvorin", "vera.stahl"}

// KeysFolder is where the demo keeps their private keys. No file of it is read as policy.
const KeysFolder = ".keys"

// key is somebody's key in the demo. It follows from the name, so that anybody can make it: it protects nothing.
func key(id string) ed25519.PrivateKey {
	seed := sha256.Sum256([]byte("ternhollow observatory: " + id))
	return ed25519.NewKeyFromSeed(seed[:])
}

// PublicKey is somebody's public key in the demo, as its files list it.
func PublicKey(id string) (string, error) {
	public, err := ssh.NewPublicKey(key(id).Public())
	if err != nil {
		return "", err
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public))) + " " + id, nil
}

// WriteKeys puts the private keys of the demo's people into its folder.
func WriteKeys(dir string) error {
	folder := filepath.Join(dir, KeysFolder)
	if err := os.Mkdir(folder, 0o700); err != nil {
		return err
	}
	for _, id := range Keyed {
		block, err := ssh.MarshalPrivateKey(key(id), id)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, id), pem.EncodeToMemory(block), 0o600); err != nil {
			return err
		}
	}
	return nil
}
