package node

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestACertificateRenewedWhileItIsReadIsSeen: what is written after it was read is taken the next
// time. The key comes through a pipe, so that the reading stands still in between.
func TestACertificateRenewedWhileItIsReadIsSeen(t *testing.T) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	require.NoError(t, err)
	encoded, err := x509.MarshalECPrivateKey(private)
	require.NoError(t, err)
	dir := t.TempDir()
	c := &certificates{file: filepath.Join(dir, "edge.pem"), key: filepath.Join(dir, "edge.key")}
	require.NoError(t, os.WriteFile(c.file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, syscall.Mkfifo(c.key, 0o600))
	loaded := make(chan error, 1)
	go func() { loaded <- c.load() }()
	pipe, err := os.OpenFile(c.key, os.O_WRONLY, 0) // when the certificate has been read
	require.NoError(t, err)
	later := time.Now().Add(time.Minute)
	require.NoError(t, os.Chtimes(c.file, later, later))
	require.NoError(t, pem.Encode(pipe, &pem.Block{Type: "EC PRIVATE KEY", Bytes: encoded}))
	require.NoError(t, pipe.Close())
	require.NoError(t, <-loaded)
	assert.NotEqual(t, c.times()[0], c.seen[0], "the new one is still to be read")
}
