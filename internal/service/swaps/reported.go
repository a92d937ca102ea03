package swaps

import (
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/orders"
	"lantern/internal/store"
)

// Take passes the relevant changes of a report to the swaps: its host, drives that appeared, vanished or moved, and
// pools (R5).
func (s *State) Take(c *fleet.Change) {
	b, from, at := c.Batch, c.Host.Name, c.Report.At
	if c.Back {
		s.hostToSwaps(b, from, false, at)
	}
	for _, key := range c.Gone {
		d := s.fleet.Drives[key]
		if d == nil || d.Host != from {
			continue
		}
		margin := pool.Margin(0)
		if p, _, _ := s.fleet.Member(key); p != nil {
			margin, _ = s.fleet.Margin(p)
		}
		s.toSwaps(b, from, d, swap.Event{Kind: swap.DriveGone, At: at, Margin: margin})
	}
	for _, key := range c.Came {
		s.toSwaps(b, from, s.fleet.Drives[key], swap.Event{Kind: swap.DriveCame, At: at})
	}
	s.movedToSwaps(b, from, at)
	for _, p := range c.Report.Pools {
		s.poolToSwaps(b, at, p.Id)
	}
}

// Tick passes hosts that stopped reporting to the swaps.
func (s *State) Tick(t *fleet.Tick) {
	for _, host := range t.Quiet {
		s.hostToSwaps(t.Batch, host, true, t.Now)
	}
}

// Answered records the outcome of an order of a swap or a campaign; ours is false for other orders.
func (s *State) Answered(b *store.Batch, o *orders.Order) (ours bool) {
	done := o.State == api.OrderStateDone
	if w := s.SwapByID[o.SwapID]; w != nil {
		_ = s.apply(
			b,
			w,
			swap.Event{Kind: swap.OrderDone, At: s.Clock.Now(), Order: o.Nth, Done: done, Outcome: o.Says},
		)
	}
	if c := s.CampaignByID[o.SwapID]; c != nil {
		s.keepCampaign(b, c.Answered(s.Clock.Now(), done, o.Says))
	}
	return o.SwapID != ""
}

// hostToSwaps passes to open swaps that a host stopped reporting or reports again.
func (s *State) hostToSwaps(b *store.Batch, host string, quiet bool, at time.Time) {
	for _, w := range s.OpenSwaps() {
		if w.Host == host {
			_ = s.apply(b, w, swap.Event{Kind: swap.HostSeen, At: at, Quiet: quiet})
		}
	}
}

// movedToSwaps passes to open swaps that their new drive is in another bay, although it was never missing.
func (s *State) movedToSwaps(b *store.Batch, host string, at time.Time) {
	for _, w := range s.OpenSwaps() {
		if w.Host != host || w.New == nil || w.New.Bay == "" {
			continue
		}
		if d := s.fleet.Drives[w.New.Key()]; d != nil && d.Present && d.Host == host && d.BayName() != w.New.Bay {
			_ = s.apply(b, w, swap.Event{Kind: swap.DriveCame, At: at, Drive: s.stock.SwapDrive(d)})
		}
	}
}

// poolToSwaps passes the state of a pool to its open swap.
func (s *State) poolToSwaps(b *store.Batch, at time.Time, poolID string) {
	p := s.fleet.Pools[poolID]
	for _, w := range s.OpenSwaps() {
		if p == nil ||
			w.PoolID != poolID && !slices.ContainsFunc(w.Seats, func(x swap.Seat) bool { return x.PoolID == poolID }) {
			continue
		}
		view, margin, ok := s.seatsView(w)
		if !ok {
			continue
		}
		e := swap.Event{Kind: swap.PoolSeen, At: at, Pool: &view, Margin: margin}
		if w.Gated() {
			e.Checks = swap.Gate(s.situation(w.State), w.Phase)
		}
		_ = s.apply(b, w, e)
	}
	if p != nil {
		s.poolToCampaigns(b, at, p)
	}
}

// seatsView merges the views of all pools of a swap, the worst of each value. ok is false while one of them is missing.
func (s *State) seatsView(w *Swap) (v swap.PoolView, margin pool.Margin, ok bool) {
	var views []swap.SeatView
	ids := map[string]bool{}
	for _, x := range w.AllSeats() {
		p := s.fleet.Pools[x.PoolID]
		if p == nil {
			return v, 0, false
		}
		ids[p.ID] = true
		one := swap.SeatView{PoolView: *s.poolView(p, w, x)}
		one.Margin, one.MarginKnown = s.fleet.Margin(p)
		views = append(views, one)
	}
	// The pools built on these pools must also be able to lose the drive.
	for _, p := range s.fleet.Above(ids) {
		q := p.WithoutDrives(s.fleet.Below, []string{w.Old.Key()})
		left, known := q.DriveMargin(s.fleet.Below)
		views[0].Without, views[0].MarginKnown = min(views[0].Without, left), views[0].MarginKnown && known
		views[0].Lost = append(views[0].Lost, q.LostVolumes()...)
	}
	v, margin = w.Combine(views)
	return v, margin, true
}

// poolView is the view of a swap on the pool of one of its seats.
func (s *State) poolView(p *fleet.Pool, w *Swap, at swap.Seat) *swap.PoolView {
	m, _, there := p.Slot(at.Slot)
	v := &swap.PoolView{Member: m.State, Drive: m.Drive, Recovering: len(p.Running) > 0,
		Filling: p.Recovers()}
	key := w.Old.Key()
	if w.New != nil && m.Drive == w.New.Key() {
		key = "" // the old drive has left this place; whether the new one could leave is checked elsewhere
	}
	v.Without, v.Lost, _ = s.fleet.Without(p, key, at.Slot)
	v.Scrubbed, v.ScrubClean = s.recoveries.LastScrub(p.ID)
	if h := s.fleet.Hosts[p.Reporter]; h != nil && h.Skew > h.Shift && !v.Scrubbed.IsZero() {
		// Its end is a time of the host's clock, the swap's beginning one of ours; the remaining difference is added.
		v.Scrubbed = v.Scrubbed.Add(h.Skew - h.Shift)
	}
	v.LightOn = s.bays.Lit(w.Old.Bay)
	s.newestCourse(v, p, w, at)
	v.Drained = !there || m.State == pool.Out
	if len(w.Recipe.Unit) > 0 {
		v.Drained, v.Filled = true, true
		for _, slot := range w.Recipe.Unit {
			x, _, ok := p.Slot(slot)
			v.Filled = v.Filled && x.State == pool.Online
			v.Drained = v.Drained && (!ok || x.State == pool.Out)
		}
	}
	p.Everyone(func(_ string, x *pool.Member) {
		if x.StandsFor == at.Slot {
			v.Spare = x.Slot
		}
	})
	if w.New == nil {
		return v
	}
	s.newView(v, p, w, at)
	v.Stuck = s.hindrance(p, v)
	v.Notices = s.noticesOf(p, w)
	return v
}

// noticesOf are severe notices about this pool's recoveries or the new drive that opened since the swap began.
func (s *State) noticesOf(p *fleet.Pool, w *Swap) (out []string) {
	for _, n := range s.News() {
		about := n.Pool == p.Name && n.Kind == notice.Recovery || slices.Contains(n.Drives, w.New.Key())
		if about && n.Open() && n.Opened.After(w.StartedAt) && n.Severity.Gravity() >= health.Replace.Gravity() {
			out = append(out, n.Says)
		}
	}
	return out
}

// newView is the state of the new drive in this pool.
func (s *State) newView(v *swap.PoolView, p *fleet.Pool, w *Swap, at swap.Seat) {
	key := w.New.Key()
	v.LightOn = v.LightOn || s.bays.Lit(w.New.Bay)
	v.NewVerdict = string(s.judging.Judge()[key].Verdict)
	if d := s.fleet.Drives[key]; d != nil {
		v.NewAccepted = d.Accepted.Words()
	}
	v.Prepared = s.prepared(w.New.Key(), at)
	if x, group, ok := s.stock.NewAt(p, key, at); ok {
		v.New = x.State
		if group == "" && x.State != pool.Standby && x.Slot != at.Slot {
			v.New = pool.Standby
		}
		v.Moving, _, _ = s.fleet.Without(p, key, x.Slot)
	} else {
		for _, id := range p.Running {
			if c := s.recoveries.Courses[id]; c.Report.Drive == key {
				v.New = pool.Recovering // it is filled beside the old one
			}
		}
	}
}

// newestCourse finds the newest recovery of this seat that began after the swap.
func (s *State) newestCourse(v *swap.PoolView, p *fleet.Pool, w *Swap, seat swap.Seat) {
	newest := w.StartedAt.Truncate(time.Second)
	for _, c := range s.recoveries.Of(p.ID) {
		id := c.ID
		ours := w.New != nil && c.Report.Drive == w.New.Key()
		mine := ours ||
			c.Report.Slot == seat.Slot && c.Report.Kind != recovery.Drain &&
				c.Report.Drive == "" // a recovery of another drive, such as a spare that took over, does not count
		at := c.Report.StartedAt
		if mine && (at.After(newest) || at.Equal(newest) && id >= v.Recovery) {
			newest, v.Recovery, v.Unrepairable = at, id, c.Report.Unrepairable
		}
	}
}

// hindrance says what prevents a recovery that should run.
func (s *State) hindrance(p *fleet.Pool, v *swap.PoolView) string {
	margin, known := s.fleet.Margin(p)
	switch {
	case v.New == pool.Online || len(p.Running) > 0:
		return ""
	case p.Waits != "":
		return p.Waits
	case v.New == "":
		return "the pool does not show the new drive as its member"
	case v.New == pool.Faulty || v.New == pool.Missing:
		return "the pool calls the new drive " + string(v.New) + "; abandon, and plan the swap of that one"
	case known && margin < 0:
		return "what it would be filled from is missing"
	}
	return "nothing has begun, and the pool does not say why"
}

// toSwaps passes an observation of a drive to every open swap on a host.
func (s *State) toSwaps(b *store.Batch, hostName string, d *fleet.Drive, e swap.Event) {
	for _, w := range s.OpenSwaps() {
		if w.Host == hostName {
			e.Drive = s.stock.SwapDrive(d)
			e.Drive.Promised = s.Promised(d.Key(), w.ID)
			_ = s.apply(b, w, e) // observations are never refused
		}
	}
}
