package starting

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/standin/web"
)

// requestOf makes a key, and a signing request for a name.
func requestOf(t *testing.T, name string) (request string, key *ecdsa.PrivateKey) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: name}}, key)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der})), key
}

// A cluster signs what its account asks for once somebody else approves it, and nothing for another.
func TestACertificateIsApprovedBySomebodyElse(t *testing.T) {
	d := open(t, "cluster", time.Minute)
	d.settle(`{"accounts": {"keeper": {"keeper": true},
		"noor": {"permits": {".": ["approve-certificates"], "nightly": ["see-workloads", "restart"]}}}}`, "noor")
	ask := func(request string) (int, string) {
		status, reply := d.send("POST", "/certificate-requests", "", map[string]string{"account": "noor",
			"password": "the first of noor", "request": request})
		return status, strings.Join(reply.Said, " ")
	}
	fetch := func(number int) (int, string) {
		status, reply := d.send("POST", "/certificates", "", map[string]any{"account": "noor",
			"password": "the first of noor", "number": number})
		return status, strings.Join(reply.Said, " ")
	}
	other, _ := requestOf(t, "keeper")
	for request, why := range map[string]string{other: `is for "keeper", not for noor`, "x": "no signing request",
		strings.Replace(other, "\nM", "\nN", 1): "cannot be taken"} {
		status, said := ask(request)
		assert.Equal(t, http.StatusBadRequest, status)
		assert.Contains(t, said, why)
	}
	request, key := requestOf(t, "noor")
	status, said := ask(request)
	require.Equal(t, http.StatusOK, status, said)
	status, said = fetch(1)
	assert.Equal(t, http.StatusForbidden, status, said)
	done, said := d.do("", "approve certificate at .: 1") // by the keeper
	require.True(t, done, said)
	status, signed := fetch(1)
	require.Equal(t, http.StatusOK, status)
	status, said = fetch(2)
	assert.Equal(t, http.StatusNotFound, status, said)

	block, _ := pem.Decode([]byte(signed))
	c := d.client()
	defer c.CloseIdleConnections()
	c.Transport.(*http.Transport).TLSClientConfig.Certificates = []tls.Certificate{{Certificate: [][]byte{block.Bytes},
		PrivateKey: key}}
	asNoor := func(line string) (bool, string) {
		text, err := json.Marshal(map[string]string{"line": line})
		require.NoError(t, err)
		answer, err := c.Post("https://"+d.At+"/do", "application/json", bytes.NewReader(text))
		require.NoError(t, err)
		defer answer.Body.Close()
		var reply web.Reply
		require.NoError(t, json.NewDecoder(answer.Body).Decode(&reply))
		return reply.Done, strings.Join(reply.Said, " ")
	}
	done, said = asNoor("restart at nightly")
	assert.True(t, done, said)
	done, said = asNoor("deploy at nightly: another")
	assert.False(t, done)
	assert.Contains(t, said, "it needs deploy")
	status, said = ask(request)
	require.Equal(t, http.StatusOK, status, said)
	done, said = asNoor("approve certificate at .: 2")
	assert.False(t, done)
	assert.Contains(t, said, "it is your own, which somebody else approves")
	require.NoError(t, d.Close()) // what waits is there again
	<-d.Done()
	d.start(time.Minute)
	done, said = d.do("", "approve certificate at .: 2")
	assert.True(t, done, said)
}
