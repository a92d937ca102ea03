package cli

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestCertificateReasons: when the certificate is the reason, it is not asked whether the service runs.
func TestCertificateReasons(t *testing.T) {
	server := httptest.NewTLSServer(http.NotFoundHandler())
	defer server.Close()
	_, err := http.Get(server.URL)
	require.Error(t, err)
	var f *Failure
	require.ErrorAs(t, unreachable(err), &f)
	require.Equal(t, ExitUnreachable, f.Code)
	require.Contains(t, f.Says, "not trusted here")
	require.NotContains(t, f.Says, "Is it running")

	client := server.Client()
	transport := client.Transport.(*http.Transport)
	transport.TLSClientConfig.ServerName = "elsewhere.invalid"
	_, err = client.Get(server.URL)
	require.ErrorAs(t, unreachable(err), &f)
	require.Contains(t, f.Says, "for another name")

	transport.TLSClientConfig.ServerName = ""
	transport.TLSClientConfig.Time = func() time.Time { return server.Certificate().NotAfter.Add(time.Hour) }
	transport.CloseIdleConnections()
	_, err = client.Get(server.URL)
	require.ErrorAs(t, unreachable(err), &f)
	require.Contains(t, f.Says, "certificate has expired")

	require.ErrorAs(t, unreachable(errors.New("connection refused")), &f)
	require.Contains(t, f.Says, "Is it running?")
}
