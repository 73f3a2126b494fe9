package credential

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"software.sslmate.com/src/go-pkcs12"
)

// bundle is one for a holder, with their key.
func bundle(t testing.TB) *Bundle {
	a := authority(t, "ecdsa-p256", months)
	key, err := NewKey("ecdsa-p256")
	require.NoError(t, err)
	c := issued(t, a, Order{Profile: client, Name: ines, Key: key.Public(), Span: months})
	text, err := EncodeKey(key, false)
	require.NoError(t, err)
	return &Bundle{
		Manifest: Manifest{Estate: "Ternhollow Observatory", Number: 4, Subject: "ines.okafor", System: "reduce",
			Kind: "cluster", Account: "ines.okafor"},
		Key:         text,
		Certificate: append(EncodeCertificate(c.Raw), a.Encode()...),
		Server:      a.Encode(),
		Config:      []byte("cert = certificate.pem\n"),
		ConfigName:  "curl.conf",
	}
}

func folderOf(files map[string][]byte) fstest.MapFS {
	out := fstest.MapFS{}
	for name, text := range files {
		out[name] = &fstest.MapFile{Data: text}
	}
	return out
}

func TestABundleIsReadAsItWasWritten(t *testing.T) {
	b := bundle(t)
	files, err := b.Files()
	require.NoError(t, err)
	assert.Len(t, files, 5)
	got, err := ReadBundle(folderOf(files))
	require.NoError(t, err)
	assert.Equal(
		t,
		[]any{b.Manifest, b.Key, b.Certificate, b.Server},
		[]any{got.Manifest, got.Key, got.Certificate, got.Server},
	)
	p12, err := b.PKCS12("a password of it")
	require.NoError(t, err)
	_, cert, above, err := pkcs12.DecodeChain(p12, "a password of it")
	require.NoError(t, err)
	assert.Equal(t, "ines.okafor", cert.Subject.CommonName)
	assert.Len(t, above, 1)
	_, _, _, err = pkcs12.DecodeChain(p12, "another password")
	assert.Error(t, err)
}

func TestWhatIsNoBundleIsRefused(t *testing.T) {
	other := bundle(t)
	for why, spoil := range map[string]func(files map[string][]byte){
		"none that hgate wrote":       func(f map[string][]byte) { f[ManifestFile] = []byte("{}") },
		"not that of the certificate": func(f map[string][]byte) { f[KeyFile] = other.Key },
		"its holder has the key":      func(f map[string][]byte) { delete(f, KeyFile) },
		"no private key in PEM":       func(f map[string][]byte) { f[KeyFile] = f[CertificateFile] },
		"no certificate in PEM":       func(f map[string][]byte) { f[CertificateFile] = f[KeyFile] },
		"has more than 65536 bytes":   func(f map[string][]byte) { f[ServerFile] = []byte(strings.Repeat("x", 1<<20)) },
		"file does not exist":         func(f map[string][]byte) { clear(f) },
		"no certificate as OpenSSH":   func(f map[string][]byte) { sshInstead(f, "ssh-ed25519 x") },
		"is a key without a certificate": func(f map[string][]byte) {
			sshInstead(f, "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGMVC4XvtnxLSiVsbzZsYQoYiK0UoNZ3ge2rttGJfbPI")
		},
	} {
		files, err := bundle(t).Files()
		require.NoError(t, err)
		spoil(files)
		_, err = ReadBundle(folderOf(files))
		assert.ErrorContains(t, err, why)
	}
}

func sshInstead(files map[string][]byte, text string) {
	delete(files, CertificateFile)
	files[SSHCertFile], files[SSHKeyFile] = []byte(text), files[KeyFile]
}

// Whatever stands in a folder, what is read as a bundle has a key that is that of its certificate.
func FuzzBundle(f *testing.F) {
	b := bundle(f)
	files, err := b.Files()
	require.NoError(f, err)
	f.Add(files[ManifestFile], files[KeyFile], files[CertificateFile], false)
	f.Add(files[ManifestFile], files[KeyFile], []byte("ssh-ed25519-cert-v01@openssh.com AAAA"), true)
	f.Fuzz(func(t *testing.T, manifest, key, certificate []byte, forSSH bool) {
		folder := map[string][]byte{ManifestFile: manifest, KeyFile: key, CertificateFile: certificate}
		if forSSH {
			folder = map[string][]byte{ManifestFile: manifest, SSHKeyFile: key, SSHCertFile: certificate}
		}
		got, err := ReadBundle(folderOf(folder))
		if err != nil {
			return
		}
		assert.NoError(t, got.Fits())
		assert.NotEmpty(t, got.Subject)
	})
}
