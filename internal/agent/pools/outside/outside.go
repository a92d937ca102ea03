// Package outside lets any program speak for pools of a kind that nobody here knows: JSON-RPC 2.0, a message a line,
// over its standard input and output. docs/pool-driver.md is the protocol.
package outside

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/wire"
)

// Protocol is the version that is spoken.
const Protocol = 1

// Limits that keep a program's trouble its own.
const (
	helloIn   = 10 * time.Second
	lookIn    = 10 * time.Second
	actIn     = 2 * time.Minute
	mostLine  = 4 << 20
	mostPools = 200
	// mostIdle is how many lines may come that nobody asked for until the next answer.
	mostIdle  = 1000
	restAfter = 2 * time.Second // after a death, doubled up to restMost
	restMost  = 2 * time.Minute
)

// Error codes beside those of JSON-RPC.
const (
	CodeNoPool     = -32001
	CodeNotOffered = -32002
)

// Driver speaks for the pools of one program.
type Driver struct {
	Command []string
	Host    string
	Log     *slog.Logger

	one   sync.Mutex // a question at a time
	p     *process
	dead  time.Time // when it last died, and how long it is left alone
	rest  time.Duration
	mu    sync.Mutex
	known []pools.Snapshot // as it last told
	name  string
}

// New makes the driver of a program; it is started when it is first asked.
func New(command []string, host string, log *slog.Logger) *Driver {
	return &Driver{Command: command, Host: host, Log: log}
}

// process is the program while it runs.
type process struct {
	cmd   *exec.Cmd
	in    io.WriteCloser
	lines chan []byte
	gone  chan struct{}
	why   error
	next  int
}

type request struct {
	Version string `json:"jsonrpc"`
	ID      int    `json:"id"`
	Method  string `json:"method"`
	Params  any    `json:"params"`
}

type answer struct {
	Version string          `json:"jsonrpc"`
	ID      *int            `json:"id"`
	Method  string          `json:"method"`
	Result  json.RawMessage `json:"result"`
	Error   *Refusal        `json:"error"`
}

// Refusal is a program's own error.
type Refusal struct {
	Code    int    `json:"code"`
	Message string `json:"message"`
}

func (r *Refusal) Error() string { return fmt.Sprintf("%s (%d)", r.Message, r.Code) }

// Broken is a program that cannot be spoken with.
type Broken struct{ Why string }

func (b *Broken) Error() string { return b.Why }

func broken(format string, args ...any) error { return &Broken{fmt.Sprintf(format, args...)} }

// start runs the program and greets it.
func start(ctx context.Context, command []string, host string, log *slog.Logger) (*process, string, error) {
	cmd := exec.Command(command[0], command[1:]...)
	isolate(cmd)
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, "", err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, "", err
	}
	cmd.Stderr = &logged{log: log, name: command[0]}
	if err := cmd.Start(); err != nil {
		return nil, "", broken("%s cannot be started: %v", command[0], err)
	}
	p := &process{cmd: cmd, in: in, lines: make(chan []byte, 64), gone: make(chan struct{})}
	go p.read(out)
	var hello struct {
		Protocol int    `json:"protocol"`
		Name     string `json:"name"`
	}
	if err := p.ask(ctx, helloIn, "hello", map[string]any{"protocol": Protocol, "host": host}, &hello); err != nil {
		p.end()
		return nil, "", err
	}
	if hello.Protocol != Protocol || hello.Name == "" || strings.ContainsAny(hello.Name, ":/ \n") {
		p.end()
		return nil, "", broken(
			"it speaks version %d as %q; version %d and a name without colons, slashes or spaces are needed",
			hello.Protocol,
			hello.Name,
			Protocol,
		)
	}
	return p, hello.Name, nil
}

// read takes lines until the program ends or says too much.
func (p *process) read(out io.Reader) {
	lines := bufio.NewScanner(out)
	lines.Buffer(make([]byte, 0, 64<<10), mostLine)
	idle := 0
	for lines.Scan() {
		line := append([]byte{}, lines.Bytes()...)
		select {
		case p.lines <- line:
			idle = 0
		default:
			if idle++; idle > mostIdle {
				p.why = broken("it sent more than %d lines that answer no request", mostIdle)
				p.kill()
			}
		}
		if p.why != nil {
			break
		}
	}
	if p.why == nil {
		p.why = broken("it ended")
		if err := lines.Err(); err != nil {
			p.why = broken("its output cannot be read: %v", err)
			p.kill()
		}
	}
	close(p.gone)
	_, _ = io.Copy(io.Discard, out)
	_ = p.cmd.Wait()
}

func (p *process) end() {
	_ = p.in.Close()
	select {
	case <-p.gone:
	case <-time.After(time.Second):
		p.kill()
		<-p.gone
	}
}

// ask asks one thing and waits for its answer.
func (p *process) ask(ctx context.Context, limit time.Duration, method string, params, into any) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	p.next++
	b, err := json.Marshal(request{"2.0", p.next, method, params})
	if err != nil {
		return err
	}
	wrote := make(chan error, 1)
	go func() { _, err := p.in.Write(append(b, '\n')); wrote <- err }()
	for strange := 0; ; {
		select {
		case <-ctx.Done():
			return broken("it does not answer %s within %s", method, limit)
		case err := <-wrote:
			if err != nil {
				return broken("it does not read its input: %v", err)
			}
			wrote = nil
		case <-p.gone:
			return p.why
		case line := <-p.lines:
			var a answer
			if err := json.Unmarshal(line, &a); err != nil || a.Version != "2.0" {
				return broken("its answer to %s is not JSON-RPC 2.0: %.80q", method, line)
			}
			if a.ID == nil || *a.ID != p.next {
				if strange++; strange > mostIdle {
					return broken("it sent more than %d messages that answer no request", mostIdle)
				}
				continue // a notification, or an answer that came too late
			}
			if a.Error != nil {
				return a.Error
			}
			if into == nil {
				return nil
			}
			if len(a.Result) == 0 {
				return broken("its answer to %s has neither a result nor an error", method)
			}
			if err := json.Unmarshal(a.Result, into); err != nil {
				return broken("its answer to %s does not match the protocol: %v", method, err)
			}
			return nil
		}
	}
}

// ask sends a request. It starts the program if needed, and waits longer after each failure.
func (d *Driver) ask(ctx context.Context, limit time.Duration, method string, params, into any) error {
	d.one.Lock()
	defer d.one.Unlock()
	if d.p == nil {
		if wait := d.rest - time.Since(d.dead); wait > 0 {
			return broken("it failed, and is started again in %s", wait.Round(time.Second))
		}
		p, name, err := start(ctx, d.Command, d.Host, d.Log)
		if err != nil {
			d.died()
			return err
		}
		d.p, d.name = p, name
	}
	err := d.p.ask(ctx, limit, method, params, into)
	var b *Broken
	switch {
	case errors.As(err, &b):
		d.p.kill()
		d.p = nil
		d.died()
	case err == nil:
		d.rest = 0
	}
	return err
}

func (d *Driver) died() {
	d.dead, d.rest = time.Now(), min(restMost, max(restAfter, 2*d.rest))
}

// Close ends the program.
func (d *Driver) Close() {
	d.one.Lock()
	defer d.one.Unlock()
	if d.p != nil {
		d.p.end()
		d.p = nil
	}
}

// Told is what a program reports about one pool, as in a report of an agent, but with the path of each member's device
// instead of the drive.
type Told struct {
	api.PoolReport
}

// Pools asks the program. When it cannot be spoken with, or says what cannot be, its pools are known no more than by
// name: every member is unknown.
func (d *Driver) Pools(ctx context.Context, keys func(string) string) ([]pools.Snapshot, error) {
	var told struct {
		Pools []Told `json:"pools"`
	}
	err := d.ask(ctx, lookIn, "pools", struct{}{}, &told)
	var out []pools.Snapshot
	if err == nil {
		out, err = d.take(told.Pools, keys)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if err != nil {
		unknown := make([]pools.Snapshot, len(d.known))
		for i, s := range d.known {
			unknown[i] = pools.Blind(s.Pool)
		}
		return unknown, fmt.Errorf("%s: %w", d.Command[0], err)
	}
	d.known = out
	return out, nil
}

// take checks what a program reports. A pool about which it contradicts the kernel becomes unknown.
func (d *Driver) take(told []Told, keys func(string) string) (out []pools.Snapshot, err error) {
	if len(told) > mostPools {
		return nil, broken("it reports %d pools; the limit is %d", len(told), mostPools)
	}
	seen := map[string]string{}
	for _, t := range told {
		p := wire.ToPool(t.PoolReport)
		if p.ID == "" || p.Name == "" {
			return nil, broken("a pool has no id or no name")
		}
		p.ID = d.name + ":" + p.ID
		p.Kind = d.name + " " + p.Kind
		p.Kind = strings.TrimSpace(p.Kind)
		if err := p.Check(); err != nil {
			return nil, broken("its description of the pool %s is wrong: %v", p.Name, err)
		}
		lie := d.placeMembers(&p, seen, keys)
		s := pools.Snapshot{
			Pool:         p,
			Priority:     recovery.Priority(t.Priority),
			Inconsistent: t.Inconsistent,
			Waits:        t.Waits,
		}
		for _, o := range t.Offers {
			s.Offers = append(s.Offers, pools.Offer(o))
		}
		now := time.Now().UTC()
		for _, r := range t.Recoveries {
			x := wire.ToRecovery(r, now)
			if x.ID == "" || x.Done > x.Todo {
				return nil, broken("a recovery of %s has no id, or did more than there is to do", p.Name)
			}
			x.ID = p.ID + "/" + x.ID
			if x.At = now; x.Drive != "" {
				x.Drive = keys(x.Drive)
			}
			s.Recoveries = append(s.Recoveries, x)
		}
		if lie != "" {
			d.Log.Warn("a pool program contradicts the kernel", "program", d.Command[0], "pool", p.Name, "why", lie)
			s = pools.Blind(p)
		}
		out = append(out, s)
	}
	return out, nil
}

// placeMembers finds the drives of members by their paths. lie says what the kernel contradicts; seen are the paths of
// all pools so far.
func (d *Driver) placeMembers(p *pool.Pool, seen map[string]string, keys func(string) string) (lie string) {
	p.Everyone(func(_ string, m *pool.Member) {
		path := m.Drive
		m.Drive = ""
		if path == "" {
			return
		}
		if real, err := filepath.EvalSymlinks(path); err == nil {
			path = real
		}
		m.Drive = keys(path)
		if _, err := os.Stat(path); err == nil {
			m.Device = filepath.Base(path)
		}
		switch {
		case m.Drive == "" && m.Device == "" && (m.State == pool.Online || m.State == pool.Recovering):
			lie = fmt.Sprintf("it reports that %s is %s, but the kernel has no such drive", path, m.State)
		case seen[path] != "":
			lie = fmt.Sprintf("it reports %s as two members", path)
		}
		seen[path] = p.ID
		if m.Domain == "" {
			m.Domain = d.Host
		}
	})
	return lie
}

var _ pools.Whole = &Driver{}

// Trust is that of a program.
func (d *Driver) Trust() pools.Trust { return pools.TrustProgram }

// logged takes what a program says on its error output into the log, a line at a time, and not too many.
type logged struct {
	log  *slog.Logger
	name string
	n    int
}

func (l *logged) Write(b []byte) (int, error) {
	for _, line := range strings.Split(strings.TrimSpace(string(b)), "\n") {
		if l.n++; l.n <= 200 && line != "" {
			l.log.Info("pool program", "program", l.name, "says", fmt.Sprintf("%.300s", line))
		}
	}
	return len(b), nil
}
