package sites

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/service/views"
)

// TestMain runs this binary as a node of a cluster if it is started as one, until its input ends.
func TestMain(m *testing.M) {
	if at := os.Getenv("LANTERN_TEST_NODE"); at != "" {
		if err := node(at); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

// node runs one of three nodes, at 10.213.7.1 to 3, with its own folder.
func node(at string) error {
	var routes []*url.URL
	for n := 1; n <= 3; n++ {
		routes = append(routes, &url.URL{Scheme: "nats", Host: fmt.Sprintf("10.213.7.%d:6222", n)})
	}
	s, err := server.NewServer(&server.Options{ServerName: "node-" + at, Host: at, Port: 4222, JetStream: true,
		StoreDir: os.Getenv("LANTERN_TEST_DIR"), NoSigs: true, Routes: routes,
		Cluster: server.ClusterOpts{Name: "test", Host: at, Port: 6222, NoAdvertise: true, PoolSize: -1}})
	if err != nil {
		return err
	}
	go s.Start()
	_, _ = os.Stdin.Read(make([]byte, 1))
	s.Shutdown()
	return nil
}

// namespaces creates three network namespaces with an address each on one bridge; without the right to do so it skips.
func namespaces(t *testing.T) {
	ip := func(args string) error {
		out, err := exec.CommandContext(t.Context(), "ip", strings.Fields(args)...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("ip %s: %w: %s", args, err, bytes.TrimSpace(out))
		}
		return nil
	}
	clean := func() {
		for _, args := range []string{"netns del ltn1", "netns del ltn2", "netns del ltn3", "link del ltn-br"} {
			_ = exec.CommandContext(context.WithoutCancel(t.Context()), "ip", strings.Fields(args)...).Run()
		}
	}
	clean()
	t.Cleanup(clean)
	todo := []string{"link add ltn-br type bridge", "addr add 10.213.7.254/24 dev ltn-br", "link set ltn-br up"}
	for n := 1; n <= 3; n++ {
		todo = append(todo,
			fmt.Sprintf("netns add ltn%d", n),
			fmt.Sprintf("link add ltn-v%d type veth peer name eth0 netns ltn%d", n, n),
			fmt.Sprintf("link set ltn-v%d master ltn-br up", n),
			fmt.Sprintf("-n ltn%d addr add 10.213.7.%d/24 dev eth0", n, n),
			fmt.Sprintf("-n ltn%d link set eth0 up", n),
			fmt.Sprintf("-n ltn%d link set lo up", n))
	}
	for _, args := range todo {
		if err := ip(args); err != nil {
			t.Skipf("no network namespaces can be made here, so the cluster is not tried: %v", err)
		}
	}
}

// process is a running node.
type process struct {
	cmd *exec.Cmd
	in  interface{ Close() error }
}

func begin(t *testing.T, n int, dir string) *process {
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.CommandContext(context.WithoutCancel(t.Context()), "ip", "netns", "exec", fmt.Sprintf("ltn%d", n), self)
	cmd.Env = append(os.Environ(), fmt.Sprintf("LANTERN_TEST_NODE=10.213.7.%d", n), "LANTERN_TEST_DIR="+dir)
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	p := &process{cmd, in}
	t.Cleanup(p.kill)
	return p
}

func (p *process) kill() {
	if p.cmd.ProcessState == nil {
		_ = p.cmd.Process.Kill() // it may be gone
		_ = p.cmd.Wait()
	}
}

// made is a site in a test with made-up events.
type made struct {
	mu     sync.Mutex
	events []api.Event
}

func (m *made) happen(n int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for range n {
		id := int64(len(m.events) + 1)
		m.events = append(m.events, api.Event{Id: id, Kind: api.EventKindDrive, At: time.Unix(id, 0).UTC(),
			Subject: "wwn", Says: fmt.Sprintf("event %d", id)})
	}
}

func (m *made) Events(after int64, limit int) ([]api.Event, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	from := min(max(after, 0), int64(len(m.events)))
	return append([]api.Event{}, m.events[from:min(from+int64(limit), int64(len(m.events)))]...), nil
}

func (m *made) EventsBefore(id int64, limit int) (out []api.Event, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := min(id-1, int64(len(m.events))) - 1; i >= 0 && len(out) < limit; i-- {
		out = append(out, m.events[i])
	}
	return out, nil
}

func (m *made) Site(sent map[string]uint64) (views.SiteState, []views.HostState) {
	changes := m.Changes()
	says := views.SiteState{Hosts: []string{"host"}, Round: api.Round{Hosts: 1, Drives: changes}}
	stamp := uint64(changes) + 1 // 0 means that nothing was sent of the host
	if sent["host"] == stamp {
		return says, nil
	}
	sent["host"] = stamp
	return says, []views.HostState{{Host: "host"}}
}

func (m *made) Changes() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.events)
}

// TestCluster: three nodes, each in a network namespace. Under load, the leader is killed and started again, and a site
// loses its connection for a while. No event is lost or doubled, and the events of each site are in order.
func TestCluster(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes half a minute")
	}
	namespaces(t)
	log := slog.New(slog.DiscardHandler)
	dirs, nodes := []string{"", t.TempDir(), t.TempDir(), t.TempDir()}, make([]*process, 4)
	var all []string
	for n := 1; n <= 3; n++ {
		nodes[n] = begin(t, n, dirs[n])
		all = append(all, fmt.Sprintf("nats://10.213.7.%d:4222", n))
	}
	urls := strings.Join(all, ",")
	options := []nats.Option{nats.MaxReconnects(-1), nats.ReconnectWait(100 * time.Millisecond)}
	var nc *nats.Conn
	require.Eventually(t, func() (ok bool) {
		var err error
		nc, err = nats.Connect(urls, options...)
		return err == nil
	}, time.Minute, 200*time.Millisecond, "a node is there")
	t.Cleanup(nc.Close)
	h := &Headquarters{Clock: clock.Real{}, Log: log}
	require.NoError(t, h.Begin(t.Context(), nc, 3))
	ctx, stop := context.WithCancel(t.Context())
	var going sync.WaitGroup
	defer func() { stop(); going.Wait() }()
	going.Go(func() { _ = h.Run(ctx) })

	sources := map[string]*made{"north": {}, "south": {}}
	var cut sync.Mutex // held while south has no connection
	dialer := &cutter{cut: &cut}
	for name, source := range sources {
		s := &Site{Name: name, URL: urls, Source: source, Handler: http.NotFoundHandler(), Clock: clock.Real{}, Log: log}
		if name == "south" {
			s.Options = []nats.Option{nats.SetCustomDialer(dialer)}
		}
		going.Go(func() { _ = s.Run(ctx) })
	}
	load, enough := context.WithCancel(ctx)
	going.Go(func() {
		for load.Err() == nil {
			for _, source := range sources {
				source.happen(20)
			}
			_ = clock.Real{}.Sleep(load, 50*time.Millisecond)
		}
	})
	reached := func(name string, n int64) func() bool {
		return func() bool {
			l, err := h.events.GetLastMsgForSubject(ctx, eventsOf(name))
			return err == nil && strings.Contains(string(l.Data), `"id":`) && idOf(l.Data) >= n
		}
	}
	require.Eventually(t, reached("north", 100), time.Minute, 100*time.Millisecond)
	require.Eventually(t, reached("south", 100), time.Minute, 100*time.Millisecond)
	leader := h.events.CachedInfo().Cluster.Leader
	var gone int
	_, err := fmt.Sscanf(leader, "node-10.213.7.%d", &gone)
	require.NoError(t, err, leader)
	nodes[gone].kill()
	at := int64(sources["north"].Changes())
	require.Eventually(t, reached("north", at+100), time.Minute, 100*time.Millisecond, "two nodes go on")
	dialer.set(true)
	require.Eventually(t, func() bool {
		for _, x := range h.Sites() {
			if x.Name == "south" {
				return !x.Reachable && x.Says != ""
			}
		}
		return false
	}, time.Minute, 100*time.Millisecond, "south is listed as silent")
	nodes[gone] = begin(t, gone, dirs[gone])
	at = int64(sources["north"].Changes())
	require.Eventually(t, reached("north", at+100), time.Minute, 100*time.Millisecond)
	dialer.set(false)
	at = int64(sources["south"].Changes())
	require.Eventually(t, reached("south", at), time.Minute, 100*time.Millisecond, "south tells what it missed")
	enough()
	for name, source := range sources {
		n := int64(source.Changes())
		require.Eventually(t, reached(name, n), time.Minute, 100*time.Millisecond)
		l, err := h.events.GetLastMsgForSubject(ctx, eventsOf(name))
		require.NoError(t, err)
		next := int64(1)
		require.NoError(t, h.each(ctx, name, l.Sequence, func(e event) {
			require.Equal(t, next, e.ID, "in order, none lost, none doubled")
			next++
		}))
		require.Equal(t, n+1, next)
		t.Logf("%s: %d events", name, n)
	}
	require.Eventually(t, func() bool {
		n := 0
		for _, x := range h.Sites() {
			if x.Reachable && x.Drives == sources[x.Name].Changes() {
				n++
			}
		}
		return n == 2
	}, time.Minute, 100*time.Millisecond, "the newest state of each is known")
}

func idOf(data []byte) (id int64) {
	_, text, _ := strings.Cut(string(data), `"id":`)
	_, _ = fmt.Sscanf(text, "%d", &id)
	return id
}

// cutter is a connection that a test can cut.
type cutter struct {
	cut  *sync.Mutex // guards what follows
	off  bool
	open []net.Conn
}

func (c *cutter) Dial(network, address string) (net.Conn, error) {
	c.cut.Lock()
	defer c.cut.Unlock()
	if c.off {
		return nil, errUnreachable
	}
	conn, err := net.DialTimeout(network, address, 2*time.Second)
	if err == nil {
		c.open = append(c.open, conn)
	}
	return conn, err
}

func (c *cutter) set(off bool) {
	c.cut.Lock()
	defer c.cut.Unlock()
	c.off = off
	if off {
		for _, conn := range c.open {
			conn.Close()
		}
		c.open = nil
	}
}
