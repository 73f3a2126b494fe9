//go:build unix

package servers

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// LDAP is a directory on loopback.
type LDAP struct {
	Secure, Open   string // its addresses, with TLS and without
	User, Password string // by which everything may be changed
	Certificate    []byte
	File           string // that holds the certificate
}

// Directory starts a private LDAP server of dc=ternhollow,dc=example, and fills it. The test is skipped where slapd is
// not installed.
func Directory(t testing.TB, ldif string) LDAP {
	needed(t, "slapd", "slapd")
	dir := t.TempDir()
	certificate := certificates(t, dir)
	data := filepath.Join(dir, "data")
	require.NoError(t, os.Mkdir(data, 0o700))
	config := fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
include /etc/ldap/schema/nis.schema
pidfile %[1]s/pid
modulepath /usr/lib/ldap
moduleload back_mdb
TLSCertificateFile %[1]s/cert.pem
TLSCertificateKeyFile %[1]s/key.pem
database mdb
suffix "dc=ternhollow,dc=example"
rootdn "cn=keeper,dc=ternhollow,dc=example"
rootpw sesame
directory %[2]s
access to * by anonymous read by * read
`, dir, data)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "slapd.conf"), []byte(config), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "all.ldif"),
		[]byte(ldif), 0o600))
	out, err := exec.Command("/usr/sbin/slapadd", "-f", filepath.Join(dir, "slapd.conf"), "-l",
		filepath.Join(dir, "all.ldif")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	open, secure := freePort(t), freePort(t)
	server := exec.Command("/usr/sbin/slapd", "-f", filepath.Join(dir, "slapd.conf"), "-h",
		fmt.Sprintf("ldap://127.0.0.1:%s ldaps://127.0.0.1:%s", open, secure), "-d", "0")
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	})
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%s", secure))
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 50*time.Millisecond, "the server does not answer")
	return LDAP{Secure: fmt.Sprintf("ldaps://127.0.0.1:%s", secure), Open: fmt.Sprintf("ldap://127.0.0.1:%s", open),
		User: "cn=keeper,dc=ternhollow,dc=example", Password: "sesame", Certificate: certificate,
		File: filepath.Join(dir, "cert.pem")}
}

// certificates writes a certificate for 127.0.0.1 that vouches for itself, and gives it.
func certificates(t testing.TB, dir string) []byte {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "127.0.0.1"},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore:   time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	certificate := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw})
	require.NoError(t, os.WriteFile(filepath.Join(dir, "cert.pem"), certificate, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key.pem"),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600))
	return certificate
}
