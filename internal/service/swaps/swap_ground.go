package swaps

import (
	"cmp"
	"fmt"
	"lantern/internal/api"
	"lantern/internal/core/accept"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"
	"slices"
	"strings"
	"time"
)

// ground is what a recipe is composed from, and the drive that waits for it in a bay, if one does.
func (s *State) ground(p *fleet.Pool, m pool.Member, d *fleet.Drive, plan swap.State) (swap.Ground, *fleet.Drive) {
	g := swap.Ground{Pool: &p.Pool, Slot: m.Slot, Gone: !d.Present, Offers: p.Offers, Now: s.Clock.Now()}
	g.Scrubbed, g.Clean = s.recoveries.LastScrub(p.ID)
	h := s.fleet.Hosts[plan.Host]
	if h == nil {
		return g, nil
	}
	g.Cold, g.Layout = h.Cold, slices.ContainsFunc(plan.Seats, func(x swap.Seat) bool { return x.Partition > 0 })
	for i, x := range plan.Seats {
		if i > 0 && s.fleet.Pools[x.PoolID] != nil {
			g.Others = append(g.Others, swap.OtherPlace{Pool: &s.fleet.Pools[x.PoolID].Pool, Slot: x.Slot, Offers: s.fleet.Pools[x.PoolID].Offers})
		}
		for _, l := range x.Above() {
			if !slices.Contains(g.Layers, l) {
				g.Layers = append(g.Layers, l)
			}
		}
	}
	for _, x := range s.fleet.Pools {
		there, elsewhere := false, false
		x.Everyone(func(group string, m *pool.Member) {
			if group != "" {
				there = there || m.Domain == h.Name
				elsewhere = elsewhere || m.Domain != h.Name
			}
		})
		if there && !elsewhere {
			g.Stops = append(g.Stops, x.Name)
		}
	}
	slices.Sort(g.Stops)
	stock := s.stockFor(plan, h.Name)
	if stock != nil {
		g.Free, g.Waits = stock.BayName(), true
	}
	g.Free = cmp.Or(g.Free, s.freeBay(h, d, true))
	g.Outside = s.freeBay(h, d, false)
	if place, _, ok := s.stock.PlaceOf(&p.Pool, m); ok && !plan.KeepSpare {
		var size drive.Bytes
		for i := range p.Spares {
			if x := &p.Spares[i]; x.Size >= plan.Needs && s.stock.SpareOffered(&p.Pool, place, x) && (g.Spare == "" || x.Size < size) {
				g.Spare, size = x.Slot, x.Size
			}
		}
	}
	return g, stock
}

// freeBay is an empty bay of the drive's own section, the nearest one, or of another enclosure; empty when none is known.
func (s *State) freeBay(h *fleet.Host, d *fleet.Drive, same bool) string {
	if d.Section == "" {
		return ""
	}
	taken := s.fleet.Occupants(h.Name)
	for _, x := range s.fleet.Drives {
		if x.Host == h.Name && x.Present && x.Section == "" {
			return "" // one whose bay nobody knows may be in any
		}
	}
	best, far := "", 0
	for _, e := range s.fleet.EnclosuresOf(h) {
		here := slices.ContainsFunc(e.Sections, func(sec api.SectionReport) bool { return sec.Name == d.Section })
		for _, sec := range e.Sections {
			if same != (sec.Name == d.Section) || !same && here {
				continue
			}
			for _, n := range wire.ToSection(sec).Numbers() {
				a := enclosure.Address{Host: h.Name, Section: sec.Name, Number: n}
				off := max(n-d.Bay, d.Bay-n)
				if taken[a] == nil && !slices.Contains(sec.Occupied, n) && (best == "" || off < far) {
					best, far = a.String(), off
				}
			}
		}
	}
	return best
}

// stockFor is an accepted drive that waits in a bay of the host and fits; the smallest of them.
func (s *State) stockFor(plan swap.State, host string) (best *fleet.Drive) {
	for key, d := range s.fleet.Drives {
		if d.Host != host || !d.Present || d.Accepted.State != string(api.AcceptanceStatePassed) || s.Promised(key, plan.ID) != "" {
			continue
		}
		if why := plan.Unfit(*s.stock.SwapDrive(d)); why != "" {
			continue
		}
		if best == nil || d.Desc.Capacity < best.Desc.Capacity || d.Desc.Capacity == best.Desc.Capacity && d.Desc.Serial < best.Desc.Serial {
			best = d
		}
	}
	return best
}

// AskedOut says whether a drive is out because a swap asked for it.
func (s *State) AskedOut(key string, now time.Time) bool {
	return slices.ContainsFunc(s.OpenSwaps(), func(w *Swap) bool { return w.AskedOut(key, now) })
}

// AskedDown says whether a host is down because a swap asked for it, and not for too long yet.
func (s *State) AskedDown(host string, now time.Time) bool {
	return slices.ContainsFunc(s.OpenSwaps(), func(w *Swap) bool { return w.Host == host && w.AskedDown(now) })
}

// SwapIn says who leads the swap that was begun in a pool.
func (s *State) SwapIn(poolID string) (lead string, begun bool) {
	for _, w := range s.OpenSwaps() {
		if w.PoolID == poolID && !w.BegunAt.IsZero() {
			return w.Lead, true
		}
	}
	return "", false
}

// OnHost says whether a swap is open on a host.
func (s *State) OnHost(host string) bool {
	return slices.ContainsFunc(s.OpenSwaps(), func(w *Swap) bool { return w.Host == host })
}

// WaitsIn says who leads the swap that waits for a drive to be confirmed.
func (s *State) WaitsIn(key string) (lead string, waits bool) {
	for _, w := range s.OpenSwaps() {
		if w.Phase == swap.Confirm && w.New != nil && w.New.Key() == key {
			return w.Lead, true
		}
	}
	return "", false
}

// Leads refuses while a person leads a swap or a campaign.
func (s *State) Leads(person string) error {
	for _, w := range s.OpenSwaps() {
		if w.Lead == person {
			return problem.New(409, "leads-swap", "Take the lead over first: lantern swap lead "+w.Old.Tail()+" --reason …", "%s leads the swap of %s in %s.", person, w.Old.Tail(), w.Pool)
		}
	}
	for _, c := range s.CampaignByID {
		if c.Lead == person && c.State.Open() {
			return problem.New(409, "leads-campaign", "It goes on only with them; let them end or abandon it first.", "%s leads the campaign in %s.", person, c.Pool)
		}
	}
	return nil
}

// Promised says to the swap of which old drive another was promised, if not to this one.
func (s *State) Promised(key, id string) string {
	for _, w := range s.OpenSwaps() {
		if w.ID != id && w.Phase != swap.Planned && (w.New != nil && w.New.Key() == key || w.Early != nil && w.Early.Key() == key) {
			return w.Old.Tail()
		}
	}
	return ""
}

// HostToSwaps tells open swaps that a host went quiet or reports again.
func (s *State) HostToSwaps(b *store.Batch, host string, quiet bool, at time.Time) {
	for _, w := range s.OpenSwaps() {
		if w.Host == host {
			_ = s.Apply(b, w, swap.Event{Kind: swap.HostSeen, At: at, Quiet: quiet})
		}
	}
}

// MovedToSwaps tells open swaps of a new drive that is in another bay than before, though it never seemed to leave.
func (s *State) MovedToSwaps(b *store.Batch, host string, at time.Time) {
	for _, w := range s.OpenSwaps() {
		if w.Host != host || w.New == nil || w.New.Bay == "" {
			continue
		}
		if d := s.fleet.Drives[w.New.Key()]; d != nil && d.Present && d.Host == host && d.BayName() != w.New.Bay {
			_ = s.Apply(b, w, swap.Event{Kind: swap.DriveCame, At: at, Drive: s.stock.SwapDrive(d)})
		}
	}
}

// PoolToSwaps tells the pool's open swap what its pool shows.
func (s *State) PoolToSwaps(b *store.Batch, at time.Time, poolID string) {
	p := s.fleet.Pools[poolID]
	for _, w := range s.OpenSwaps() {
		if p == nil || w.PoolID != poolID && !slices.ContainsFunc(w.Seats, func(x swap.Seat) bool { return x.PoolID == poolID }) {
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
		_ = s.Apply(b, w, e)
	}
	if p != nil {
		s.poolToCampaigns(b, at, p)
	}
}

// seatsView is what all pools of a swap show of it, the worst of each. ok is false while one of them is not there at all.
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
	// What lies on these pools must bear the drive's leaving as well.
	for _, p := range s.fleet.Above(ids) {
		q := p.WithoutDrives(s.fleet.Below, []string{w.Old.Key()})
		left, known := q.DriveMargin(s.fleet.Below)
		views[0].Without, views[0].MarginKnown = min(views[0].Without, left), views[0].MarginKnown && known
		views[0].Lost = append(views[0].Lost, q.LostVolumes()...)
	}
	v, margin = w.Combine(views)
	return v, margin, true
}

// poolView is what a swap looks at in the pool of one of its seats.
func (s *State) poolView(p *fleet.Pool, w *Swap, at swap.Seat) *swap.PoolView {
	m, _, there := p.Slot(at.Slot)
	v := &swap.PoolView{Member: m.State, Drive: m.Drive, Recovering: len(p.Running) > 0}
	key := w.Old.Key()
	if w.New != nil && m.Drive == w.New.Key() {
		key = "" // the old drive has left this place; whether the new one could is asked elsewhere
	}
	v.Without, v.Lost, _ = s.fleet.Without(p, key, at.Slot)
	v.Scrubbed, v.ScrubClean = s.recoveries.LastScrub(p.ID)
	if h := s.fleet.Hosts[p.Reporter]; h != nil && h.Skew > 0 && !v.Scrubbed.IsZero() {
		v.Scrubbed = v.Scrubbed.Add(h.Skew) // its end is told by the host's clock, the swap's beginning by ours
	}
	v.LightOn = s.bays.Lit(w.Old.Bay)
	newest := w.BegunAt.Truncate(time.Second)
	for id, c := range s.recoveries.Courses {
		ours := w.New != nil && c.Report.Drive == w.New.Key()
		mine := ours || c.Report.Slot == at.Slot && c.Report.Kind != recovery.Drain && c.Report.Drive == "" // one of another drive, as a spare that took over, is not
		at := c.Report.StartedAt
		if c.PoolID == p.ID && mine && (at.After(newest) || at.Equal(newest) && id >= v.Recovery) {
			newest, v.Recovery, v.Unrepairable = at, id, c.Report.Unrepairable
		}
	}
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
	key = w.New.Key()
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
	v.Stuck = s.hindrance(p, v)
	for _, n := range s.News() {
		about := n.Pool == p.Name && n.Kind == notice.Recovery || slices.Contains(n.Drives, key)
		if about && n.Open() && n.Opened.After(w.BegunAt) && n.Severity.Gravity() >= health.Replace.Gravity() {
			v.Notices = append(v.Notices, n.Says)
		}
	}
	return v
}

// hindrance says what stands in the way of a recovery that should run and does not.
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

// mattersBeside are what there is to tell of a swap's pool or host now that is not about the old drive: what is grave, and what
// is about a whole section or a part of a shelf, however grave. That a pool fills up is none.
func (s *State) mattersBeside(plan swap.State, now time.Time) (out []string) {
	all := append(s.judging.DriveMatters(func(d *fleet.Drive, at fleet.Place) bool {
		return d.Desc.Key() != plan.Old.Key() && (d.Host == plan.Host || at.Pool != nil && at.Pool.ID == plan.PoolID)
	}), s.bays.Shelves(now)...)
	slices.SortFunc(all, func(a, b notice.Matter) int {
		return cmp.Or(b.Severity.Gravity()-a.Severity.Gravity(), strings.Compare(a.Key, b.Key))
	})
	for _, m := range all {
		elsewhere := m.Kind == notice.Shelf && m.Host != plan.Host
		grave := m.Severity.Gravity() >= health.Replace.Gravity() || m.Kind == notice.Section || m.Kind == notice.Shelf
		if grave && !elsewhere {
			out = append(out, strings.TrimSuffix(m.Says, "."))
		}
	}
	const most = 3
	if more := len(out) - most; more > 0 {
		out = append(out[:most], fmt.Sprintf("and %d more", more))
	}
	return out
}

// situation is what the checks look at.
func (s *State) situation(plan swap.State) swap.Situation {
	now := s.Clock.Now()
	x := swap.Situation{Plan: plan, Now: now}
	if h := s.fleet.Hosts[plan.Host]; h == nil || s.fleet.Late(h, now) {
		x.Host = swap.Told(swap.HostFacts{Late: true})
	} else {
		skew := h.Skew
		if skew.Abs() < s.Clock.AtLeast(0, 3*time.Second) {
			skew = 0 // where time runs fast, the way of a report takes long
		}
		x.PoolSeen, x.Host = h.SeenAt, swap.Told(swap.HostFacts{Skew: skew})
	}
	d := s.fleet.Drives[plan.Old.Key()]
	x.BayKnown = d != nil && d.Section != "" && d.How.Sure()
	verdicts := s.judging.Judge()
	x.Below = s.fleet.Below
	if d != nil {
		if uses, known := s.fleet.OtherUses(d); known {
			x.Uses = swap.Told(uses)
		}
	}
	ids := map[string]bool{}
	seen := len(plan.AllSeats()) > 0 // all pools of the drive
	moving := ""
	for _, at := range plan.AllSeats() {
		f := swap.SeatFacts{Slot: at.Slot}
		if p := s.fleet.Pools[at.PoolID]; p != nil {
			ids[p.ID] = true
			f.Pool, f.Witness, f.Differs = &p.Pool, p.Witness.Source, p.Witness.Differs
			if f.WitnessAt = p.Witness.At; p.Witness.Source != "" && f.WitnessAt.IsZero() {
				f.WitnessAt = p.At // it came with the newest report
			}
			f.Unknown = p.WhyUnknown()
			for _, id := range p.Running {
				moving = string(s.recoveries.Courses[id].Report.Kind)
			}
		} else {
			seen = false
		}
		x.Seats = append(x.Seats, f)
	}
	if seen {
		x.Recovery, x.Above = swap.Told(moving), swap.Told(s.fleet.Above(ids))
	}
	var matters, testing []string
	if p := s.fleet.Pools[plan.PoolID]; p != nil {
		x.Pool, x.PoolSeen = &p.Pool, p.At
		worst := swap.Grave{}
		p.Everyone(func(_ string, m *pool.Member) {
			v := verdicts[m.Drive].Verdict
			other := s.fleet.Drives[m.Drive]
			if other != nil && other != d && v.Gravity() >= health.Replace.Gravity() && v.Gravity() > worst.Verdict.Gravity() {
				worst = swap.Grave{Tail: other.Tail(), Verdict: v}
			}
			if r := s.selftests.Runs[m.Drive]; r != nil && other != nil && other != d && r.EndedAt.IsZero() {
				testing = append(testing, other.Tail())
			}
		})
		x.Gravest, x.Testing = swap.Told(worst), swap.Told(testing)
		if p.Torn {
			matters = append(matters, p.Name+" changed while it was read: what is shown may not fit together")
		}
	}
	x.Matters = swap.Told(append(matters, s.mattersBeside(plan, now)...))
	var neighbours []swap.Neighbour
	for _, p := range s.fleet.Pools {
		here := false
		p.Everyone(func(_ string, m *pool.Member) { here = here || m.Domain == plan.Host })
		if ids[p.ID] || !here {
			continue
		}
		n := swap.Neighbour{Pool: &p.Pool}
		for _, id := range p.Running {
			n.Recovery = string(s.recoveries.Courses[id].Report.Kind)
		}
		neighbours = append(neighbours, n)
	}
	slices.SortFunc(neighbours, func(a, b swap.Neighbour) int { return strings.Compare(a.Pool.Name, b.Pool.Name) })
	x.Neighbours = swap.Told(neighbours)
	if plan.New != nil {
		key := plan.New.Key()
		x.NewVerdict = verdicts[key].Verdict
		if n := s.fleet.Drives[key]; n != nil && !n.Reading.At.IsZero() && n.Blind == "" {
			x.NewPast = accept.Past(fleet.Counts(n))
		}
	}
	at, clean := s.recoveries.LastScrub(plan.PoolID)
	x.Scrub = swap.Told(swap.ScrubFacts{At: at, Clean: clean})
	x.OtherSwap, x.OnHost = swap.Told(""), swap.Told("")
	for _, w := range s.OpenSwaps() {
		switch {
		case w.ID == plan.ID || w.Phase == swap.Planned:
			// A plan touches nothing; who has begun comes first, else who planned first.
		case ids[w.PoolID] || slices.ContainsFunc(w.Seats, func(x swap.Seat) bool { return ids[x.PoolID] }):
			x.OtherSwap = swap.Told(w.Lead)
		case w.Host == plan.Host:
			x.OnHost = swap.Told(w.Pool)
		}
	}
	began := plan.BegunAt
	twin, away := "", []string(nil)
	for key, other := range s.fleet.Drives {
		if key == plan.Old.Key() || d == nil {
			continue
		}
		if other.Tail() == plan.Old.Tail() && other.Present {
			twin = fleet.PlaceWords(other)
		}
		if other.Host == plan.Host && !other.Present && !other.Replaced && !began.IsZero() && other.SeenAt.After(began) {
			if p, m, _ := s.fleet.Member(key); p != nil && m.State != pool.Out {
				away = append(away, fmt.Sprintf("%s of %s", other.Tail(), p.Name))
			}
		}
	}
	slices.Sort(away)
	if d != nil {
		x.Twin, x.Peers = swap.Told(twin), swap.Told(away)
	}
	if stock := s.stockFor(plan, plan.Host); stock != nil {
		x.Stock = stock.Tail() + ", " + fleet.PlaceWords(stock) + ","
	}
	return x
}
