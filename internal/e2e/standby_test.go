package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestStandby: a standby follows a service under load. The first is killed, a person orders the take-over, and the
// standby serves with the copied records: at most the last two seconds are missing. Until then it answers that it is a
// standby, and does not serve.
func TestStandby(t *testing.T) {
	path, err := binary()
	require.NoError(t, err)
	dir := t.TempDir()
	copied := "file://" + filepath.Join(dir, "copy")
	c := &chaos{t: t, dir: dir, port: "0", client: &http.Client{}, more: []string{"--replicate-to", copied}}
	c.start()
	t.Cleanup(c.kill)
	status, body := c.ask("POST", "/hosts", `{"name":"host-000"}`)
	require.Equal(t, 201, status, string(body))
	var e api.Enrolled
	require.NoError(t, json.Unmarshal(body, &e))
	h := &chaosHost{
		c:     c,
		name:  "host-000",
		token: e.Token,
		begin: time.Now(),
		bad:   map[int]bool{},
		acked: map[string]map[int64]float64{},
	}
	ctx, cancel := context.WithCancel(t.Context())
	var all sync.WaitGroup
	all.Go(func() { h.run(ctx) })
	t.Cleanup(func() { cancel(); all.Wait() })

	data := filepath.Join(dir, "standby")
	refused, err := exec.Command(path, "standby", "take-over", "--data", data, "--reason", "x").CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(refused), "not the folder of a standby")
	second := exec.Command(path, "serve", "--listen", "127.0.0.1:0", "--data", data, "--standby", copied)
	out, err := second.StdoutPipe()
	require.NoError(t, err)
	second.Stderr = second.Stdout
	require.NoError(t, second.Start())
	ended := make(chan error, 1)
	go func() { ended <- second.Wait(); close(ended) }()
	t.Cleanup(func() { _ = second.Process.Kill(); <-ended })
	lines := make(chan string, 1000)
	go func() {
		for s := bufio.NewScanner(out); s.Scan(); {
			lines <- s.Text()
		}
		close(lines)
	}()
	acked := func() (newest int64, n int) {
		h.mu.Lock()
		defer h.mu.Unlock()
		for at := range h.acked[h.key(3)] {
			newest, n = max(newest, at), n+1
		}
		return newest, n
	}
	c.until("there is something to copy", time.Minute, func() bool { _, n := acked(); return n > 10 })
	c.until("the standby has copied it", time.Minute, func() bool {
		_, err := exec.Command("test", "-e", filepath.Join(data, "lantern.db-txid")).Output()
		return err == nil
	})
	_, before := acked()
	c.until("more came since", time.Minute, func() bool { _, n := acked(); return n > before+10 })

	newest, _ := acked()
	c.kill()
	begun := time.Now()
	told, err := exec.Command(path, "standby", "take-over", "--data", data, "--reason", "its machine is dead").
		CombinedOutput()
	require.NoError(t, err, string(told))
	url := ""
	for url == "" {
		select {
		case l, ok := <-lines:
			require.True(t, ok, "the standby ended")
			if _, at, is := strings.Cut(l, "lantern serves http://"); is {
				url = at
			}
		case <-time.After(time.Minute):
			require.Fail(t, "the standby does not serve")
		}
	}
	_, c.port, _ = strings.Cut(url, ":")
	took := time.Since(begun)
	status, body = c.ask("GET", "/drives/"+h.key(3)+"/readings", "") // with the token that the first one gave
	require.Equal(t, 200, status, string(body))
	last := int64(0)
	for _, l := range strings.Split(string(body), "\n") {
		var x struct {
			At time.Time `json:"at"`
		}
		if json.Unmarshal([]byte(l), &x) == nil {
			last = max(last, x.At.UnixMilli())
		}
	}
	lost := time.Duration(max(0, newest-last)) * time.Millisecond
	t.Logf("lost: %.1f s; serving %.1f s after it was told to", lost.Seconds(), took.Seconds())
	require.Less(t, lost, 10*time.Second, "a busy machine copies later; how long it is on an idle one is in "+
		"docs/benchmarks.md")
	status, body = c.ask("GET", "/audit?newest=10", "")
	require.Equal(t, 200, status)
	require.Contains(t, string(body), "its machine is dead")
	await(
		t,
		"its hosts report to it",
		func() bool { at, _ := acked(); return at > newest },
		func(is bool) bool { return is },
	)

	for _, wrong := range [][]string{
		{"--replicate-to", "carrier://pigeon"}, {"--standby", copied, "--replicate-to", copied},
		{"--standby", copied, "--data", filepath.Join(dir, "service")},
	} {
		said, err := exec.Command(path, append([]string{"serve", "--listen", "127.0.0.1:0", "--data",
			filepath.Join(dir, "x")}, wrong...)...).
			CombinedOutput()
		require.Error(t, err, string(said))
	}
}
