package daemon

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/authority"
	"lantern/internal/clock"
	"lantern/internal/link"
	"lantern/internal/service/fleet"
	"lantern/internal/store"
)

// TestAgentCertificates: an agent gets a certificate with its token alone, once; then neither a stolen token nor a
// certificate made from stolen records gives access. It is renewed by itself, a lost answer does no harm, and a new
// token starts again.
func TestAgentCertificates(t *testing.T) {
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	issue(t, cert, key, 1)
	serve := Serve{Listen: "127.0.0.1:0", Data: filepath.Join(dir, "service"), AgentCertificates: true,
		Log: slog.New(slog.DiscardHandler)}
	require.ErrorContains(t, serve.Check(), "needs --cert and --key")
	serve.Cert, serve.Key = cert, key
	require.NoError(t, os.Mkdir(serve.Data, 0o700))
	r, err := serve.start(t.Context(), clock.Real{}, nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, r.stop()) })
	token, err := r.service.Fleet.Enrol("ida", "skerry", false)
	require.NoError(t, err)

	type agentSide struct {
		own    *agentCertificate
		client *api.ClientWithResponses
		wires  *connections
	}
	as := func(name string) agentSide {
		t.Helper()
		a := agentSide{own: &agentCertificate{dir: filepath.Join(dir, name), host: "skerry", log: serve.Log}}
		require.NoError(t, os.MkdirAll(a.own.dir, 0o700))
		require.NoError(t, a.own.load())
		made, err := link.Transport(r.url, link.Options{CA: cert, Shown: a.own.shown})
		require.NoError(t, err)
		a.wires = newConnections(made)
		t.Cleanup(func() { a.wires.now.Load().CloseIdleConnections() })
		a.client, err = Client(r.url, token, api.WithHTTPClient(&http.Client{Transport: a.wires}))
		require.NoError(t, err)
		return a
	}
	reports := func(a agentSide, why string) {
		t.Helper()
		now := time.Now().UTC()
		res, err := a.client.PushReportWithResponse(t.Context(), nil, api.Report{Id: now.Format(time.RFC3339Nano),
			Host: "skerry", At: now, IntervalSeconds: 30, Drives: []api.DriveReport{}, Enclosures: []api.EnclosureReport{},
			Pools: []api.PoolReport{}})
		require.NoError(t, err)
		if why == "" {
			require.Equal(t, 204, res.StatusCode(), string(res.Body))
			return
		}
		require.Equal(t, 401, res.StatusCode(), string(res.Body))
		require.Contains(t, string(res.Body), why)
	}
	const bare = "came without the certificate of its agent"

	agent := as("agent")
	reports(agent, "")
	agent.own.ask(t.Context(), agent.client, agent.wires)
	require.NotNil(t, agent.own.pair.Load())
	reports(agent, "")
	reports(as("agent"), "") // after a restart
	info, err := os.Stat(filepath.Join(agent.own.dir, certificateFile))
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())
	require.NoFileExists(t, filepath.Join(agent.own.dir, nextKeyFile))
	require.WithinDuration(t, time.Now().Add(authority.Lasts), r.service.Views.Hosts()[0].CertificateEndsAt, time.Minute)

	thief := as("thief") // has the token
	reports(thief, bare)
	_, err = thief.own.next(t.Context(), thief.client)
	require.ErrorContains(t, err, "has a certificate already")
	signs, err := r.service.Fleet.Authority() // has the records as well, and so the authority
	require.NoError(t, err)
	private, request, err := authority.Request("skerry")
	require.NoError(t, err)
	made, err := signs.Sign(request, "skerry", time.Now())
	require.NoError(t, err)
	whole := append([]byte(authority.PEM(made)), private...)
	pair, err := tls.X509KeyPair(whole, whole)
	require.NoError(t, err)
	thief.own.pair.Store(&pair)
	thief.wires.anew()
	reports(thief, bare)

	// It is renewed when a third of its validity is left. The answer is lost: a second request with the same key gets it.
	ends := agent.own.pair.Load().Leaf.NotAfter
	require.False(t, agent.own.due(ends.Add(-authority.Renew-time.Minute)))
	require.True(t, agent.own.due(ends.Add(-authority.Renew+time.Minute)))
	_, again, err := agent.own.nextKey()
	require.NoError(t, err)
	first, err := agent.client.AskCertificateWithResponse(t.Context(), api.AskCertificate{Request: again})
	require.NoError(t, err)
	require.NotNil(t, first.JSON200, string(first.Body))
	lost := as("agent")
	lost.own.pair.Store(nil) // not even the old one is left
	lost.wires.anew()
	got, err := lost.own.next(t.Context(), lost.client)
	require.NoError(t, err)
	require.True(t, got)
	lost.wires.anew()
	reports(lost, "")
	reports(agent, "") // the previous one is valid until it expires

	// An expired one is not accepted.
	h := r.service.Fleet.Hosts["skerry"]
	all := fleet.CertificatesOf(&h.Host, time.Time{})
	require.Len(t, all, 3)
	for i := range all {
		all[i].Ends = time.Now().Add(-time.Second)
	}
	h.Certificates, err = json.Marshal(all)
	require.NoError(t, err)
	reports(lost, bare)
	_, err = lost.own.next(t.Context(), lost.client)
	require.ErrorContains(t, err, "has a certificate already")

	// With a new token, the certificates of the old one are invalid.
	old := token
	token, err = r.service.Fleet.Enrol("ida", "skerry", true)
	require.NoError(t, err)
	require.NotEqual(t, old, token)
	fresh := as("fresh")
	reports(fresh, "")
	fresh.own.ask(t.Context(), fresh.client, fresh.wires)
	reports(fresh, "")
	reports(as("agent"), bare)
	rows, err := store.All[store.Authority](r.store, "id", "")
	require.NoError(t, err)
	require.Len(t, rows, 1, "the authority is made once")

	// People's tokens and sessions are not affected.
	res, err := fresh.wires.RoundTrip(must(http.NewRequestWithContext(context.Background(), "GET", r.url+"/", nil)))
	require.NoError(t, err)
	require.Equal(t, 200, res.StatusCode)
	res.Body.Close()

	// Invalid requests are refused, and the errors about damaged files say what to do.
	bad, err := fresh.client.AskCertificateWithResponse(t.Context(), api.AskCertificate{Request: []byte("nothing")})
	require.NoError(t, err)
	require.Equal(t, 422, bad.StatusCode())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "agent", certificateFile), []byte("torn"), 0o600))
	err = (&agentCertificate{dir: filepath.Join(dir, "agent"), host: "skerry"}).load()
	require.True(t, err != nil && strings.Contains(err.Error(), "lantern host renew skerry"), err)
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
