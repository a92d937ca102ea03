package link

import (
	"crypto/sha256"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestClear: no token leaves in the clear, but to this machine or where that was allowed.
func TestClear(t *testing.T) {
	for server, ok := range map[string]bool{
		"http://127.0.0.1:7411": true, "http://localhost:7411": true, "http://[::1]:7411": true,
		"https://lantern.example": true, "http://lantern.example": false, "http://10.0.0.5:7411": false,
		"http://127.0.0.1.evil.example": false, "http://0.0.0.0:7411": false, "lantern": false, "": false,
	} {
		_, err := Transport(server, Options{})
		require.Equal(t, ok, err == nil, "%s: %v", server, err)
	}
	_, err := Transport("http://10.0.0.5:7411", Options{Clear: true})
	require.NoError(t, err)
}

// TestTrust: a service is trusted by its authority's certificate or by its own fingerprint, and by nothing else.
func TestTrust(t *testing.T) {
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(204) }))
	defer s.Close()
	s.Config.ErrorLog = nil
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(
		t,
		os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw}), 0o600),
	)
	sum := fmt.Sprintf("%X", sha256.Sum256(s.Certificate().Raw))
	for name, c := range map[string]struct {
		o  Options
		ok bool
	}{
		"nobody":      {Options{}, false},
		"authority":   {Options{CA: ca}, true},
		"fingerprint": {Options{Fingerprint: sum}, true},
		"another":     {Options{Fingerprint: strings.Repeat("00", 32)}, false},
	} {
		tr, err := Transport(s.URL, c.o)
		require.NoError(t, err)
		res, err := (&http.Client{Transport: tr}).Get(s.URL)
		require.Equal(t, c.ok, err == nil, "%s: %v", name, err)
		if err == nil {
			res.Body.Close()
		}
	}
	for _, o := range []Options{{CA: "nosuch"}, {Fingerprint: "12"}, {CA: os.Args[0]}} {
		_, err := Transport(s.URL, o)
		require.Error(t, err)
	}
}
