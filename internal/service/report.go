package service

import (
	"fmt"
	"reflect"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// future is how far ahead of our clock a report may be dated.
const future = 5 * time.Minute

var errTaken = problem.New(409, "used-id", "Nothing needs to be done: it was taken before.", "A report with this id was taken already.")

// TakeReport takes in what an agent says. from is the host whose token came with it.
func (s *Service) TakeReport(from string, r api.Report) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.Fleet.Hosts[from]
	if h == nil || r.Host != from {
		return problem.New(403, "unknown-host", "Enrol it with: lantern host enrol "+r.Host, "This token is not for a host named %q.", r.Host)
	}
	if r.Id == "" || r.IntervalSeconds <= 0 {
		return problem.New(422, "bad-report", "Every report has an id and says when the next is due.", "The report is not complete.")
	}
	if now := s.Clock.Now(); r.At.After(now.Add(s.Clock.AtLeast(future, 10*time.Second))) {
		return problem.New(422, "bad-clock", "Set the clock of the host.", "The report is dated %s, and it is %s here.", r.At.Format(time.RFC3339), now.Format(time.RFC3339))
	}
	if slices.Contains(h.Taken, r.Id) {
		return errTaken
	}

	b := &store.Batch{Once: &store.ReportID{ID: r.Id, Host: from, At: r.At}}
	if h.Taken = append(h.Taken, r.Id); len(h.Taken) > fleet.IdsAtHand {
		h.Taken = slices.Delete(h.Taken, 0, fleet.IdsAtHand/2)
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
		return s.Commit(b)
	}

	was := map[string]bool{}
	for _, d := range h.LastReport.Drives {
		was[wire.ToIdentity(d.Identity).Key()] = true
	}
	for key := range seen {
		if !was[key] {
			came = append(came, key)
		}
	}
	slices.Sort(came)
	first := h.SeenAt.IsZero()
	back := h.Quiet
	h.SeenAt, h.Interval, h.Quiet = r.At, r.IntervalSeconds, false
	reported := slices.Clone(r.Pools)
	vanished := s.Fleet.Unreported(from, r.At, h.LastReport.Pools, &r)
	if lasting := fleet.WithoutReadings(r); !reflect.DeepEqual(lasting, h.LastReport) {
		h.LastReport, h.Report = lasting, ledger.Document(lasting)
	}
	row := h.Host
	b.Put(&row)
	if first || back {
		s.Happened(b, api.EventKindHost, from, from+" reports")
	}
	h.Skew = s.Clock.Now().Sub(r.At)
	for _, p := range r.Pools {
		s.Fleet.TakePool(from, r.At, p)
	}
	for _, p := range reported {
		s.poolErrors(b, p.Id)
	}
	for _, id := range vanished {
		s.Happened(b, api.EventKindPool, id, s.Fleet.Pools[id].Name+" is not reported by "+from+" any more")
	}
	if back {
		s.Swaps.HostToSwaps(b, from, false, r.At)
	}
	for _, key := range fleet.Gone(was, seen) {
		s.driveGone(b, from, key)
	}
	for _, key := range came {
		d := s.Fleet.Drives[key]
		if !first {
			s.Happened(b, api.EventKindDrive, key, fmt.Sprintf("%s came to %s", d.Tail(), fleet.PlaceWords(d)))
		}
		s.Swaps.ToSwaps(b, from, d, swap.Event{Kind: swap.DriveCame, At: r.At})
	}
	s.Swaps.MovedToSwaps(b, from, r.At)
	for _, p := range reported {
		s.Recoveries.TakeRecoveries(b, r.At, p)
	}
	s.Changed()
	for _, p := range r.Pools {
		s.Swaps.PoolToSwaps(b, r.At, p.Id)
	}
	s.Bays.SeeLights(b, from, r)
	s.Bays.SeeRhythms(b, from, r)
	return s.Commit(b)
}

// takeDrive keeps what a report says of one drive.
func (s *Service) takeDrive(b *store.Batch, from string, at time.Time, r api.DriveReport, live bool) string {
	desc := wire.ToDescription(r)
	key := desc.Key()
	if key == "" {
		return ""
	}
	d := s.Fleet.Drives[key]
	changed := false
	if d == nil {
		d = &fleet.Drive{Record: history.Record{}, Facts: fleet.Facts{FirstAt: at, Desc: desc, Life: map[drive.MetricName]history.Life{}}}
		s.Fleet.Know(key, d)
		changed = true
	}
	d.Version++
	if at.Before(d.FirstAt) {
		d.FirstAt, changed = at, true
	}
	if live && s.dropped(from, at, d, r) {
		last, known := d.Record["bus_drops"].Last()
		if !known {
			// A moment after the drive's last reading, and before its next, which have the very times of their reports.
			s.Readings.Keep(b, key, d, d.SeenAt.Add(2*time.Millisecond), map[string]float64{"bus_drops": 0})
		}
		s.Readings.Keep(b, key, d, at.Add(-time.Millisecond), map[string]float64{"bus_drops": last.Value + 1})
	}
	if live || d.Host == "" {
		section, bay, how := s.Fleet.Placed(from, r, key)
		changed = changed || !d.Present || d.Desc != desc || d.Host != from || d.Section != section || d.Bay != bay || d.How != how ||
			d.Path != r.Path || d.Blind != r.Blind || !slices.Equal(d.Holds, r.Holds) || !slices.Equal(d.Names, r.Names)
		if live {
			d.Stay(from, section, bay, at)
		}
		d.Desc, d.Host, d.Section, d.Bay, d.How, d.Path, d.Blind, d.Holds = desc, from, section, bay, how, r.Path, r.Blind, r.Holds
		if live {
			paths := fleet.PathsSince(d.Paths, r, at)
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
		d.Feel(r.Busy, at)
	}
	if rd := r.Reading; !rd.At.IsZero() {
		if now := s.Clock.Now(); rd.At.After(now) {
			rd.At = now // its host's clock is ahead: a time that is not here yet would block what comes until then
		}
		rd = fleet.Believable(rd)
		if len(rd.Metrics) > 0 {
			s.Readings.Keep(b, key, d, rd.At, rd.Metrics)
		}
		if !rd.At.Before(d.Reading.At) || d.Reading.At.After(s.Clock.Now()) {
			before := d.Reading.Attributes
			d.Reading = rd
			d.Reading.Metrics = nil
			s.Selftests.FollowTest(b, key, rd)
			if live {
				s.Selftests.FailedAt(b, d)
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
		b.Put(d.Row())
	}
	if live {
		s.Stock.ToAcceptance(b, key, d, r, at)
	}
	return key
}

// dropFor is how long a drive can be away and have come back by itself; hands take longer.
const dropFor = 10 * time.Minute

// dropped says whether a drive that reports again had left the bus and came back to where it was by itself. While a swap
// waits for a drive to be pulled, hands are at work on that host.
func (s *Service) dropped(from string, at time.Time, d *fleet.Drive, r api.DriveReport) bool {
	section, bay, _ := s.Fleet.Placed(from, r, d.Desc.Key())
	if d.Present || d.SeenAt.IsZero() || d.Host != from || d.Section != section || d.Bay != bay || at.Sub(d.SeenAt) > dropFor {
		return false
	}
	return !s.Fleet.Work.OnHost(from)
}

// poolErrors makes a pool's own counters metrics of its drives, so that a cleared counter does not clear the memory. A
// member whose drive is gone still counts: it is the one that was last seen there.
func (s *Service) poolErrors(b *store.Batch, id string) {
	p := s.Fleet.Pools[id]
	// A moment after the drive's own reading, which may carry the very same time.
	at := p.At.Add(time.Millisecond)
	p.Everyone(func(_ string, m *pool.Member) {
		d := s.Fleet.Drives[m.Drive]
		if d == nil {
			return
		}
		metrics := map[string]float64{"pool_read_errors": float64(m.Errors.Read),
			"pool_write_errors": float64(m.Errors.Write), "pool_checksum_errors": float64(m.Errors.Checksum)}
		same := true
		for n, v := range metrics {
			last, ok := d.Record[drive.MetricName(n)].Last()
			same = same && ok && last.Value == v && at.Sub(last.At) < 24*time.Hour
		}
		if same {
			return
		}
		s.Readings.Keep(b, m.Drive, d, at, metrics)
	})
}

// driveGone notes that a drive no longer answers, and raises the alarm if a swap did not expect it (R5).
func (s *Service) driveGone(b *store.Batch, from, key string) {
	d := s.Fleet.Drives[key]
	if d == nil || d.Host != from {
		return
	}
	d.Present = false
	d.Version++
	b.Put(d.Row())
	s.Happened(b, api.EventKindDrive, key, fmt.Sprintf("%s left %s", d.Tail(), fleet.PlaceWords(d)))
	if r := s.Selftests.Runs[key]; r != nil {
		s.Selftests.EndTest(b, r, api.TestRunStateLost, "it left its host while it was tested")
	}
	margin := pool.Margin(0)
	if p, _, _ := s.Fleet.Member(key); p != nil {
		margin, _ = s.Fleet.Margin(p)
	}
	s.Swaps.ToSwaps(b, from, d, swap.Event{Kind: swap.DriveGone, At: s.Fleet.Hosts[from].SeenAt, Margin: margin})
}
