package agent

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/oklog/ulid/v2"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/recovery"
	"lantern/internal/wire"
)

// Config is what an agent needs. All fields are required but for Past.
type Config struct {
	Host     string
	Machine  Machine
	Pools    []pools.Driver
	Client   *api.ClientWithResponses
	Clock    clock.Clock
	Log      *slog.Logger
	Dir      string        // where undelivered reports and orders begun are kept
	Interval time.Duration // between reports when nothing changes
	ReadEach time.Duration // between readings of a drive
	Look     time.Duration // between looks for a change, in real time
}

// Agent is one host's.
type Agent struct {
	Config
	spool     *spool
	ledger    *ledger
	known     map[string]drive.Description // by path and mark
	stats     map[string]*ioStat           // by drive key
	blind     map[string]string            // why the newest reading of a drive told nothing, by its key
	readAt    time.Time
	sentAt    time.Time
	sentState string
}

// New makes an agent whose records are in c.Dir.
func New(c Config) (*Agent, error) {
	sp, err := openSpool(c.Dir)
	if err != nil {
		return nil, err
	}
	l, err := openLedger(c.Dir)
	if err != nil {
		return nil, err
	}
	return &Agent{Config: c, spool: sp, ledger: l, known: map[string]drive.Description{}, stats: map[string]*ioStat{}, blind: map[string]string{}}, nil
}

// Run reports and obeys until ctx ends.
func (a *Agent) Run(ctx context.Context) error {
	done := make(chan struct{})
	go func() { defer close(done); a.obey(ctx) }()
	for ctx.Err() == nil {
		if err := a.look(ctx); err != nil && ctx.Err() == nil {
			a.Log.Warn("report", "host", a.Host, "error", err)
		}
		_ = clock.Real{}.Sleep(ctx, a.Look)
	}
	<-done
	return ctx.Err()
}

// look reports if anything changed, or if it is time.
func (a *Agent) look(ctx context.Context) error {
	if err := a.flush(ctx); err != nil {
		a.Log.Debug("undelivered reports wait", "count", a.spool.count(), "error", err)
	}
	now := a.Clock.Now()
	report, found, busy, err := a.survey(ctx, now)
	if err != nil {
		return err
	}
	state := fingerprint(report)
	interval := a.Clock.AtLeast(a.Interval, time.Second)
	if busy {
		interval = a.Clock.AtLeast(2*time.Second, 500*time.Millisecond)
	}
	read := now.Sub(a.readAt) >= a.ReadEach
	if !read && state == a.sentState && now.Sub(a.sentAt) < interval {
		return nil
	}
	if read {
		a.readInto(ctx, &report, found)
		a.readAt = now
	} else {
		a.readNew(ctx, &report, found)
	}
	report.IntervalSeconds = a.Clock.AtLeast(a.Interval, 5*time.Second).Seconds()
	a.sentAt, a.sentState = now, state
	return a.deliver(ctx, report)
}

// Report looks and reads once and gives what would be told; nothing is sent.
func (a *Agent) Report(ctx context.Context) (api.Report, error) {
	r, found, _, err := a.survey(ctx, a.Clock.Now())
	if err != nil {
		return r, err
	}
	a.readInto(ctx, &r, found)
	r.IntervalSeconds = a.Interval.Seconds()
	return r, nil
}

// survey lists everything that is there now, without readings. found is in the order of the report's drives.
func (a *Agent) survey(ctx context.Context, now time.Time) (r api.Report, found []Found, busy bool, err error) {
	r = api.Report{Id: ulid.Make().String(), Host: a.Host, At: now, Drives: []api.DriveReport{},
		Enclosures: []api.EnclosureReport{}, Pools: []api.PoolReport{}}
	all, err := a.Machine.Drives(ctx)
	if err != nil {
		return r, nil, false, fmt.Errorf("list drives: %w", err)
	}
	keys := map[string]string{}
	fresh := map[string]drive.Description{}
	for _, f := range all {
		d, ok := a.known[f.Path+"\x00"+f.Mark]
		if !ok {
			if d, err = identify(ctx, f); err != nil {
				a.Log.Warn("a drive does not tell who it is", "host", a.Host, "path", f.Path, "error", err)
				if f.Known.Key() == "" {
					continue
				}
				// What the kernel keeps of it still names it; nothing is ever written on the strength of that (R2).
				d, f.Transport, f.Blind = f.Known, nil, "it cannot be asked: "+err.Error()
			}
		}
		if f.Blind == "" || f.Known.Key() != d.Key() {
			fresh[f.Path+"\x00"+f.Mark] = d // one that could not be asked is asked again
		}
		keys[f.Path] = d.Key()
		dr := wire.Description(d)
		dr.Path, dr.Section, dr.Bay, dr.Holds, dr.Blind = f.Path, f.Section, f.Bay, f.Holds, cmp.Or(f.Blind, a.blind[d.Key()])
		r.Drives = append(r.Drives, dr)
		found = append(found, f)
	}
	a.known = fresh
	enclosures, err := a.Machine.Enclosures(ctx)
	if err != nil {
		return r, nil, false, fmt.Errorf("look at enclosures: %w", err)
	}
	for _, e := range enclosures {
		r.Enclosures = append(r.Enclosures, wire.Enclosure(e.Layout, e.Lit))
	}
	for _, d := range a.Pools {
		snaps, err := d.Pools(ctx, func(path string) string { return keys[path] })
		if err != nil {
			// One pool system's trouble costs its own pools their state, nothing more.
			a.Log.Warn("a pool system does not answer", "host", a.Host, "error", err)
		}
		for _, s := range snaps {
			r.Pools = append(r.Pools, wire.Pool(s.Pool, s.Recoveries))
			for _, rec := range s.Recoveries {
				busy = busy || rec.State == recovery.Running
			}
		}
	}
	return r, found, busy, nil
}

// fingerprint is equal for two reports between which nothing happened: the progress of a recovery is no happening.
func fingerprint(r api.Report) string {
	r.Id, r.At = "", time.Time{}
	r.Pools = append([]api.PoolReport(nil), r.Pools...)
	for i := range r.Pools {
		r.Pools[i].UsedBytes = 0
		r.Pools[i].Recoveries = append([]api.RecoveryReport(nil), r.Pools[i].Recoveries...)
		for j := range r.Pools[i].Recoveries {
			rec := &r.Pools[i].Recoveries[j]
			rec.DoneBytes, rec.TodoBytes = 0, 0
		}
	}
	b, _ := json.Marshal(r)
	return string(b)
}

func (a *Agent) readInto(ctx context.Context, r *api.Report, found []Found) {
	for i, f := range found {
		a.readOne(ctx, r, i, f)
	}
}

// readNew reads only drives that were never read: a new drive is known from its first report on.
func (a *Agent) readNew(ctx context.Context, r *api.Report, found []Found) {
	for i, f := range found {
		if a.stats[wire.ToIdentity(r.Drives[i].Identity).Key()] == nil {
			a.readOne(ctx, r, i, f)
		}
	}
}

func (a *Agent) readOne(ctx context.Context, r *api.Report, i int, f Found) {
	d := &r.Drives[i]
	key := wire.ToIdentity(d.Identity).Key()
	last := a.stats[key]
	if last == nil {
		last = &ioStat{}
		a.stats[key] = last
	}
	var why string
	d.Reading, why = read(ctx, f, last, r.At)
	d.Blind, a.blind[key] = why, why
}

// Backfill reports readings of the past, the oldest first: for each moment, set makes the machine answer as it did then.
// Only a lab can do that.
func (a *Agent) Backfill(ctx context.Context, moments []time.Time, set func(time.Time)) error {
	for _, at := range moments {
		set(at)
		r, found, _, err := a.survey(ctx, at)
		if err != nil {
			return err
		}
		a.readInto(ctx, &r, found)
		r.Past, r.IntervalSeconds = true, a.Interval.Seconds()
		r.Pools, r.Enclosures = []api.PoolReport{}, []api.EnclosureReport{}
		for i := range r.Drives {
			r.Drives[i].Reading.Attributes = nil // only the newest raw table is shown
		}
		if err := a.deliver(ctx, r); err != nil {
			return err
		}
	}
	return nil
}

// deliver sends a report, or keeps it for later.
func (a *Agent) deliver(ctx context.Context, r api.Report) error {
	if a.spool.count() == 0 {
		err := a.send(ctx, r)
		if err == nil {
			return nil
		}
		if saved := a.spool.put(r); saved != nil {
			return errors.Join(err, saved)
		}
		return err
	}
	return a.spool.put(r)
}

// flush sends what was kept, the oldest first.
func (a *Agent) flush(ctx context.Context) error {
	for {
		r, name, err := a.spool.oldest()
		if err != nil || name == "" {
			return err
		}
		if err := a.send(ctx, r); err != nil {
			return err
		}
		if err := a.spool.drop(name); err != nil {
			return err
		}
	}
}

func (a *Agent) send(ctx context.Context, r api.Report) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	res, err := a.Client.PushReportWithResponse(ctx, r)
	if err != nil {
		return err
	}
	switch {
	case res.StatusCode() == 204:
		return nil
	case res.StatusCode() == 409:
		return nil // it was taken before: the answer was lost, not the report
	}
	return problem(res.StatusCode(), res.Body)
}

func problem(status int, body []byte) error {
	var p api.Problem
	if json.Unmarshal(body, &p) == nil && p.Title != "" {
		return fmt.Errorf("%s %s (%d)", p.Title, p.Detail, status)
	}
	return fmt.Errorf("the service answered %d", status)
}
