package credential

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"software.sslmate.com/src/go-pkcs12"
)

// Bundle is what its holder is handed: what they sign in with, and how a system is reached.
type Bundle struct {
	Manifest
	Key         []byte // a private key in PEM; nil where the holder has it already
	Certificate []byte // in PEM, with those of the authorities above its own, or one line of OpenSSH
	Server      []byte // by what the server is known: certificates in PEM, or known hosts
	Config      []byte // what common clients of the system's kind read
	ConfigName  string
}

// Manifest says what a bundle is for.
type Manifest struct {
	Version int    `json:"hgate-bundle"`
	Estate  string `json:"estate"`
	Number  int64  `json:"number"` // of the request for the credential
	Subject string `json:"subject"`
	System  string `json:"system"`
	Kind    string `json:"kind"`
	Account string `json:"account"`
	Ends    string `json:"ends"` // RFC 3339
}

// The files of a bundle.
const (
	ManifestFile    = "bundle.json"
	ReadmeFile      = "README"
	KeyFile         = "key.pem"
	CertificateFile = "certificate.pem"
	SSHKeyFile      = "id"
	SSHCertFile     = "id-cert.pub"
	ServerFile      = "server.pem"
	KnownHostsFile  = "known_hosts"
	PKCS12File      = "identity.p12"
)

// mostFile bounds a file of a bundle, in bytes.
const mostFile = 64 << 10

// ForSSH says whether what is in the bundle is for SSH.
func (b *Bundle) ForSSH() bool {
	return bytes.HasPrefix(b.Certificate, []byte("ssh-")) || bytes.HasPrefix(b.Certificate, []byte("ecdsa-sha2-"))
}

// Files gives the files of a bundle by name, PKCS #12 (RFC 7292) aside; each is for its holder alone.
func (b *Bundle) Files() (map[string][]byte, error) {
	b.Version = 1
	manifest, err := json.MarshalIndent(b.Manifest, "", "  ")
	if err != nil {
		return nil, err
	}
	key, cert, server := KeyFile, CertificateFile, ServerFile
	if b.ForSSH() {
		key, cert, server = SSHKeyFile, SSHCertFile, KnownHostsFile
	}
	out := map[string][]byte{ManifestFile: append(manifest, '\n'), cert: b.Certificate}
	for name, text := range map[string][]byte{key: b.Key, server: b.Server, b.ConfigName: b.Config} {
		if name != "" && text != nil {
			out[name] = text
		}
	}
	return out, nil
}

// PKCS12 gives key and certificate as one file, which opens with a password.
func (b *Bundle) PKCS12(password string) ([]byte, error) {
	key, err := DecodeKey(b.Key)
	if err != nil {
		return nil, err
	}
	chain, err := DecodeCertificates(b.Certificate)
	if err != nil {
		return nil, err
	}
	return pkcs12.Modern.Encode(key, chain[0], append([]*x509.Certificate{}, chain[1:]...), password)
}

// ReadBundle reads a bundle from its folder. It takes files as they are, follows nothing, and sees that the key is that
// of the certificate.
func ReadBundle(folder fs.FS) (*Bundle, error) {
	manifest, err := readBounded(folder, ManifestFile)
	if err != nil {
		return nil, err
	}
	b := &Bundle{}
	d := json.NewDecoder(bytes.NewReader(manifest))
	d.DisallowUnknownFields()
	if d.Decode(&b.Manifest) != nil || b.Version != 1 || b.Number < 1 || b.Subject == "" || b.System == "" {
		return nil, fmt.Errorf("%s is none that hgate wrote", ManifestFile)
	}
	key, server := KeyFile, ServerFile
	if b.Certificate, err = readBounded(folder, CertificateFile); errors.Is(err, fs.ErrNotExist) {
		key, server = SSHKeyFile, KnownHostsFile
		b.Certificate, err = readBounded(folder, SSHCertFile)
	}
	if err != nil {
		return nil, err
	}
	if b.Key, err = readBounded(folder, key); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no %s in it: its holder has the key, and tries it themself", key)
	} else if err != nil {
		return nil, err
	}
	if b.Server, err = readBounded(folder, server); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return b, b.Fits()
}

// Fits sees that the key is that of the certificate.
func (b *Bundle) Fits() error {
	key, err := DecodeKey(b.Key)
	if err != nil {
		return err
	}
	if b.ForSSH() {
		public, err := certified(string(b.Certificate))
		if err != nil {
			return err
		}
		if !SameKey(public, key.Public()) {
			return errOtherKey
		}
		return nil
	}
	chain, err := DecodeCertificates(b.Certificate)
	if err != nil {
		return err
	}
	if !SameKey(chain[0].PublicKey, key.Public()) {
		return errOtherKey
	}
	return nil
}

var errOtherKey = errors.New("the key is not that of the certificate")

func readBounded(folder fs.FS, name string) ([]byte, error) {
	f, err := folder.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no plain file", name)
	}
	text, err := io.ReadAll(io.LimitReader(f, mostFile+1))
	if err == nil && len(text) > mostFile {
		err = fmt.Errorf("%s has more than %d bytes", name, mostFile)
	}
	return text, err
}
