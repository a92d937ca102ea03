package httpd

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestPackedAnswers: a long answer is compressed for clients that accept it, once, and is the same as without; a short
// one is not; an answer that has not changed is not sent again, whichever of the two a client has.
func TestPackedAnswers(t *testing.T) {
	s := newSite(t)
	ask := func(path string, header ...string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(http.MethodGet, base+path, nil)
		r.Header.Set("Authorization", "Bearer "+s.person)
		for i := 0; i < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		w := httptest.NewRecorder()
		s.server.site.ServeHTTP(w, r)
		return w
	}
	const long, short = "/rules", "/me"
	plain := ask(long)
	require.Equal(t, 200, plain.Code, plain.Body.String())
	require.Empty(t, plain.Header().Get("Content-Encoding"))
	require.Greater(t, plain.Body.Len(), leastPacked)
	var first []byte
	for range 2 {
		packed := ask(long, "Accept-Encoding", "gzip")
		require.Equal(t, "gzip", packed.Header().Get("Content-Encoding"))
		require.Contains(t, packed.Header().Values("Vary"), "Accept-Encoding")
		require.Equal(t, "W/"+plain.Header().Get("ETag"), packed.Header().Get("ETag"))
		body := packed.Body.Bytes()
		if first != nil {
			require.True(t, bytes.Equal(first, body))
		}
		first = bytes.Clone(body)
		z, err := gzip.NewReader(bytes.NewReader(body))
		require.NoError(t, err)
		out, err := io.ReadAll(z)
		require.NoError(t, err)
		require.Equal(t, plain.Body.String(), string(out))
	}
	require.Empty(t, ask(long, "Accept-Encoding", "gzip;q=0").Header().Get("Content-Encoding"))
	require.Empty(t, ask(short, "Accept-Encoding", "gzip").Header().Get("Content-Encoding"))
	for _, tag := range []string{plain.Header().Get("ETag"), "W/" + plain.Header().Get("ETag")} {
		again := ask(long, "Accept-Encoding", "gzip", "If-None-Match", tag)
		require.Equal(t, http.StatusNotModified, again.Code)
		require.Empty(t, again.Body.Bytes())
		require.Empty(t, again.Header().Get("Content-Encoding"))
	}
}
