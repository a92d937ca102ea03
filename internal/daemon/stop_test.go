package daemon

import (
	"fmt"
	"io"
	"log/slog"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/clock"
)

// TestStop: a stop is clean, whatever connections are open: without a request yet, with half a request, with a body
// that does not end, and after an answer.
func TestStop(t *testing.T) {
	serve := Serve{Listen: "127.0.0.1:0", Data: filepath.Join(t.TempDir(), "service"), Out: io.Discard,
		Log: slog.New(slog.DiscardHandler)}
	for _, sent := range [][]string{
		{""},
		{"GET /healthz HTTP/1.1\r\nHost: x\r\n"},
		{"GET /healthz HTTP/1.1\r\nHost: x\r\n\r\n"},
		{"", "GET /healthz HTTP/1.1\r\nHost: x\r\n\r\n", ""},
		{"POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 90\r\n\r\n{"},
	} {
		r, err := serve.start(t.Context(), clock.Real{}, nil)
		require.NoError(t, err)
		var conns []net.Conn
		for _, s := range sent {
			c, err := net.Dial("tcp", strings.TrimPrefix(r.url, "http://"))
			require.NoError(t, err)
			defer c.Close()
			_, err = io.WriteString(c, s)
			require.NoError(t, err)
			conns = append(conns, c)
		}
		require.NoError(t, r.stop(), fmt.Sprintf("%q", sent))
		for _, c := range conns {
			require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Minute)))
			_, err := io.Copy(io.Discard, c)
			if timeout, ok := err.(net.Error); ok {
				require.False(t, timeout.Timeout(), "%q: the connection is still open", sent)
			}
		}
	}
}
