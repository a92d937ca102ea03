package daemon

import (
	"net"
	"net/netip"
	"slices"
	"sync"
)

// mostOpen is the greatest number of open connections of one address. Those of this machine and of trusted proxies are
// not counted.
const mostOpen = 512

// guarded is a listener that limits the connections of each address.
type guarded struct {
	net.Listener
	proxies []netip.Prefix // addresses whose connections are of many people
	mu      sync.Mutex
	open    map[string]int
}

// Accept waits for a connection from an address that has not too many yet; others are closed at once.
func (g *guarded) Accept() (net.Conn, error) {
	for {
		c, err := g.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from, ok := c.RemoteAddr().(*net.TCPAddr)
		if !ok || from.IP.IsLoopback() || g.proxy(from.AddrPort().Addr().Unmap()) {
			return c, nil
		}
		if g.take(from.IP.String()) {
			return &counted{Conn: c, free: sync.OnceFunc(func() { g.give(from.IP.String()) })}, nil
		}
		_ = c.Close() // its result is not needed
	}
}

func (g *guarded) proxy(from netip.Addr) bool {
	return slices.ContainsFunc(g.proxies, func(p netip.Prefix) bool { return p.Contains(from) })
}

func (g *guarded) take(from string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.open[from] >= mostOpen {
		return false
	}
	g.open[from]++
	return true
}

func (g *guarded) give(from string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.open[from]--; g.open[from] <= 0 {
		delete(g.open, from)
	}
}

// counted is a connection that is counted until it is closed.
type counted struct {
	net.Conn
	free func()
}

func (c *counted) Close() error {
	c.free()
	return c.Conn.Close()
}
