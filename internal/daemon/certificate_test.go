package daemon

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// issue writes a certificate of its own making into two files.
func issue(t *testing.T, cert, key string, serial int64) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "lantern"},
		NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &k.PublicKey, k)
	require.NoError(t, err)
	b, err := x509.MarshalECPrivateKey(k)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: b}), 0o600))
}

// TestCertificate: changed files are used without a restart, unless certificate and key do not match.
func TestCertificate(t *testing.T) {
	dir := t.TempDir()
	var ends time.Time
	c := &certificate{cert: filepath.Join(dir, "cert.pem"), key: filepath.Join(dir, "key.pem"),
		log: slog.New(slog.DiscardHandler), ends: func(at time.Time) { ends = at }}
	require.Error(t, c.load())
	serial := func() int64 {
		c.looked = time.Time{} // as if it were time to look
		pair, err := c.get(nil)
		require.NoError(t, err)
		return pair.Leaf.SerialNumber.Int64()
	}
	issue(t, c.cert, c.key, 1)
	require.NoError(t, c.load())
	require.EqualValues(t, 1, serial())
	require.WithinDuration(t, time.Now().Add(time.Hour), ends, time.Minute)
	issue(t, c.cert, c.key, 2)
	later := time.Now().Add(time.Minute)
	require.NoError(t, os.Chtimes(c.cert, later, later))
	require.EqualValues(t, 2, serial())
	require.NoError(t, os.WriteFile(c.key, []byte("torn"), 0o600))
	require.EqualValues(t, 2, serial())
	require.Error(t, c.load())
}

// TestGuarded: an address has so many connections at once and no more; a closed one makes room.
func TestGuarded(t *testing.T) {
	g := &guarded{open: map[string]int{}}
	for range mostOpen {
		require.True(t, g.take("10.0.0.5"))
	}
	require.False(t, g.take("10.0.0.5"))
	require.True(t, g.take("10.0.0.6"))
	g.give("10.0.0.5")
	require.True(t, g.take("10.0.0.5"))
	for range mostOpen {
		g.give("10.0.0.5")
	}
	g.give("10.0.0.6")
	require.Empty(t, g.open)
}
