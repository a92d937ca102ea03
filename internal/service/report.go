package service

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/swap"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// future is how far ahead of our clock a report may be dated.
const future = 5 * time.Minute

// idsAtHand is how many ids of a host's newest reports are known without a look into the store.
const idsAtHand = 64

var errTaken = problem(409, "used-id", "Nothing needs to be done: it was taken before.", "A report with this id was taken already.")

// TakeReport takes in what an agent says. from is the host whose token came with it.
func (s *Service) TakeReport(from string, r api.Report) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.hosts[from]
	if h == nil || r.Host != from {
		return problem(403, "unknown-host", "Enrol it with: lantern host enrol "+r.Host, "This token is not for a host named %q.", r.Host)
	}
	if r.Id == "" || r.IntervalSeconds <= 0 {
		return problem(422, "bad-report", "Every report has an id and says when the next is due.", "The report is not complete.")
	}
	if now := s.clock.Now(); r.At.After(now.Add(s.clock.AtLeast(future, 10*time.Second))) {
		return problem(422, "bad-clock", "Set the clock of the host.", "The report is dated %s, and it is %s here.", r.At.Format(time.RFC3339), now.Format(time.RFC3339))
	}
	if slices.Contains(h.taken, r.Id) {
		return errTaken
	}

	b := &store.Batch{Once: &store.ReportID{ID: r.Id, Host: from, At: r.At}}
	if h.taken = append(h.taken, r.Id); len(h.taken) > idsAtHand {
		h.taken = slices.Delete(h.taken, 0, idsAtHand/2)
	}
	live := !r.Past && !r.At.Before(h.SeenAt)
	seen := map[string]bool{}
	var came []string
	for _, d := range r.Drives {
		if key := s.takeDrive(b, from, r.At, d, live); key != "" && live {
			seen[key] = true
		}
	}
	if !live {
		return s.commit(b)
	}

	was := map[string]bool{}
	for _, d := range h.report.Drives {
		was[wire.ToIdentity(d.Identity).Key()] = true
	}
	for key := range seen {
		if !was[key] {
			came = append(came, key)
		}
	}
	slices.Sort(came)
	first := h.SeenAt.IsZero()
	back := h.quiet
	h.SeenAt, h.Interval, h.quiet = r.At, r.IntervalSeconds, false
	reported := slices.Clone(r.Pools)
	vanished := s.unreported(from, r.At, h.report.Pools, &r)
	if lasting := withoutReadings(r); !reflect.DeepEqual(lasting, h.report) {
		h.report, h.Report = lasting, document(lasting)
	}
	row := h.Host
	b.Put(&row)
	if first || back {
		s.happened(b, api.EventKindHost, from, from+" reports")
	}
	h.skew = s.clock.Now().Sub(r.At)
	for _, p := range r.Pools {
		s.takePool(from, r.At, p)
	}
	for _, p := range reported {
		s.poolErrors(b, p.Id)
	}
	for _, id := range vanished {
		s.happened(b, api.EventKindPool, id, s.pools[id].Name+" is not reported by "+from+" any more")
	}
	if back {
		s.hostToSwaps(b, from, false, r.At)
	}
	for _, key := range gone(was, seen) {
		s.driveGone(b, from, key)
	}
	for _, key := range came {
		d := s.drives[key]
		if !first {
			s.happened(b, api.EventKindDrive, key, fmt.Sprintf("%s came to %s", d.tail(), placeWords(d)))
		}
		s.toSwaps(b, from, d, swap.Event{Kind: swap.DriveCame, At: r.At})
	}
	s.movedToSwaps(b, from, r.At)
	for _, p := range reported {
		s.takeRecoveries(b, r.At, p)
	}
	s.moved()
	for _, p := range r.Pools {
		s.poolToSwaps(b, r.At, p.Id)
	}
	s.seeLights(b, from, r)
	s.seeRhythms(b, from, r)
	return s.commit(b)
}

// withoutReadings is what is kept of a report to compare the next one with: what is there, whenever it was told.
func withoutReadings(r api.Report) api.Report {
	r.Id, r.At = "", time.Time{}
	r.Drives = slices.Clone(r.Drives)
	for i := range r.Drives {
		r.Drives[i].Reading, r.Drives[i].Busy, r.Drives[i].Rhythm = api.Reading{}, 0, false
		r.Drives[i].Surface = api.SurfaceReport{}
	}
	r.Pools = slices.Clone(r.Pools)
	for i := range r.Pools {
		r.Pools[i].Witness.At = time.Time{}
	}
	return r
}

func gone(was, seen map[string]bool) (keys []string) {
	for key := range was {
		if !seen[key] && key != "" {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys
}

func placeWords(d *disk) string {
	if d.Section == "" {
		return d.Host + ", without a bay"
	}
	return "bay " + d.bay()
}

// takeDrive keeps what a report says of one drive.
func (s *Service) takeDrive(b *store.Batch, from string, at time.Time, r api.DriveReport, live bool) string {
	desc := wire.ToDescription(r)
	key := desc.Key()
	if key == "" {
		return ""
	}
	d := s.drives[key]
	changed := false
	if d == nil {
		d = &disk{record: history.Record{}, facts: facts{FirstAt: at, Desc: desc, Life: map[drive.MetricName]history.Life{}}}
		s.know(key, d)
		changed = true
	}
	d.version++
	if at.Before(d.FirstAt) {
		d.FirstAt, changed = at, true
	}
	if live && s.dropped(from, at, d, r) {
		last, known := d.record["bus_drops"].Last()
		if !known {
			// A moment after the drive's last reading, and before its next, which have the very times of their reports.
			s.keep(b, key, d, d.SeenAt.Add(2*time.Millisecond), map[string]float64{"bus_drops": 0})
		}
		s.keep(b, key, d, at.Add(-time.Millisecond), map[string]float64{"bus_drops": last.Value + 1})
	}
	if live || d.Host == "" {
		section, bay, how := s.placed(from, r, key)
		changed = changed || !d.Present || d.Desc != desc || d.Host != from || d.Section != section || d.Bay != bay || d.How != how ||
			d.Path != r.Path || d.Blind != r.Blind || !slices.Equal(d.Holds, r.Holds) || !slices.Equal(d.Names, r.Names)
		if live {
			d.stay(from, section, bay, at)
		}
		d.Desc, d.Host, d.Section, d.Bay, d.How, d.Path, d.Blind, d.Holds = desc, from, section, bay, how, r.Path, r.Blind, r.Holds
		if live {
			paths := pathsSince(d.Paths, r, at)
			changed = changed || d.Looked != r.Looked || !reflect.DeepEqual(d.Uses, r.Uses) || !reflect.DeepEqual(d.Layout, r.Layout) || len(paths) != len(d.Paths)
			d.Looked, d.Uses, d.Told, d.Paths = r.Looked, r.Uses, r.Looked || len(r.Uses) > 0, paths
			d.Layout = r.Layout
		}
		d.Present, d.SeenAt, d.Names = live, at, r.Names
	} else if d.SeenAt.Before(at) {
		d.SeenAt = at
		changed = true
	}
	if live {
		d.feel(r.Busy, at)
	}
	if rd := r.Reading; !rd.At.IsZero() {
		if now := s.clock.Now(); rd.At.After(now) {
			rd.At = now // its host's clock is ahead: a time that is not here yet would block what comes until then
		}
		rd = believable(rd)
		if len(rd.Metrics) > 0 {
			s.keep(b, key, d, rd.At, rd.Metrics)
		}
		if !rd.At.Before(d.Reading.At) || d.Reading.At.After(s.clock.Now()) {
			before := d.Reading.Attributes
			d.Reading = rd
			d.Reading.Metrics = nil
			s.followTest(b, key, rd)
			if live {
				s.failedAt(b, d)
			}
			if len(rd.Attributes) == 0 {
				d.Reading.Attributes = before // an unreadable or a past page does not wipe out what was known
			}
			changed = true
		}
		for _, p := range rd.Unreadable {
			b.Add(&store.BadPage{Drive: key, At: rd.At, Kind: p.Kind, Why: p.Why, Bytes: p.Bytes})
		}
	}
	if changed {
		b.Put(d.row())
	}
	if live {
		s.toAcceptance(b, key, d, r, at)
	}
	return key
}

// believable is a reading without the values that cannot be; each is kept among its pages that are unreadable.
func believable(rd api.Reading) api.Reading {
	for _, n := range slices.Sorted(maps.Keys(rd.Metrics)) {
		m, known := drive.MetricByName(drive.MetricName(n))
		why := ""
		if known {
			why = m.Implausible(rd.Metrics[n])
		}
		if why == "" {
			continue
		}
		if len(rd.Unreadable) == 0 || rd.Unreadable[len(rd.Unreadable)-1].Kind != "value" {
			rd.Metrics, rd.Unreadable = maps.Clone(rd.Metrics), slices.Clone(rd.Unreadable)
		}
		rd.Unreadable = append(rd.Unreadable, api.BadPage{Kind: "value", Why: n + ": " + why, Bytes: []byte(strconv.FormatFloat(rd.Metrics[n], 'g', -1, 64))})
		delete(rd.Metrics, n)
	}
	return rd
}

// stay notes where a drive is now, if that is somewhere else than before.
func (d *disk) stay(host, section string, bay int, at time.Time) {
	if section == "" {
		return
	}
	place := health.Stay{Bay: host + "/" + section + "/" + strconv.Itoa(bay), From: at}
	n := len(d.Stays)
	if n > 0 && d.Stays[n-1].Bay == place.Bay {
		return
	}
	if n > 0 {
		d.Stays[n-1].To = at
	}
	const most = 100
	d.Stays = append(d.Stays[max(0, n+1-most):], place)
}

// dropFor is how long a drive can be away and have come back by itself; hands take longer.
const dropFor = 10 * time.Minute

// dropped says whether a drive that reports again had left the bus and came back to where it was by itself. While a swap
// waits for a drive to be pulled, hands are at work on that host.
func (s *Service) dropped(from string, at time.Time, d *disk, r api.DriveReport) bool {
	section, bay, _ := s.placed(from, r, d.Desc.Key())
	if d.Present || d.SeenAt.IsZero() || d.Host != from || d.Section != section || d.Bay != bay || at.Sub(d.SeenAt) > dropFor {
		return false
	}
	return !s.work.onHost(from)
}

// poolErrors makes a pool's own counters metrics of its drives, so that a cleared counter does not clear the memory. A
// member whose drive is gone still counts: it is the one that was last seen there.
func (s *Service) poolErrors(b *store.Batch, id string) {
	p := s.pools[id]
	// A moment after the drive's own reading, which may carry the very same time.
	at := p.at.Add(time.Millisecond)
	p.Everyone(func(_ string, m *pool.Member) {
		d := s.drives[m.Drive]
		if d == nil {
			return
		}
		metrics := map[string]float64{"pool_read_errors": float64(m.Errors.Read),
			"pool_write_errors": float64(m.Errors.Write), "pool_checksum_errors": float64(m.Errors.Checksum)}
		same := true
		for n, v := range metrics {
			last, ok := d.record[drive.MetricName(n)].Last()
			same = same && ok && last.Value == v && at.Sub(last.At) < 24*time.Hour
		}
		if same {
			return
		}
		s.keep(b, m.Drive, d, at, metrics)
	})
}

// driveGone notes that a drive no longer answers, and raises the alarm if a swap did not expect it (R5).
func (s *Service) driveGone(b *store.Batch, from, key string) {
	d := s.drives[key]
	if d == nil || d.Host != from {
		return
	}
	d.Present = false
	d.version++
	b.Put(d.row())
	s.happened(b, api.EventKindDrive, key, fmt.Sprintf("%s left %s", d.tail(), placeWords(d)))
	if r := s.runs[key]; r != nil {
		s.endTest(b, r, api.TestRunStateLost, "it left its host while it was tested")
	}
	margin := pool.Margin(0)
	if p, _, _ := s.member(key); p != nil {
		margin, _ = s.margin(p)
	}
	s.toSwaps(b, from, d, swap.Event{Kind: swap.DriveGone, At: s.hosts[from].SeenAt, Margin: margin})
}

// swapDrive is what a swap needs to know of a drive.
func (s *Service) swapDrive(d *disk) *swap.Drive {
	out := &swap.Drive{Identity: d.Desc.Identity, Capacity: d.Desc.Capacity}
	if d.How.Sure() {
		out.Bay = d.bay() // a guess is not for hands
	}
	for _, x := range s.seats(d.Desc.Key()) {
		if x.member.State != pool.Out && out.Member == "" {
			out.Member = x.pool.Name
		}
	}
	testing := s.acceptanceOf(d.Desc.Key()) != nil
	uses := s.unaccounted(d)
	switch {
	case len(d.Holds) > 0 && !(testing && d.Holds[0] == drive.TestPattern):
		out.Holds = d.Holds[0]
	case len(uses) > 0:
		out.Holds = useWords(uses)
	}
	if places := s.seats(d.Desc.Key()); len(places) == 1 && places[0].member.State == pool.Standby && len(uses) == 0 {
		out.Spare = true
	}
	out.Blank = d.Looked && out.Holds == "" && out.Member == ""
	out.Sector, out.Medium, out.Zoned, out.Accepted = d.Desc.LogicalSector, d.Desc.Medium, d.Desc.Zoned, d.Accepted.words()
	if a := s.acceptances[d.Accepted.ID]; a != nil && out.Accepted != "" {
		out.Lacks = a.Lacks(s.acceptPolicy.stages())
	}
	out.Testing = testing
	if d.Accepted.State == string(api.AcceptanceStateFailed) {
		out.Ill = "failed its test of " + d.Accepted.At.UTC().Format("2006-01-02") + ": " + d.Accepted.Says
	}
	if why := s.distrust(d); why != "" && out.Member == "" && out.Ill == "" {
		out.Ill = why
	}
	if len(d.Reading.Unreadable) > 0 {
		out.Ill = "answered with a page that is unreadable: " + d.Reading.Unreadable[0].Why
	}
	for _, f := range s.judge()[d.Desc.Key()].findings {
		if f.Verdict.Gravity() >= health.Watch.Gravity() && f.Strength == drive.Strong && out.Ill == "" && f.Rule != "vanished" {
			out.Ill = f.Says
		}
	}
	return out
}

// takeRecoveries keeps the course of what moves in a pool.
func (s *Service) takeRecoveries(b *store.Batch, at time.Time, p api.PoolReport) {
	s.conclude(b, at, p)
	for _, r := range p.Recoveries {
		if r.Id == "" {
			continue
		}
		next := wire.ToRecovery(r, at)
		c := s.recov[r.Id]
		fresh := c == nil
		if fresh {
			c = &course{PoolID: p.Id, PoolName: p.Name}
			s.recov[r.Id] = c
			c.samples = append(c.samples, recovery.Sample{At: r.StartedAt, Todo: next.Todo})
			b.Add(&store.Sample{Recovery: r.Id, At: r.StartedAt.UnixMilli(), Todo: int64(next.Todo)})
		}
		if n := len(c.Turns); p.Priority != "" && next.State == recovery.Running && (n == 0 || c.Turns[n-1].Priority != p.Priority) {
			t := turn{At: at, Priority: p.Priority}
			if n == 0 {
				t.At = next.StartedAt
			}
			c.Turns = append(c.Turns, t)
		}
		last := c.samples[len(c.samples)-1]
		moved := next.Done != last.Done || next.Todo != last.Todo
		if !fresh && !moved && c.State == next.State {
			c.SeenAt = at
			continue
		}
		turned := !fresh && c.State != next.State
		if next.Drive == "" {
			next.Drive = c.Report.Drive
		}
		c.Report, c.SeenAt = next, at
		if moved && at.After(last.At) {
			c.samples = append(c.samples, next.Sample)
			b.Add(&store.Sample{Recovery: r.Id, At: at.UnixMilli(), Done: int64(next.Done), Todo: int64(next.Todo)})
		}
		b.Put(&store.Recovery{ID: r.Id, Pool: p.Id, Started: r.StartedAt, Doc: document(c)})
		switch {
		case fresh && next.State == recovery.Running:
			s.happened(b, api.EventKindRecovery, r.Id, fmt.Sprintf("a %s has begun in %s", r.Kind, p.Name))
		case turned:
			s.happened(b, api.EventKindRecovery, r.Id, fmt.Sprintf("the %s in %s is %s", r.Kind, p.Name, r.State))
		default:
			s.progress(api.Event{Kind: api.EventKindRecovery, At: at, Subject: r.Id, Says: "progress"})
		}
	}
}

// conclude ends recoveries that ran when they were last told of and are not told of any more: they ended while nobody looked,
// as when the agent was down. How they ended is taken from what the pool itself shows.
func (s *Service) conclude(b *store.Batch, at time.Time, p api.PoolReport) {
	if p.Inconsistent {
		return // of a pool of which nothing is known, nothing is concluded
	}
	now := wire.ToPool(p)
	for id, c := range s.recov {
		if c.PoolID != p.Id || !running(c) || !c.SeenAt.Before(at) || slices.ContainsFunc(p.Recoveries, func(r api.RecoveryReport) bool { return r.Id == id }) {
			continue
		}
		m, _, ok := now.Slot(c.Report.Slot)
		switch {
		case c.Report.Slot == "":
			c.State = recovery.Stopped // nothing in the pool shows whether it came to its end, nor what it found (R7)
		case c.Kind == recovery.Drain && ok && m.State != pool.Out:
			c.State = recovery.Stopped // it is a member still
		case c.Kind != recovery.Drain && (!ok || m.State != pool.Online):
			c.State = recovery.Failed
		default:
			c.State, c.Done = recovery.Finished, c.Todo
		}
		from := c.SeenAt
		c.EndedAt, c.At, c.SeenAt = at, at, at
		c.samples = append(c.samples, c.Sample)
		b.Add(&store.Sample{Recovery: id, At: at.UnixMilli(), Done: int64(c.Done), Todo: int64(c.Todo)})
		b.Put(&store.Recovery{ID: id, Pool: p.Id, Started: c.StartedAt, Doc: document(c)})
		s.happened(b, api.EventKindRecovery, id, fmt.Sprintf("the %s in %s is %s: it ended between %s and %s, when nobody looked; the pool's own state says how", c.Kind, p.Name, c.State, from.Format("15:04:05"), at.Format("15:04:05")))
	}
}
