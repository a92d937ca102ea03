package sites

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
)

// mostMessage is the size limit of one message, in bytes.
const mostMessage = 4 << 20

// Engine is a message engine within this process.
type Engine struct {
	server *server.Server
	secret string // of the headquarters itself
}

// StartEngine starts an engine that stores its streams in a folder and listens for sites. knows checks the secret of a
// site.
func StartEngine(dir, listen string, conf *tls.Config, knows func(site, secret string) bool, log *slog.Logger,
) (*Engine, error) {
	host, port, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, fmt.Errorf("%q is not an address to listen on, such as 127.0.0.1:7414: %w", listen, err)
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("%q is not a port: %w", port, err)
	}
	if number == 0 {
		number = server.RANDOM_PORT
	}
	e := &Engine{secret: rand.Text()}
	e.server, err = server.NewServer(&server.Options{
		ServerName: "headquarters", Host: host, Port: number,
		JetStream: true, StoreDir: dir, SyncInterval: time.Second,
		// Without this, the engine refuses existing streams that are larger than today's free space. If the disk is
		// full, writes fail, and sites send the data again later.
		JetStreamMaxStore: 1 << 40,
		MaxPayload:        mostMessage, MaxPending: 64 << 20, TLSConfig: conf, TLSTimeout: 10, AuthTimeout: 10,
		NoSigs: true, NoSystemAccount: true, PingInterval: 5 * time.Second, MaxPingsOut: 2,
		CustomClientAuthentication: authentication{e, knows},
	})
	if err != nil {
		return nil, fmt.Errorf("the message engine cannot start: %w", err)
	}
	e.server.SetLoggerV2(engineLog{log}, false, false, false)
	go e.server.Start()
	if !e.server.ReadyForConnections(30 * time.Second) {
		e.server.Shutdown()
		return nil, fmt.Errorf("the message engine did not start at %s: check that the address is free and that %s "+
			"can be written", listen, dir)
	}
	return e, nil
}

// URL is the address for sites.
func (e *Engine) URL() string { return "nats://" + e.server.Addr().String() }

// Connect connects the headquarters itself.
func (e *Engine) Connect(options ...nats.Option) (*nats.Conn, error) {
	return nats.Connect("", append(options, nats.InProcessServer(e.server), nats.UserInfo(headquarters, e.secret))...)
}

// Cut closes the connections of a site, after its secret was changed or removed.
func (e *Engine) Cut(site string) {
	all, err := e.server.Connz(&server.ConnzOptions{Username: true, User: site, Limit: 100})
	if err != nil {
		return
	}
	for _, c := range all.Conns {
		_ = e.server.DisconnectClientByID(c.Cid) // it may be gone already
	}
}

// Stop stops the engine after its data was written to disk.
func (e *Engine) Stop() {
	e.server.Shutdown()
	e.server.WaitForShutdown()
}

// headquarters is the user name of the headquarters itself. No site can have it: it has capitals.
const headquarters = "HEADQUARTERS"

// authentication checks connections. The user name of a site is its own name.
type authentication struct {
	engine *Engine
	knows  func(site, secret string) bool
}

// Check authenticates a connection and sets its permissions.
func (a authentication) Check(c server.ClientAuthentication) bool {
	o := c.GetOpts()
	if o.Username == headquarters {
		if o.Password != a.engine.secret {
			return false
		}
		c.RegisterUser(&server.User{Username: headquarters})
		return true
	}
	if CheckName(o.Username) != nil || !a.knows(o.Username, o.Password) {
		return false
	}
	c.RegisterUser(&server.User{Username: o.Username, Permissions: permissions(o.Username)})
	return true
}

// permissions allow a site to publish under its own name and to receive requests for it. It cannot read or change the
// streams.
func permissions(site string) *server.Permissions {
	return &server.Permissions{
		Publish: &server.SubjectPermission{Allow: []string{eventsOf(site), "lantern.state." + site + ".>",
			aliveOf(site), lastOf(site), answersOf(site) + ".>"}},
		Subscribe: &server.SubjectPermission{Allow: []string{askOf(site), inboxOf(site) + ".>"}},
	}
}

// engineLog writes the messages of the engine to our log.
type engineLog struct{ log *slog.Logger }

func (l engineLog) say(level slog.Level, format string, v []any) {
	l.log.Log(context.Background(), level, "message engine: "+strings.TrimSpace(fmt.Sprintf(format, v...)))
}

// Noticef logs at debug level: these messages are needed only to find a fault.
func (l engineLog) Noticef(format string, v ...any) { l.say(slog.LevelDebug, format, v) }

// Warnf logs a warning.
func (l engineLog) Warnf(format string, v ...any) { l.say(slog.LevelWarn, format, v) }

// Fatalf logs an error; the engine stops itself.
func (l engineLog) Fatalf(format string, v ...any) { l.say(slog.LevelError, format, v) }

// Errorf logs an error.
func (l engineLog) Errorf(format string, v ...any) { l.say(slog.LevelWarn, format, v) }

// Debugf logs nothing: these messages are about the internals of the engine.
func (l engineLog) Debugf(string, ...any) {}

// Tracef logs nothing.
func (l engineLog) Tracef(string, ...any) {}
