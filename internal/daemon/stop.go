package daemon

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"time"
)

// stopWithin is how long a stop waits for requests that are being answered, and then for the copy of the records.
const stopWithin = 5 * time.Second

// unused holds the connections of a server on which no request has come yet. A stop of net/http waits up to five
// seconds for each of them, and clients open such connections ahead of need.
type unused struct {
	mu    sync.Mutex
	conns map[net.Conn]struct{}
}

// note is called by the server on each change of a connection's state (http.Server.ConnState).
func (u *unused) note(c net.Conn, s http.ConnState) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if s != http.StateNew {
		delete(u.conns, c)
		return
	}
	if u.conns == nil {
		u.conns = map[net.Conn]struct{}{}
	}
	u.conns[c] = struct{}{}
}

func (u *unused) close() {
	u.mu.Lock()
	defer u.mu.Unlock()
	for c := range u.conns {
		c.Close()
	}
}

// shut ends a server: it waits for requests that are being answered, and cuts off those that take longer than
// stopWithin. Whoever sent them sends them again, with the same id.
func (u *unused) shut(server *http.Server, log *slog.Logger) error {
	end, cancel := context.WithTimeout(context.Background(), stopWithin)
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- server.Shutdown(end) }()
	for wait := time.NewTicker(50 * time.Millisecond); ; { // a connection may come while the listener closes
		u.close()
		select {
		case err := <-ended:
			wait.Stop()
			if errors.Is(err, context.DeadlineExceeded) {
				log.Warn("requests that took longer than the time for a stop were cut off", "time", stopWithin)
				return server.Close()
			}
			return err
		case <-wait.C:
		}
	}
}
