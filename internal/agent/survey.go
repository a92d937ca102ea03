package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/stack"
	"lantern/internal/wire"
)

type named struct {
	desc drive.Description
	err  error
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
	a.seat(&r, found)
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
		d, f.Transport, f.Blind = f.Known, nil, "it does not answer requests for its identity"
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

// claims reports whether a drive of a pool is known as a member of another.
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
