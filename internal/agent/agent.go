package agent

import (
	"cmp"
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"sync/atomic"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
)

// Config is the configuration of an agent. All fields except Past are required.
type Config struct {
	Host     string
	Machine  Machine
	Pools    []pools.Driver
	Client   *api.ClientWithResponses
	Clock    clock.Clock
	Log      *slog.Logger
	Dir      string        // directory for undelivered reports and started orders
	Interval time.Duration // between reports when nothing changes
	ReadEach time.Duration // between readings of a drive
	Look     time.Duration // between looks for a change, in real time
	Wake     bool          // ask drives that are asleep as well
	Version  string        // version of this program, sent with each report; may be empty
}

// Limits for a drive that does not answer: how long others wait for it, and how long it is left alone when it did not
// identify itself.
const (
	patience   = 3 * time.Second
	perAdapter = 8
	askAgain   = time.Minute
	settleFor  = 200 * time.Millisecond
)

// Agent is the agent of one host.
type Agent struct {
	Config
	spool      *spool
	ledger     *ledger
	lanes      lanes
	known      map[string]drive.Description // by path and mark
	naming     map[string]*naming           // drives without an identity yet, by path and mark
	wards      map[string]*ward             // by drive key
	readAt     time.Time
	sentAt     time.Time
	sentState  string
	rhythms    rhythms
	surfaces   *surfaces
	boxes      map[string]*box
	boxesAgain atomic.Bool // a light was switched, or a drive appeared or vanished
	there      string      // the devices at the previous look
	again      atomic.Bool // the next look must read drives after an order
	soon       chan struct{}
	controller *controller
	startedAt  time.Time
	trouble    atomic.Pointer[trouble]
	looks      atomic.Int64 // number of looks begun
}

// lookSoon starts the next look at once, after an order.
func (a *Agent) lookSoon() {
	select {
	case a.soon <- struct{}{}:
	default:
	}
}

// naming is the identification of a drive under way.
type naming struct {
	*errand[named]
	at time.Time // in real time
}

// New makes an agent with its records in c.Dir.
func New(c Config) (*Agent, error) {
	sp, err := openSpool(c.Dir)
	if err != nil {
		return nil, err
	}
	l, err := openLedger(c.Dir)
	if err != nil {
		return nil, err
	}
	su, err := openSurfaces(c.Dir)
	if err != nil {
		return nil, err
	}
	return &Agent{
		Config:     c,
		spool:      sp,
		ledger:     l,
		surfaces:   su,
		lanes:      lanes{width: perAdapter, patience: patience},
		known:      map[string]drive.Description{},
		naming:     map[string]*naming{},
		wards:      map[string]*ward{},
		rhythms:    rhythms{of: map[string]context.CancelFunc{}},
		soon:       make(chan struct{}, 1),
		controller: newController(),

		startedAt: c.Clock.Now(),
	}, nil
}

// Run sends reports and carries out orders until ctx ends.
func (a *Agent) Run(ctx context.Context) error {
	done := make(chan struct{})
	go func() { defer close(done); a.obey(ctx) }()
	go a.keepController(ctx)
	a.awaitController(ctx)
	changes := a.Machine.Changes(ctx)
	for ctx.Err() == nil {
		busy, err := a.look(ctx)
		if err != nil && ctx.Err() == nil {
			a.failed(err)
			a.Log.Warn("report", "host", a.Host, "error", err)
		}
		rest := min(a.Look, a.Clock.AtLeast(a.ReadEach, time.Second), a.Clock.AtLeast(a.Interval, time.Second))
		if busy || err != nil {
			rest = min(rest, time.Second)
		}
		select {
		case <-ctx.Done():
		case <-changes:
			_ = clock.Real{}.Sleep(ctx, min(rest, settleFor)) // related changes are seen together
		case <-a.soon:
		case <-time.After(rest):
		}
	}
	<-done
	a.surfaces.stop()
	return ctx.Err()
}

// Alive waits until the agent has begun a new look: an agent that hangs never does. Without a change it looks at the
// interval Look.
func (a *Agent) Alive() {
	was := a.looks.Load()
	for a.looks.Load() == was {
		time.Sleep(100 * time.Millisecond)
	}
}

// Step looks and reports once, and carries out waiting orders: for a clock that is moved by hand.
func (a *Agent) Step(ctx context.Context) error {
	if _, err := a.look(ctx); err != nil {
		return err
	}
	return a.obeyOnce(ctx, 0)
}

// look sends a report if anything changed, or if it is due. busy is true while a recovery or test is followed closely.
func (a *Agent) look(ctx context.Context) (busy bool, err error) {
	a.looks.Add(1)
	if err := a.flush(ctx); err != nil {
		a.Log.Debug("undelivered reports wait", "count", a.spool.count(), "error", err)
	}
	now := a.Clock.Now()
	report, found, busy, err := a.survey(ctx, now)
	if err != nil {
		return false, err
	}
	interval := a.Clock.AtLeast(a.Interval, time.Second)
	if busy {
		interval = a.Clock.AtLeast(2*time.Second, 500*time.Millisecond)
	}
	all := now.Sub(a.readAt) >= a.ReadEach || a.again.Swap(false)
	fresh := false
	for _, w := range a.wards {
		fresh = fresh || w.fresh != nil || a.followed(w, now)
	}
	if !all && !fresh && fingerprint(report) == a.sentState && now.Sub(a.sentAt) < interval {
		return busy, nil
	}
	if all {
		a.readAt = now
	}
	a.readInto(ctx, &report, found, all)
	report.IntervalSeconds = a.Clock.AtLeast(a.Interval, 5*time.Second).Seconds()
	for i, f := range found {
		report.Drives[i].Busy = a.wards[f.Known.Key()].busy(f.Stat, now)
	}
	report.Refused = a.spool.refused()
	a.sentAt, a.sentState = now, fingerprint(report)
	return busy, a.deliver(ctx, report)
}

// uptime is the time since the machine's boot, and the id of that boot; empty where unknown.
func (a *Agent) uptime() (boot string, since time.Duration) {
	if m, ok := a.Machine.(Timed); ok {
		return m.Uptime()
	}
	return "", 0
}

// Report looks and reads once and gives the report; nothing is sent.
func (a *Agent) Report(ctx context.Context) (api.Report, error) {
	r, found, _, err := a.survey(ctx, a.Clock.Now())
	if err != nil {
		return r, err
	}
	a.readInto(ctx, &r, found, true)
	r.IntervalSeconds = a.Interval.Seconds()
	return r, nil
}

// fingerprint is equal for two reports without a change between them: the progress of a recovery is no change.
func fingerprint(r api.Report) string {
	r.Id, r.At, r.IntervalSeconds, r.BootSeconds = "", time.Time{}, 0, 0
	r.Refused = api.RefusedReports{}
	r.Drives = slices.Clone(r.Drives)
	for i := range r.Drives {
		r.Drives[i].Paths = slices.Clone(r.Drives[i].Paths)
		for k := range r.Drives[i].Paths {
			r.Drives[i].Paths[k].Errors = 0
		}
		r.Drives[i].Reading, r.Drives[i].Busy = api.Reading{}, 0
		u := &r.Drives[i].Surface
		u.DoneBytes, u.RateBytes = 0, 0
	}
	r.Pools = append([]api.PoolReport(nil), r.Pools...)
	for i := range r.Pools {
		r.Pools[i].UsedBytes = 0
		r.Pools[i].Witness.At = time.Time{}
		r.Pools[i].Recoveries = append([]api.RecoveryReport(nil), r.Pools[i].Recoveries...)
		for j := range r.Pools[i].Recoveries {
			rec := &r.Pools[i].Recoveries[j]
			rec.DoneBytes, rec.TodoBytes = 0, 0
		}
	}
	b, _ := json.Marshal(r)
	return string(b)
}

// Backfill sends readings of the past, the oldest first: for each moment, set makes the machine answer as it did then.
// Only a lab can do that.
func (a *Agent) Backfill(ctx context.Context, moments []time.Time, set func(time.Time)) error {
	for _, at := range moments {
		set(at)
		r, found, _, err := a.survey(ctx, at)
		if err != nil {
			return err
		}
		a.readInto(ctx, &r, found, true)
		r.Past, r.IntervalSeconds = true, a.Interval.Seconds()
		r.Pools, r.Enclosures = []api.PoolReport{}, []api.EnclosureReport{}
		for i := range r.Drives {
			r.Drives[i].Reading.Attributes = nil // only the newest raw table is shown
		}
		if err := a.deliverPast(ctx, r); err != nil {
			return err
		}
	}
	return nil
}

// retryBackfill is the pause after a report of the past that could not be sent.
var retryBackfill = time.Second

// deliverPast sends a report of the past, again and again until the service has accepted it: the next ones must come
// after it.
func (a *Agent) deliverPast(ctx context.Context, r api.Report) error {
	err := a.deliver(ctx, r)
	for ctx.Err() == nil && a.spool.count() > 0 { // a report that could not be sent is stored there
		if err != nil {
			a.Log.Warn("a report of the past could not be sent, and will be sent again", "host", a.Host, "at", r.At,
				"error", err)
			_ = clock.Real{}.Sleep(ctx, retryBackfill)
		}
		err = a.flush(ctx)
	}
	return cmp.Or(ctx.Err(), err)
}
