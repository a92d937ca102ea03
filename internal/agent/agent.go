package agent

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/oklog/ulid/v2"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/stack"
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
	Wake     bool          // ask drives that are asleep as well
	Version  string        // of this program, told with each report; may be empty
}

// What a drive that does not answer costs: so long are others made to wait for it, and so long is it left alone when it
// did not say who it is.
const (
	patience   = 3 * time.Second
	perAdapter = 8
	askAgain   = time.Minute
	settleFor  = 200 * time.Millisecond
)

// Agent is one host's.
type Agent struct {
	Config
	spool      *spool
	ledger     *ledger
	lanes      lanes
	known      map[string]drive.Description // by path and mark
	naming     map[string]*naming           // drives that have not said who they are, by path and mark
	wards      map[string]*ward             // by drive key
	readAt     time.Time
	sentAt     time.Time
	sentState  string
	rhythms    rhythms
	surfaces   *surfaces
	boxes      map[string]*box
	boxesAgain atomic.Bool // a light was switched, or a drive came or left
	there      string      // the devices that were there at the look before
	again      atomic.Bool // something was ordered that the next look should read
	soon       chan struct{}
	startedAt  time.Time
	trouble    atomic.Pointer[trouble]
	looks      atomic.Int64 // how many were begun
}

// lookSoon makes the next look come at once: something was ordered.
func (a *Agent) lookSoon() {
	select {
	case a.soon <- struct{}{}:
	default:
	}
}

// naming is a drive being asked who it is.
type naming struct {
	*errand[named]
	at time.Time // in real time
}

type named struct {
	desc drive.Description
	err  error
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
	su, err := openSurfaces(c.Dir)
	if err != nil {
		return nil, err
	}
	return &Agent{
		Config:   c,
		spool:    sp,
		ledger:   l,
		surfaces: su,
		lanes:    lanes{width: perAdapter, patience: patience},
		known:    map[string]drive.Description{},
		naming:   map[string]*naming{},
		wards:    map[string]*ward{},
		rhythms:  rhythms{of: map[string]context.CancelFunc{}},
		soon:     make(chan struct{}, 1),

		startedAt: c.Clock.Now(),
	}, nil
}

// Run reports and obeys until ctx ends.
func (a *Agent) Run(ctx context.Context) error {
	done := make(chan struct{})
	go func() { defer close(done); a.obey(ctx) }()
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
			_ = clock.Real{}.Sleep(ctx, min(rest, settleFor)) // what belongs together is seen together
		case <-a.soon:
		case <-time.After(rest):
		}
	}
	<-done
	a.surfaces.stop()
	return ctx.Err()
}

// Alive waits until the agent has begun a look that it had not begun before: an agent that hangs never does. Without a
// change it looks as often as Look says.
func (a *Agent) Alive() {
	was := a.looks.Load()
	for a.looks.Load() == was {
		time.Sleep(100 * time.Millisecond)
	}
}

// Step looks and reports once, and carries out what is ordered by then: for a clock that is moved by hand.
func (a *Agent) Step(ctx context.Context) error {
	if _, err := a.look(ctx); err != nil {
		return err
	}
	return a.obeyOnce(ctx, 0)
}

// look reports if anything changed, or if it is time. busy is true while something moves that is followed closely.
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

// uptime is how long the machine has run, and which run that is; nothing where it cannot tell.
func (a *Agent) uptime() (boot string, since time.Duration) {
	if m, ok := a.Machine.(Timed); ok {
		return m.Uptime()
	}
	return "", 0
}

// Report looks and reads once and gives what would be told; nothing is sent.
func (a *Agent) Report(ctx context.Context) (api.Report, error) {
	r, found, _, err := a.survey(ctx, a.Clock.Now())
	if err != nil {
		return r, err
	}
	a.readInto(ctx, &r, found, true)
	r.IntervalSeconds = a.Interval.Seconds()
	return r, nil
}

// survey lists everything that is there now, without readings. found is in the order of the report's drives.
func (a *Agent) survey(ctx context.Context, now time.Time) (r api.Report, found []Found, busy bool, err error) {
	r = api.Report{Id: ulid.Make().String(), Host: a.Host, At: now, Drives: []api.DriveReport{},
		Enclosures: []api.EnclosureReport{}, Pools: []api.PoolReport{}}
	boot, since := a.uptime()
	r.Boot, r.BootSeconds = boot, since.Seconds()
	all, err := a.Machine.Drives(ctx)
	if err != nil {
		return r, nil, false, fmt.Errorf("list drives: %w", err)
	}
	for _, w := range a.wards {
		w.collect()
	}
	a.name(ctx, all)
	a.seated(all)
	boxes := a.lookAtBoxes(ctx)
	fresh := map[string]drive.Description{}
	wards := map[string]*ward{}
	var listed []Found
	for _, f := range all {
		if f.Nameless != "" {
			r.Nameless = append(
				r.Nameless,
				api.NamelessDrive{Path: f.Path, CapacityBytes: int64(f.Known.Capacity), Says: f.Nameless},
			)
			continue
		}
		if !a.named(&f, &r, fresh) {
			continue
		}
		f.Holds = a.surfaces.pattern(f)
		listed = append(listed, f)
	}
	places, err := a.placesOf(listed)
	if err != nil {
		return r, nil, false, fmt.Errorf("look at what is on the drives: %w", err)
	}
	for _, f := range listed {
		places.keys[filepath.Base(f.Path)] = f.Known.Key()
	}
	snaps := a.snapshots(ctx, places)
	listed, paths := onePerDrive(listed, places.graph.FailedPaths())
	for _, f := range listed {
		d := f.Known
		w := a.wards[d.Key()]
		if w == nil {
			w = &ward{}
		}
		wards[d.Key()] = w
		if f.Transport != nil {
			fresh[f.Path+"\x00"+f.Mark] = d
		}
		dr, active := a.reportDrive(f, w, places, paths[d.Key()], boxes)
		busy = busy || active
		r.Drives = append(r.Drives, dr)
		found = append(found, f)
	}
	a.goOnSurfaces(found)
	a.known, a.wards = fresh, wards
	for _, b := range boxes {
		r.Enclosures = append(r.Enclosures, b.report())
	}
	enclosures, err := a.Machine.Enclosures(ctx)
	if err != nil {
		return r, nil, false, fmt.Errorf("look at enclosures: %w", err)
	}
	for _, e := range enclosures {
		r.Enclosures = append(r.Enclosures, wire.Enclosure(e.Layout, e.Lit))
	}
	busy = reportPools(&r, snaps, now) || busy
	return r, found, busy, nil
}

// seated notices that other drives are in the slots than before: what an enclosure said of them is not true any more.
func (a *Agent) seated(all []Found) {
	there := ""
	for _, f := range all {
		there += f.Path + "\x00" + f.Mark + "\x00" + f.Address + "\n"
	}
	if there != a.there {
		a.boxesAgain.Store(true)
		a.there = there
	}
}

// named fills in who a drive is. It returns false while nothing is known of it; it is asked again later.
func (a *Agent) named(f *Found, r *api.Report, fresh map[string]drive.Description) bool {
	at := f.Path + "\x00" + f.Mark
	d, known := a.known[at]
	n := a.naming[at]
	switch {
	case known:
		fresh[at] = d
	case f.Transport == nil:
		d = f.Known // as long as it cannot be asked
	case n.ended() && n.out.err == nil:
		d, fresh[at] = n.out.desc, n.out.desc
		delete(a.naming, at)
		delete(a.wards, d.Key()) // what was said of it while nobody knew who it is counts no more: it is read now
	case f.Known.Key() == "":
		if n.ended() {
			r.Nameless = append(
				r.Nameless,
				api.NamelessDrive{Path: f.Path, CapacityBytes: int64(f.Known.Capacity), Says: n.out.err.Error()},
			)
		}
		return false
	case n.ended():
		// What the kernel keeps of it still names it; nothing is ever written on the strength of that (R2).
		d, f.Transport, f.Blind = f.Known, nil, "it cannot be asked: "+n.out.err.Error()
	default:
		d, f.Transport, f.Blind = f.Known, nil, "it was asked who it is and does not answer"
	}
	f.Known = d
	return true
}

// reportDrive is what is known of one drive without reading it; busy while its surface is tested.
func (a *Agent) reportDrive(
	f Found,
	w *ward,
	at *places,
	paths []api.DrivePath,
	boxes []*box,
) (dr api.DriveReport, busy bool) {
	d := f.Known
	dr = wire.Description(d)
	dr.Path, dr.Section, dr.Bay, dr.Holds, dr.Names, dr.Blind = f.Path, f.Section, f.Bay, f.Holds, f.Names, cmp.Or(
		f.Blind,
		w.blind,
	)
	dr.Looked, dr.Paths, dr.Layout = f.Looked, paths, table(f.Layout)
	dr.Uses = at.uses(at.disksOf(d.Key()))
	for _, b := range boxes {
		if section, bay, ok := b.where(f.Address); ok {
			dr.Section, dr.Bay = section, bay
		}
	}
	dr.Port, dr.Rhythm = f.Port, a.rhythms.on(d.Key())
	if su, active := a.surfaces.report(d.Key()); su.Id != "" {
		dr.Surface = su
		if busy = busy || active; active { // it is we who hold it, and our pattern that is there
			dr.Uses = slices.DeleteFunc(dr.Uses, func(u api.Use) bool {
				return len(u.Chain) == 0 && (u.Kind == stack.Held || u.Kind == drive.Something)
			})
		}
	}
	return dr, busy
}

// reportPools puts in what the pool systems say, and tells whether a recovery runs.
func reportPools(r *api.Report, snaps []pools.Snapshot, now time.Time) (busy bool) {
	for _, s := range snaps {
		p := wire.Pool(s.Pool, s.Recoveries)
		p.Priority, p.Inconsistent, p.Waits = string(s.Priority), s.Inconsistent, s.Waits
		for _, o := range s.Offers {
			p.Offers = append(p.Offers, string(o))
		}
		if s.Witness != nil {
			p.Witness = api.Witness{
				Source:  s.Witness.Source,
				At:      now,
				Differs: s.Witness.Differs,
				Unread:  s.Witness.Unread,
			}
		}
		r.Pools = append(r.Pools, p)
		for _, rec := range s.Recoveries {
			busy = busy || rec.State == recovery.Running
		}
	}
	return busy
}

// snapshots asks all pool systems what is there. What a program says of a drive that is a member of a pool which the
// kernel knows is not believed.
func (a *Agent) snapshots(ctx context.Context, at *places) (out []pools.Snapshot) {
	claimed := map[string]string{}
	for _, d := range a.Pools {
		snaps, err := d.Pools(ctx, at.key)
		if err != nil {
			// One pool system's trouble costs its own pools their state, nothing more.
			a.Log.Warn("a pool system does not answer", "host", a.Host, "error", err)
		}
		outside := d.Trust() != pools.TrustKernel
		for _, s := range snaps {
			if outside && claims(s.Pool, claimed) {
				a.Log.Warn(
					"a pool program says that a drive is its own that is a member of a pool the kernel knows",
					"host",
					a.Host,
					"pool",
					s.Pool.Name,
				)
				s = pools.Blind(s.Pool)
			}
			at.take(&s)
			if outside && len(s.Offers) > 0 && !s.Inconsistent {
				s.Witness = at.signatures(a.Host, &s.Pool)
			}
			s.Pool.Watched = s.Pool.Watched || len(s.Offers) == 0
			s.Pool.Everyone(func(_ string, m *pool.Member) { claimed[m.Drive] = s.Pool.ID })
			out = append(out, s)
		}
	}
	return out
}

// claims says whether a drive of a pool is known as a member of another.
func claims(p pool.Pool, claimed map[string]string) (yes bool) {
	p.Everyone(func(_ string, m *pool.Member) {
		other := claimed[m.Drive]
		yes = yes || m.Drive != "" && other != "" && other != p.ID
	})
	return yes
}

// name asks the drives nobody knows who they are, side by side. One that did not say it is left alone for a while.
func (a *Agent) name(ctx context.Context, all []Found) {
	here := map[string]bool{}
	var sent []*naming
	now := time.Now()
	for _, f := range all {
		at := f.Path + "\x00" + f.Mark
		here[at] = true
		if n := a.naming[at]; n != nil && (!n.ended() || now.Sub(n.at) < askAgain) {
			continue
		}
		if _, known := a.known[at]; known || f.Transport == nil {
			continue
		}
		n := &naming{at: now, errand: send(&a.lanes, f.Adapter, func() named {
			d, err := identify(context.WithoutCancel(ctx), f)
			if err == nil && d.Key() == "" {
				err = errors.New("it has neither a WWN nor a serial")
			}
			return named{d, err}
		})}
		a.naming[at] = n
		sent = append(sent, n)
	}
	for _, n := range sent {
		<-n.over
	}
	for at := range a.naming {
		if !here[at] {
			delete(a.naming, at)
		} else if n := a.naming[at]; n.ended() && n.out.err != nil && n.at.Equal(now) {
			path, _, _ := strings.Cut(at, "\x00")
			a.Log.Warn("a drive does not tell who it is", "host", a.Host, "path", path, "error", n.out.err)
		}
	}
}

// fingerprint is equal for two reports between which nothing happened: the progress of a recovery is no happening.
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

// Backfill reports readings of the past, the oldest first: for each moment, set makes the machine answer as it did
// then. Only a lab can do that.
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
		if err := a.deliver(ctx, r); err != nil {
			return err
		}
	}
	return nil
}
