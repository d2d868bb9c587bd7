package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/node"
)

// certificate writes a self-signed pair for loopback with a serial number.
func certificate(t *testing.T, dir string, serial int64) (file, key string) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "www.ostrel.example"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	require.NoError(t, err)
	encoded, err := x509.MarshalECPrivateKey(private)
	require.NoError(t, err)
	file, key = filepath.Join(dir, "edge.pem"), filepath.Join(dir, "edge.key")
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: encoded}), 0o600))
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	return file, key
}

func TestHTTP2WithAndWithoutTLS(t *testing.T) {
	var asked atomic.Int64
	dir := t.TempDir()
	file, key := certificate(t, dir, 1)
	url := database(t, "tls")
	policy := policyFile(t, origin(t, &asked))
	secure := startNode(t, node.Settings{Name: "tls", Data: t.TempDir(), Database: url, PolicyFile: policy, Certificate: file, CertificateKey: key})
	plain := startNode(t, node.Settings{Name: "plain", Data: t.TempDir(), Database: url, PolicyFile: policy})
	get := func(base string, protocols func(*http.Protocols)) *http.Response {
		var p http.Protocols
		protocols(&p)
		transport := &http.Transport{Protocols: &p, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true}
		req, _ := http.NewRequest("GET", base+"/a?x=1", nil)
		resp, err := transport.RoundTrip(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		assert.Equal(t, "made for /a", string(body))
		return resp
	}
	one := func(p *http.Protocols) { p.SetHTTP1(true) }
	two := func(p *http.Protocols) { p.SetHTTP2(true); p.SetUnencryptedHTTP2(true) }
	assert.Equal(t, 1, get(plain.EdgeURL(), one).ProtoMajor)
	cleartext := get(plain.EdgeURL(), two)
	assert.Equal(t, 2, cleartext.ProtoMajor)
	assert.Contains(t, cleartext.Header.Get("Cache-Status"), "hit", "the protocol is not in the key")
	assert.Equal(t, 1, get(secure.EdgeURL(), one).ProtoMajor)
	over := get(secure.EdgeURL(), two)
	assert.Equal(t, 2, over.ProtoMajor)
	assert.EqualValues(t, 1, over.TLS.PeerCertificates[0].SerialNumber.Int64())

	certificate(t, dir, 2)
	later := time.Now().Add(time.Minute) // file times must differ
	require.NoError(t, os.Chtimes(file, later, later))
	eventually(t, "a renewed certificate is taken without a restart", func() bool {
		return get(secure.EdgeURL(), two).TLS.PeerCertificates[0].SerialNumber.Int64() == 2
	})
	_, err := node.Start(ctx, node.Settings{Name: "x", Data: t.TempDir(), Database: url, Edge: "127.0.0.1:0", Control: "127.0.0.1:0", Memory: 16 << 20, Certificate: file})
	assert.ErrorContains(t, err, "belong together")
}
