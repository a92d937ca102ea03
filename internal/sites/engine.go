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

// mostMessage bounds one message, in bytes.
const mostMessage = 4 << 20

// Engine is a message engine within this process.
type Engine struct {
	server *server.Server
	secret string // of the headquarters itself
}

// StartEngine begins an engine that keeps its streams in a folder and listens for sites. knows says whether a site is
// let in with a secret.
func StartEngine(dir, listen string, conf *tls.Config, knows func(site, secret string) bool, log *slog.Logger,
) (*Engine, error) {
	host, port, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, fmt.Errorf("%q is no address to listen on, such as 127.0.0.1:7414: %w", listen, err)
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("%q is no port: %w", port, err)
	}
	if number == 0 {
		number = server.RANDOM_PORT
	}
	e := &Engine{secret: rand.Text()}
	e.server, err = server.NewServer(&server.Options{
		ServerName: "headquarters", Host: host, Port: number,
		JetStream: true, StoreDir: dir, SyncInterval: time.Second,
		// What is free on the disk today is no reason to refuse the streams that are there; a full disk refuses to keep more,
		// and sites tell it again later.
		JetStreamMaxStore: 1 << 40,
		MaxPayload:        mostMessage, MaxPending: 64 << 20, TLSConfig: conf, TLSTimeout: 10, AuthTimeout: 10,
		NoSigs: true, NoSystemAccount: true, PingInterval: 5 * time.Second, MaxPingsOut: 2,
		CustomClientAuthentication: authentication{e, knows},
	})
	if err != nil {
		return nil, fmt.Errorf("the message engine cannot begin: %w", err)
	}
	e.server.SetLoggerV2(engineLog{log}, false, false, false)
	go e.server.Start()
	if !e.server.ReadyForConnections(30 * time.Second) {
		e.server.Shutdown()
		return nil, fmt.Errorf("the message engine does not become ready at %s: look whether the address is free, and the "+
			"disk under %s", listen, dir)
	}
	return e, nil
}

// URL is where sites reach it.
func (e *Engine) URL() string { return "nats://" + e.server.Addr().String() }

// Connect connects the headquarters itself.
func (e *Engine) Connect(options ...nats.Option) (*nats.Conn, error) {
	return nats.Connect("", append(options, nats.InProcessServer(e.server), nats.UserInfo(headquarters, e.secret))...)
}

// Cut ends the connections of a site that is let in no more.
func (e *Engine) Cut(site string) {
	all, err := e.server.Connz(&server.ConnzOptions{Username: true, User: site, Limit: 100})
	if err != nil {
		return
	}
	for _, c := range all.Conns {
		_ = e.server.DisconnectClientByID(c.Cid) // it may be gone already
	}
}

// Stop ends it; what it keeps is on disk then.
func (e *Engine) Stop() {
	e.server.Shutdown()
	e.server.WaitForShutdown()
}

// headquarters is the user name of the headquarters itself. No site can have it: it has capitals.
const headquarters = "HEADQUARTERS"

// authentication lets sites in, each under its own name.
type authentication struct {
	engine *Engine
	knows  func(site, secret string) bool
}

// Check lets a connection in.
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

// permissions let a site speak under its own name and hear what is asked of it; nothing else, and nothing of the
// streams as a whole.
func permissions(site string) *server.Permissions {
	return &server.Permissions{
		Publish: &server.SubjectPermission{Allow: []string{eventsOf(site), "lantern.said." + site + ".>",
			aliveOf(site), lastOf(site), answersOf(site) + ".>"}},
		Subscribe: &server.SubjectPermission{Allow: []string{askOf(site), inboxOf(site) + ".>"}},
	}
}

// engineLog puts what the engine says into our log.
type engineLog struct{ log *slog.Logger }

func (l engineLog) say(level slog.Level, format string, v []any) {
	l.log.Log(context.Background(), level, "message engine: "+strings.TrimSpace(fmt.Sprintf(format, v...)))
}

// Noticef logs what is worth knowing only when something is wrong.
func (l engineLog) Noticef(format string, v ...any) { l.say(slog.LevelDebug, format, v) }

// Warnf logs a warning.
func (l engineLog) Warnf(format string, v ...any) { l.say(slog.LevelWarn, format, v) }

// Fatalf logs an error; the engine ends by itself.
func (l engineLog) Fatalf(format string, v ...any) { l.say(slog.LevelError, format, v) }

// Errorf logs an error.
func (l engineLog) Errorf(format string, v ...any) { l.say(slog.LevelWarn, format, v) }

// Debugf logs nothing: the engine is not ours to follow.
func (l engineLog) Debugf(string, ...any) {}

// Tracef logs nothing.
func (l engineLog) Tracef(string, ...any) {}
