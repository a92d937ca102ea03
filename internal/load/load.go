package load

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"lantern/internal/api"

	"golang.org/x/sync/errgroup"
)

// Config has the settings of the load.
type Config struct {
	Server string // address of the service, without the API's path
	Token  string // of a person who may enrol hosts
	// Transport reaches the service.
	Transport *http.Transport
	Hosts     int
	Drives    int
	People    int
	Every     time.Duration // between two reports of a host
	For       time.Duration // its duration after the first reports
	Seed      uint64
	Metrics   string    // address of the service's metrics; empty for Server + /metrics
	Says      io.Writer // what is being done
}

// Result is what was measured.
type Result struct {
	Hosts   int   `json:"hosts"`
	Drives  int   `json:"drives"`
	People  int   `json:"people"`
	Filling Phase `json:"filling"` // every host reports for the first time, as fast as the service takes it
	Steady  Phase `json:"steady"`  // every host reports at its turn, and people look
	Rush    Phase `json:"rush"`    // every host reports at once, as after everything was started again
	Waits   []Row `json:"waits"`
	// MemoryBytes is the memory of the service at the end.
	MemoryBytes float64 `json:"memory_bytes"`
}

// Phase is the work of the service in a time, and its cost.
type Phase struct {
	Seconds    float64 `json:"seconds"`
	Reports    int     `json:"reports"`
	Readings   int     `json:"readings"`
	CPUSeconds float64 `json:"cpu_seconds"`
	Stolen     Stolen  `json:"stolen"`
}

// Cores is the number of cores that the service used.
func (p Phase) Cores() float64 { return p.CPUSeconds / max(p.Seconds, 1e-9) }

// ErrNotYours means that the service has hosts that are not simulated.
var ErrNotYours = errors.New("this service watches hosts that were not made up; load is for a service of its own")

// maker makes the load.
type maker struct {
	Config
	client   *http.Client
	fleet    []*host
	waits    *waits
	known    map[string]bool // hosts of an earlier load
	reports  atomic.Int64
	readings atomic.Int64

	mu     sync.Mutex
	awaits []*awaited // events that are waited for now
}

// Run fills the service with hosts and keeps them reporting while people look, until the time is over or ctx ends. It
// refuses a service that watches hosts of somebody else.
func Run(ctx context.Context, c Config) (Result, error) {
	m := &maker{Config: c, waits: newWaits(), known: map[string]bool{}}
	m.Transport.MaxIdleConnsPerHost, m.Transport.MaxIdleConns = c.Hosts+2*c.People+8, 0
	m.client = &http.Client{Transport: m.Transport}
	out := Result{Hosts: c.Hosts, Drives: c.Drives, People: c.People}
	if err := m.mine(ctx); err != nil {
		return out, err
	}
	m.fleet = fleet(c.Hosts, c.Drives, c.Seed)
	m.say("enrolling %d hosts", c.Hosts)
	if err := m.each(ctx, 4, m.enrol); err != nil {
		return out, err
	}
	m.say("%d drives report for the first time", c.Drives)
	var err error
	if out.Filling, err = m.phase(ctx, func() error {
		return m.each(ctx, 8, func(ctx context.Context, h *host) error { return m.push(ctx, h, "first report") })
	}); err != nil {
		return out, err
	}
	m.say("%d people look, and each host reports every %v, for %v", c.People, c.Every, c.For)
	if out.Steady, err = m.phase(ctx, func() error { return m.steady(ctx) }); err != nil {
		return out, err
	}
	// Real hosts make their reports on processors of their own, so these are made before the time is measured.
	if err := m.each(ctx, 2, m.write); err != nil {
		return out, err
	}
	m.say("every host reports at once")
	if out.Rush, err = m.phase(ctx, func() error {
		return m.each(ctx, c.Hosts, func(ctx context.Context, h *host) error { return m.send(ctx, h, "report in the rush") })
	}); err != nil {
		return out, err
	}
	_, out.MemoryBytes, err = m.costs(ctx)
	out.Waits = m.waits.rows()
	return out, err
}

func (m *maker) say(format string, args ...any) {
	if m.Says != nil {
		fmt.Fprintf(m.Says, format+"\n", args...)
	}
}

// mine refuses a service that has hosts of somebody else.
func (m *maker) mine(ctx context.Context) error {
	var hosts []api.Host
	if err := m.get(ctx, "/hosts", &hosts); err != nil {
		return err
	}
	for _, h := range hosts {
		if !strings.HasPrefix(h.Name, prefix) {
			return fmt.Errorf("%w (%s)", ErrNotYours, h.Name)
		}
		m.known[h.Name] = true
	}
	return nil
}

// each does something for every host, width of them at a time.
func (m *maker) each(ctx context.Context, width int, do func(context.Context, *host) error) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(width)
	for _, h := range m.fleet {
		g.Go(func() error { return do(ctx, h) })
	}
	return g.Wait()
}

// phase does something, and measures the work of the service meanwhile.
func (m *maker) phase(ctx context.Context, do func() error) (p Phase, err error) {
	reports, readings := m.reports.Load(), m.readings.Load()
	cpu, _, err := m.costs(ctx)
	if err != nil {
		return p, err
	}
	watching, end := context.WithCancel(ctx)
	defer end()
	stolen, from := watchStolen(watching, ticksNow, stolenEach), time.Now()
	if err := do(); err != nil {
		return p, err
	}
	p.Seconds = time.Since(from).Seconds()
	end()
	p.Stolen = <-stolen
	p.Reports, p.Readings = int(m.reports.Load()-reports), int(m.readings.Load()-readings)
	after, _, err := m.costs(ctx)
	p.CPUSeconds = after - cpu
	return p, err
}

// costs are the processor time and the memory of the service.
func (m *maker) costs(ctx context.Context) (cpu, memory float64, err error) {
	address := m.Metrics
	if address == "" {
		address = m.Server + "/metrics"
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return 0, 0, err
	}
	res, err := m.client.Do(r)
	if err != nil {
		return 0, 0, err
	}
	defer res.Body.Close()
	found := 0
	for lines := bufio.NewScanner(res.Body); lines.Scan(); {
		for name, to := range map[string]*float64{
			"process_cpu_seconds_total ":     &cpu,
			"process_resident_memory_bytes ": &memory,
		} {
			if value, ok := strings.CutPrefix(lines.Text(), name); ok {
				if _, err := fmt.Sscan(value, to); err != nil {
					return 0, 0, err
				}
				found++
			}
		}
	}
	if found != 2 {
		return 0, 0, fmt.Errorf("%s answered %d and does not tell the service's processor time and memory; give it "+
			"with --metrics", address, res.StatusCode)
	}
	return cpu, memory, nil
}

// enrol enrols a host.
func (m *maker) enrol(ctx context.Context, h *host) error {
	var secret api.Enrolled
	if err := m.ask(ctx, http.MethodPost, "/hosts", m.Token, api.Enrol{Name: h.name, Renew: m.known[h.name]},
		&secret); err != nil {
		return err
	}
	h.token = secret.Token
	return nil
}

// push makes a report, sends it, and waits for the answer.
func (m *maker) push(ctx context.Context, h *host, what string) error {
	if err := m.write(ctx, h); err != nil {
		return err
	}
	return m.send(ctx, h, what)
}

// write makes the next report of a host.
func (m *maker) write(_ context.Context, h *host) (err error) {
	r := h.report(time.Now(), m.Every)
	h.next, h.reads = nil, len(r.Drives)
	h.next, err = json.Marshal(r)
	return err
}

// send sends the next report of a host, and waits for the answer.
func (m *maker) send(ctx context.Context, h *host, what string) error {
	from := time.Now()
	err := m.ask(ctx, http.MethodPost, "/agent/reports", h.token, h.next, nil)
	h.next = nil
	if ctx.Err() != nil {
		return ctx.Err()
	}
	m.waits.add(what, time.Since(from), err)
	if err == nil {
		m.reports.Add(1)
		m.readings.Add(int64(h.reads))
	}
	return nil
}

// get sends a request of a person.
func (m *maker) get(ctx context.Context, path string, into any) error {
	return m.ask(ctx, http.MethodGet, path, m.Token, nil, into)
}

// ask sends a request, whose body is JSON already or is made JSON, and reads the answer to its end.
func (m *maker) ask(ctx context.Context, method, path, token string, body, into any) error {
	var b io.Reader
	switch body := body.(type) {
	case nil:
	case []byte:
		b = bytes.NewReader(body)
	default:
		text, err := json.Marshal(body)
		if err != nil {
			return err
		}
		b = bytes.NewReader(text)
	}
	r, err := http.NewRequestWithContext(ctx, method, m.Server+"/api/v1"+path, b)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", "application/json")
	res, err := m.client.Do(r)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	switch {
	case err != nil:
		return err
	case res.StatusCode >= 300:
		return fmt.Errorf("%s %s: %s: %s", method, path, res.Status, bytes.TrimSpace(text[:min(len(text), 300)]))
	case into == nil:
		return nil
	}
	return json.Unmarshal(text, into)
}
