package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/stack"
	"lantern/internal/wire"
)

// ledger records which orders were started and how they ended, so that none is carried out twice, after any restart.
type ledger struct{ dir string }

func openLedger(dir string) (*ledger, error) {
	l := &ledger{dir: filepath.Join(dir, "orders")}
	return l, os.MkdirAll(l.dir, 0o700)
}

// begin records that an order is about to be carried out; if it was started before, its outcome is returned (nil:
// unknown).
func (l *ledger) begin(id string) (before bool, outcome *api.Outcome, err error) {
	b, err := os.ReadFile(l.path(id))
	if errors.Is(err, os.ErrNotExist) {
		return false, nil, WriteWhole(l.path(id), []byte("{}"))
	}
	if err != nil {
		return true, nil, err
	}
	var o api.Outcome
	if json.Unmarshal(b, &o) == nil && o.State != "" {
		outcome = &o
	}
	return true, outcome, nil
}

func (l *ledger) end(id string, o api.Outcome) error {
	b, err := json.Marshal(o)
	if err != nil {
		return err
	}
	return WriteWhole(l.path(id), b)
}

func (l *ledger) path(id string) string {
	return filepath.Join(l.dir, fileName(id))
}

// fileName is the file name of a record, safe for any id.
func fileName(id string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r == '-' {
			return r
		}
		return '_'
	}, id) + ".json"
}

// obey carries out orders until ctx ends.
func (a *Agent) obey(ctx context.Context) {
	pause := 200 * time.Millisecond
	for ctx.Err() == nil {
		if err := a.obeyOnce(ctx, 20); err != nil {
			if ctx.Err() == nil {
				a.Log.Debug("no orders can be taken", "host", a.Host, "error", err)
			}
			_ = clock.Real{}.Sleep(ctx, pause)
			pause = min(2*pause, 10*time.Second)
			continue
		}
		pause = 200 * time.Millisecond
	}
}

// obeyOnce carries out the orders that arrive within a number of seconds.
func (a *Agent) obeyOnce(ctx context.Context, seconds int) error {
	wait, cancel := context.WithTimeout(ctx, time.Duration(2*seconds+5)*time.Second)
	defer cancel()
	res, err := a.Client.TakeOrdersWithResponse(wait, &api.TakeOrdersParams{Wait: seconds})
	if err == nil && res.JSON200 == nil {
		err = problem(res.StatusCode(), res.Body)
	}
	if err != nil {
		return err
	}
	for _, o := range *res.JSON200 {
		a.carryOut(ctx, o)
	}
	return nil
}

// carryOut carries out one order, once, and sends its outcome.
func (a *Agent) carryOut(ctx context.Context, o api.Order) {
	before, outcome, err := a.ledger.begin(o.Id)
	switch {
	case err != nil:
		outcome = &api.Outcome{
			State: api.OutcomeStateFailed,
			Says:  "the host cannot keep its record of orders: " + err.Error(),
		}
	case before && outcome == nil:
		outcome = &api.Outcome{
			State: api.OutcomeStateFailed,
			Says:  "the agent stopped while it carried this out; look at what the pool shows",
		}
	case !before:
		says, err := a.do(ctx, o)
		outcome = &api.Outcome{State: api.OutcomeStateDone, Says: says}
		var no *refusal
		switch {
		case errors.As(err, &no):
			outcome = &api.Outcome{State: api.OutcomeStateRefused, Says: no.Error()}
		case err != nil:
			outcome = &api.Outcome{State: api.OutcomeStateFailed, Says: err.Error()}
		}
		if err := a.ledger.end(o.Id, *outcome); err != nil {
			a.Log.Error("the outcome of an order could not be kept", "order", o.Id, "error", err)
		}
	}
	// The next look follows when the service has the outcome: an earlier reading would count as the state before the
	// order.
	defer a.lookSoon()
	if o.Kind == api.OrderKindSelftest {
		defer a.again.Store(true)
	}
	a.Log.Info("order", "host", a.Host, "kind", o.Kind, "id", o.Id, "outcome", outcome.State, "says", outcome.Says)
	for ctx.Err() == nil {
		res, err := a.Client.ReportOutcomeWithResponse(ctx, o.Id, *outcome)
		if err == nil && res.StatusCode() < 500 {
			return
		}
		_ = clock.Real{}.Sleep(ctx, 500*time.Millisecond)
	}
}

// refusal is the reason why an order was not started: nothing was changed.
type refusal struct{ why string }

func (r *refusal) Error() string { return r.why }

func refuse(format string, args ...any) error { return &refusal{fmt.Sprintf(format, args...)} }

// do carries out an order. Before anything is changed, its time limit and the drive's identity are checked.
func (a *Agent) do(ctx context.Context, o api.Order) (string, error) {
	if now := a.Clock.Now(); now.After(o.Expires) {
		return "", refuse("it came too late: its limit was %s", o.Expires.Format(time.RFC3339))
	}
	switch o.Kind {
	case api.OrderKindLight:
		return a.light(ctx, o)
	case api.OrderKindJoin, api.OrderKindAdmit:
		return a.joinOrAdmit(ctx, o)
	case api.OrderKindLayout:
		return a.layout(ctx, o)
	case api.OrderKindAddress:
		return a.whatIsAt(ctx, o)
	case api.OrderKindSelftest:
		return a.selfTest(ctx, o)
	case api.OrderKindSurface:
		return a.surface(ctx, o)
	case api.OrderKindScrub, api.OrderKindRebalance, api.OrderKindRefill, api.OrderKindDrain, api.OrderKindGrow:
		return a.beginTask(ctx, o)
	case api.OrderKindPriority:
		return askPools(a, func(d pools.Prioritiser) (string, error) {
			return d.Prioritise(ctx, o.Pool, recovery.Priority(o.Priority))
		})
	case api.OrderKindRelease:
		if err := a.holdsPlace(ctx, o); err != nil {
			return "", err
		}
		return askPools(a, func(d pools.Releaser) (string, error) { return d.Release(ctx, o.Pool, o.Slot) })
	case api.OrderKindNudge:
		return askPools(a, func(d pools.Nudger) (string, error) { return d.Nudge(ctx, o.Pool) })
	case api.OrderKindStop:
		return askPools(a, func(d pools.Stopper) (string, error) { return d.Stop(ctx, o.Pool) })
	}
	return "", refuse("this agent does not know orders of kind %q", o.Kind)
}

// selfTest starts or stops a self-test on the drive that the order names.
func (a *Agent) selfTest(ctx context.Context, o api.Order) (string, error) {
	f, d, err := a.find(ctx, wire.ToIdentity(o.Drive))
	if err != nil {
		return "", err
	}
	if f.Transport == nil {
		return "", refuse("it cannot be asked: %s", f.Blind)
	}
	kind := drive.SelfTestKind(o.Test)
	var cmd []byte
	ok := true
	switch f.Protocol {
	case SCSI:
		cmd, ok = drive.SendDiagnostic(kind, !o.On)
	case NVMe:
		cmd, ok = drive.NVMeSelfTest(kind, !o.On)
	default:
		r := drive.StopSelfTest
		if o.On {
			r, ok = drive.StartSelfTest(kind)
		}
		cmd = drive.EncodePassThrough(r, false)
	}
	switch {
	case !ok:
		return "", refuse("%s has no %s self-test", d.Tail(), o.Test)
	case o.On && !a.Wake && !o.Wake && sleeping(ctx, f):
		return "", refuse("it is asleep, and nobody said that it may be woken")
	}
	ctx, cancel := context.WithTimeout(ctx, commandLimit)
	defer cancel()
	if kind == drive.SelfTestSelective && o.On {
		span := drive.EncodeSelective(uint64(o.FirstLba), uint64(o.LastLba))
		if _, err := f.Transport.Execute(ctx, drive.EncodePassThroughOut(drive.SmartWriteSelective), span); err != nil {
			return "", fmt.Errorf("the drive refused the span: %w", err)
		}
	}
	if _, err := f.Transport.Execute(ctx, cmd, nil); err != nil {
		return "", fmt.Errorf("the drive refused it: %w", err)
	}
	a.again.Store(true) // its result is read from the drive itself
	return map[bool]string{true: "the drive accepted it", false: "the drive was told to stop"}[o.On], nil
}

// find gives the drive with an identity now, as read from the devices (R2).
func (a *Agent) find(ctx context.Context, want drive.Identity) (Found, drive.Description, error) {
	found, err := a.Machine.Drives(ctx)
	if err != nil {
		return Found{}, drive.Description{}, err
	}
	// All are asked in parallel, so that a drive that hangs does not hide the one that is meant.
	asked := make([]*errand[named], len(found))
	for i, f := range found {
		asked[i] = send(&a.lanes, f.Adapter, func() named {
			d, err := identify(ctx, f)
			return named{d, err}
		})
	}
	for i, f := range found {
		<-asked[i].over
		if !asked[i].ended() || asked[i].out.err != nil || asked[i].out.desc.Key() != want.Key() {
			continue
		}
		d := asked[i].out.desc
		if why := want.Differs(d.Identity); why != "" {
			return f, d, refuse("the drive is not the one that was meant: %s", why)
		}
		return f, d, nil
	}
	return Found{}, drive.Description{}, refuse(
		"no drive on this host answers as %s serial %s",
		want.Model,
		want.Serial,
	)
}

// resolve finds the drive of an order and the device on it that is to be used, and checks that it may be written to:
// large enough, and blank (R3). Until release is called, its path cannot be reused for another device; the identity was
// read again after that was ensured (R2).
func (a *Agent) resolve(ctx context.Context, o api.Order) (t pools.Target, release func(), err error) {
	f, d, release, err := a.hold(ctx, wire.ToIdentity(o.Drive))
	if err != nil {
		return t, nil, err
	}
	t = pools.Target{Path: f.Path, Key: d.Key(), Size: d.Capacity}
	holds := carries(f, f.Holds)
	if o.Spare {
		holds = a.spareOf(ctx, f, o.Pool, d.Key())
	}
	if o.Partition > 0 || len(o.Layers) > 0 {
		at, err := a.placesNow(ctx, f, d.Key())
		if err == nil {
			t, holds, err = a.onDrive(at, d.Key(), o)
		}
		if err != nil {
			release()
			return t, nil, err
		}
	}
	why := ""
	switch {
	case t.Size < drive.Bytes(o.NeedsBytes):
		why = fmt.Sprintf("too small by %d bytes: %d, and %d are needed", o.NeedsBytes-int64(t.Size), t.Size, o.NeedsBytes)
	case holds != "":
		why = holds
	default:
		return t, release, nil
	}
	release()
	return t, nil, refuse("%s", why)
}

// spareOf says why a drive is not an idle spare of only this pool now; empty when it is.
func (a *Agent) spareOf(ctx context.Context, f Found, id, key string) string {
	at, err := a.placesNow(ctx, f, key)
	if err != nil {
		return "whether it stands by is not known: " + err.Error()
	}
	standing, others := false, 0
	for _, snap := range a.snapshots(ctx, at) {
		snap.Pool.Everyone(func(_ string, m *pool.Member) {
			if !m.On(key) {
				return
			}
			if snap.Pool.ID == id && m.State == pool.Standby && m.Drive == key && m.Partition == 0 &&
				len(m.Layers) == 0 {
				standing = true
			} else {
				others++
			}
		})
	}
	switch {
	case f.ReadOnly:
		return "it is read-only on its host"
	case others > 0:
		return "it is a member somewhere, not only a spare"
	case !standing:
		return "it does not stand by in that pool any more"
	}
	return ""
}

// onDrive finds the device on a drive that is to become a member, and says why it must not be written to; empty when it
// is blank.
func (a *Agent) onDrive(at *places, key string, o api.Order) (t pools.Target, holds string, err error) {
	x, err := at.layerOn(key, o.Partition, append([]string{}, o.Layers...))
	if err != nil {
		return t, "", err
	}
	t = pools.Target{Path: "/dev/" + x.Name, Key: key, Size: x.Bytes}
	m, ok := a.Machine.(Stacked)
	if !ok {
		return t, "what is on it is not known", nil
	}
	what, read := m.Contents(x.Name)
	if x.Kind == stack.Crypt && len(what) == 1 && what[0] == drive.Something {
		what = nil // a new encrypted volume does not read as zeros; it was opened on a blank drive, for this purpose
	}
	return t, carries(Found{Looked: read}, what), nil
}

// hold finds the drive with an identity and pins its path until release is called; the identity was read again after
// that (R2).
func (a *Agent) hold(
	ctx context.Context,
	want drive.Identity,
) (f Found, d drive.Description, release func(), err error) {
	f, d, err = a.find(ctx, want)
	if err != nil {
		return f, d, nil, err
	}
	release = func() {}
	if f.Pin != nil {
		if f, release, err = f.Pin(); err != nil {
			return f, d, nil, refuse("it left while it was looked at: %v", err)
		}
		if d, err = identify(ctx, f); err != nil {
			release()
			return f, d, nil, refuse("it does not say who it is any more: %v", err)
		}
	}
	if why := want.Differs(d.Identity); why != "" {
		release()
		return f, d, nil, refuse("the drive is not the one that was meant: %s", why)
	}
	return f, d, release, nil
}

// layout creates the partitions of the old drive on a blank one (R3: its label tail was typed for that).
func (a *Agent) layout(ctx context.Context, o api.Order) (string, error) {
	t, err := wire.ToPartitionTable(o.Layout)
	if err != nil {
		return "", refuse("%v", err)
	}
	f, _, release, err := a.hold(ctx, wire.ToIdentity(o.Drive))
	if err != nil {
		return "", err
	}
	defer release()
	if why := carries(f, f.Holds); why != "" {
		return "", refuse("%s", why)
	}
	if f.Partition == nil {
		return "", refuse("this host cannot write a partition table to it")
	}
	defer a.again.Store(true)
	return f.Partition(t)
}
