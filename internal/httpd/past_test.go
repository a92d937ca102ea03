package httpd

import (
	"context"
	"errors"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestPasts: a limited number of earlier moments is loaded; one in use is closed after its last use; one that is not
// used is closed; and one that could not be opened is tried again.
func TestPasts(t *testing.T) {
	var p pasts
	open, ended := 0, map[int]bool{}
	opens := func() (http.Handler, func() error, error) {
		n := open
		open++
		return http.NotFoundHandler(), func() error { ended[n] = true; return nil }, nil
	}
	at := func(i int) time.Time { return time.Unix(int64(i), 0) }
	_, err := p.take(
		t.Context(),
		at(0),
		func() (http.Handler, func() error, error) { return nil, nil, errors.New("full") },
	)
	require.Error(t, err)
	first, err := p.take(t.Context(), at(0), opens)
	require.NoError(t, err)
	again, err := p.take(t.Context(), at(0), opens)
	require.NoError(t, err)
	require.Same(t, first, again)
	require.Equal(t, 1, open)
	for i := 1; i <= mostPasts; i++ {
		x, err := p.take(t.Context(), at(i), opens)
		require.NoError(t, err)
		p.release(x)
	}
	require.Len(t, p.ready, mostPasts)
	require.Empty(t, ended, "the first is in use still")
	p.release(first)
	require.Empty(t, ended)
	p.release(again)
	require.Equal(t, map[int]bool{0: true}, ended)
	p.unused(p.ready[0])
	require.Equal(t, map[int]bool{0: true, 1: true}, ended)
	p.unused(first)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = p.take(gone, at(99), opens)
	require.ErrorIs(t, err, context.Canceled, "who asked is gone")
	s := &Server{pasts: pasts{ready: p.ready}}
	require.NoError(t, s.Close())
	require.Len(t, ended, open)
}
