package service

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/core/recovery"
	"lantern/internal/core/swap"
	"lantern/internal/store"
)

// noticeEach is how often what people ought to know is looked at, by the service's clock, and at least in real time.
const noticeEach = 3 * time.Second

func (s *Service) loadNotices() error {
	rows, err := store.All[store.Notice](s.store, "id", "closed = ?", false)
	if err != nil {
		return err
	}
	s.notices = nil
	for _, row := range rows {
		var n notice.Notice
		if err := json.Unmarshal(row.Doc, &n); err != nil {
			return fmt.Errorf("notice %s: %w", row.ID, err)
		}
		s.notices = append(s.notices, n)
	}
	uses, err := store.All[store.PoolUse](s.store, "at", "at > ?", s.clock.Now().Add(-useWindow).UnixMilli())
	if err != nil {
		return err
	}
	s.uses = map[string][]store.PoolUse{}
	for _, u := range uses {
		s.uses[u.Pool] = append(s.uses[u.Pool], u)
	}
	return nil
}

// notify looks at what people ought to know now, and puts what changed into a batch. s.mu is held.
func (s *Service) notify(b *store.Batch, now time.Time) {
	if !s.urgent && now.Sub(s.notifiedAt) < s.clock.AtLeast(noticeEach, noticeEach) && !now.Before(s.notifiedAt) {
		return
	}
	var matters []notice.Matter
	if now.Before(s.graceUntil) {
		// Hosts are given time to report; but an alarm waits for nothing.
		if matters = s.alarms(); len(matters) == 0 {
			return
		}
		for _, n := range s.notices {
			if n.Kind != notice.Alarm {
				matters = append(matters, n.Matter)
			}
		}
	} else {
		matters = s.matters(b, now)
	}
	s.notifiedAt, s.urgent = now, false
	open, changes := notice.Update(s.notices, matters, now, newID)
	s.notices = open
	for _, c := range changes {
		s.keepNotice(b, c.Notice)
		s.happened(b, api.EventKindNotice, c.ID, fmt.Sprintf("%s: %s", c.Turn, c.Says))
		s.deliver(b, c, now)
	}
}

func (s *Service) keepNotice(b *store.Batch, n notice.Notice) {
	b.Put(&store.Notice{ID: n.ID, Closed: !n.Open(), At: n.Changed, Doc: document(n)})
}

// matters are what people ought to know now.
func (s *Service) matters(b *store.Batch, now time.Time) (out []notice.Matter) {
	out = s.driveMatters(func(*disk, place) bool { return true })
	out = append(append(append(out, s.alarms()...), s.moves(now)...), s.shelves(now)...)
	for _, h := range s.hosts {
		if h.SeenAt.IsZero() {
			continue
		}
		if s.late(h, now) && !s.work.askedDown(h.Name, now) {
			out = append(out, notice.Matter{Key: "host/" + h.Name, Kind: notice.Host, Severity: health.Unknown, Host: h.Name, Says: fmt.Sprintf("%s has not reported since %s: what is true there now is not known", h.Name, h.SeenAt.Format("2006-01-02 15:04")),
				Do: "Look at the host and its agent."})
		}
	}
	out = append(out, s.poolMatters()...)
	for _, p := range s.pools {
		if p.UsedUnknown || !p.known() {
			continue
		}
		if m, ok := notice.OfFilling(s.fullness(b, p, now), now); ok {
			out = append(out, m)
		}
	}
	for _, c := range s.recov {
		if c.State == recovery.Paused && now.Sub(lastMove(c)) > pausedFor {
			out = append(out, notice.Matter{Key: "paused/" + c.ID, Kind: notice.Recovery, Severity: health.Watch, Pool: c.PoolName, Says: fmt.Sprintf("the %s in %s is paused since %s", c.Kind, c.PoolName, lastMove(c).Format("2006-01-02 15:04")), Do: "Find out who paused it, and let it go on: margin is not restored before it ends."})
		}
		if c.State != recovery.Running {
			continue
		}
		v := s.viewRecovery(c, false)
		if !v.AgainAt.IsZero() {
			out = append(out, notice.Matter{Key: "again/" + c.ID, Kind: notice.Recovery, Severity: health.Watch, Pool: c.PoolName, Says: fmt.Sprintf("the %s in %s began again from its beginning at %s", c.Kind, c.PoolName, v.AgainAt.Format("2006-01-02 15:04")), Do: "Look at what made it: a member that came and went, or a restart."})
		}
		if v.Stalled {
			out = append(out, notice.Matter{Key: "recovery/" + c.ID, Kind: notice.Recovery, Severity: health.Watch, Pool: c.PoolName, Says: fmt.Sprintf("the %s in %s has stalled: %s", c.Kind, c.PoolName, v.Why), Do: "Look at what holds it up."})
		}
	}
	return out
}

// driveMatters are what is to be told of those drives that are among them.
func (s *Service) driveMatters(among func(*disk, place) bool) []notice.Matter {
	of, places := s.judge(), s.places()
	var said []notice.Said
	for key, j := range of {
		d := s.drives[key]
		at := places[key]
		if len(j.findings) == 0 || !d.Present && at.pool == nil && !s.usedWhenLast(d) || !among(d, at) {
			continue
		}
		x := notice.Said{Key: key, Tail: d.tail(), Host: d.Host, Section: d.Section, Bay: d.bay(), Verdict: j.verdict, Findings: j.findings}
		if at.pool != nil {
			x.Pool = at.pool.Name
		}
		said = append(said, x)
	}
	return notice.OfDrives(said)
}

// alarms are the drives that must be put back at once: they left while a swap expected another (R5).
func (s *Service) alarms() (out []notice.Matter) {
	for _, w := range s.openSwaps() {
		for _, x := range w.Wrong {
			out = append(out, notice.Matter{Key: "alarm/" + w.ID + "/" + x.Key(), Kind: notice.Alarm, Severity: health.Dead, Host: w.Host, Pool: w.Pool, Bay: x.Bay, Drives: []string{x.Key()},
				Says: leftWords(w, x),
				Do:   fmt.Sprintf("Put %s back into %s, now. Touch nothing else.", x.Tail(), cmp.Or(x.Bay, "the bay it came from"))})
		}
	}
	return out
}

func leftWords(w *swapState, x swap.Wrong) string {
	if x.Key() == w.Old.Key() {
		return fmt.Sprintf("%s left %s before its turn: %s", x.Tail(), cmp.Or(x.Bay, w.Host), x.Margin)
	}
	return fmt.Sprintf("%s left %s, and it is not the drive to pull (%s): %s", x.Tail(), cmp.Or(x.Bay, w.Host), w.Old.Tail(), x.Margin)
}

// pausedFor is how long a recovery may be paused until somebody is told.
const pausedFor = 10 * time.Minute

// strangerFor is how long a bay may be occupied by something that does not answer: a drive needs time to spin up.
const strangerFor = 2 * time.Minute

// shelves are parts of enclosures that are not well, and bays in which they believe something to be that does not answer.
func (s *Service) shelves(now time.Time) (out []notice.Matter) {
	answering := map[string]bool{}
	for _, d := range s.drives {
		if d.Present {
			answering[d.bay()] = true
		}
	}
	silent := map[string]time.Time{}
	for _, h := range s.hosts {
		if s.late(h, now) {
			continue
		}
		for _, e := range h.report.Enclosures {
			for _, p := range e.Parts {
				if p.Says == "" {
					continue
				}
				m := notice.Matter{Key: "shelf/" + h.Name + "/" + e.Name + "/" + p.Type + " " + p.Name, Kind: notice.Shelf, Severity: health.Watch, Host: h.Name, Says: fmt.Sprintf("%s/%s: %s", h.Name, e.Name, p.Says), Do: "Look at it before its drives are hurt."}
				if p.Grave {
					m.Severity, m.Do = health.Replace, "Replace it: what it cooled or fed has nothing left to fall back on."
				}
				out = append(out, m)
			}
			for _, sec := range e.Sections {
				for _, n := range sec.Occupied {
					bay := enclosure.Address{Host: h.Name, Section: sec.Name, Number: n}.String()
					if answering[bay] {
						continue
					}
					since, known := s.strangers[bay]
					if silent[bay] = since; !known {
						silent[bay] = now
					}
					if now.Sub(silent[bay]) >= strangerFor {
						out = append(out, notice.Matter{Key: "occupied/" + bay, Kind: notice.Place, Severity: health.Watch, Host: h.Name, Bay: bay, Says: fmt.Sprintf("the enclosure says that something is in bay %s, and no drive answers there", bay),
							Do: "Light the bay and look: a drive that does not spin up, one that is not pushed home, or an empty caddy."})
					}
				}
			}
		}
	}
	s.strangers = silent
	return out
}

// moves are the drives that are not where they were; each of them is told so on its own page as well.
func (s *Service) moves(now time.Time) (out []notice.Matter) {
	expected := map[string]bool{}
	for _, w := range s.swaps {
		if !w.EndedAt.IsZero() && now.Sub(w.EndedAt) > 24*time.Hour {
			continue // what moves now has nothing to do with it
		}
		if expected[w.Old.Key()] = true; w.New != nil {
			expected[w.New.Key()] = true
		}
	}
	var all []enclosure.Whereabouts
	for key, d := range s.drives {
		if !d.Present {
			continue
		}
		w := enclosure.Whereabouts{Key: key, Tail: d.tail(), Bay: d.bay(), Expected: expected[key]}
		if n := len(d.Stays); n > 1 && d.Stays[n-1].Bay == w.Bay && d.How.Sure() {
			w.Before, w.Since = d.Stays[n-2].Bay, d.Stays[n-1].From
		}
		all = append(all, w)
	}
	was := s.shifts
	s.shifts = map[string]health.Shift{}
	for _, m := range enclosure.Movements(all, now) {
		for i, key := range m.Drives {
			sh := health.Shift{Kind: m.Kind, Says: m.Each[i], Do: m.Do, Since: now}
			if old, ok := was[key]; ok && old.Kind == m.Kind {
				sh.Since = old.Since
			}
			s.shifts[key] = sh
		}
		x := notice.Matter{Key: "place/" + m.Key, Kind: notice.Place, Severity: health.Watch, Bay: m.Bay, Drives: m.Drives, Says: m.Says, Do: m.Do}
		if d := s.drives[m.Drives[0]]; d != nil {
			x.Host = d.Host
		}
		out = append(out, x)
	}
	return out
}

// How far back, and how often, it is looked at how full a pool was.
const (
	useWindow = 30 * 24 * time.Hour
	useEach   = 12 * time.Hour
)

// fullness says how full a pool is and how fast it fills up, and keeps what that is worked out from.
func (s *Service) fullness(b *store.Batch, p *poolState, now time.Time) notice.Fullness {
	f := notice.Fullness{Pool: p.Name, ID: p.ID, Used: float64(p.Used), Capacity: float64(p.Capacity)}
	all := s.uses[p.ID]
	if n := len(all); n == 0 || now.Sub(time.UnixMilli(all[n-1].At)) >= useEach {
		u := store.PoolUse{Pool: p.ID, At: now.UnixMilli(), Used: int64(p.Used)}
		b.Add(&u)
		all = append(slices.DeleteFunc(all, func(x store.PoolUse) bool { return now.Sub(time.UnixMilli(x.At)) > useWindow }), u)
		s.uses[p.ID] = all
	}
	if first := all[0]; now.Sub(time.UnixMilli(first.At)) >= 3*24*time.Hour {
		f.PerDay = (float64(p.Used) - float64(first.Used)) / (now.Sub(time.UnixMilli(first.At)).Hours() / 24)
	}
	return f
}

// Notices lists notices: those that are open, or with all the newest that were closed as well.
func (s *Service) Notices(all bool) ([]api.Notice, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.clock.Now()
	list := slices.Clone(s.notices)
	if all {
		rows, err := store.Newest[store.Notice](s.store, 500, "closed = ?", true)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			var n notice.Notice
			if json.Unmarshal(row.Doc, &n) == nil {
				list = append(list, n)
			}
		}
	}
	notice.Rank(list, now)
	out := make([]api.Notice, len(list))
	for i, n := range list {
		out[i] = s.viewNotice(n, now)
	}
	return out, nil
}

func (s *Service) viewNotice(n notice.Notice, now time.Time) api.Notice {
	v := api.Notice{Id: n.ID, Kind: api.NoticeKind(n.Kind), Severity: api.Verdict(n.Severity), Worst: api.Verdict(n.Worst), Says: n.Says, Do: n.Do, Host: n.Host, Pool: n.Pool, Bay: n.Bay, Drives: n.Drives,
		OpenedAt: n.Opened, ChangedAt: n.Changed, ClosedAt: n.Closed, State: api.NoticeStateOpen}
	if n.Acknowledged != nil {
		v.State = api.NoticeStateAcknowledged
		v.AcknowledgedBy, v.AcknowledgedAt, v.Note = n.Acknowledged.By, n.Acknowledged.At, n.Acknowledged.Note
	}
	if now.Before(n.Muted) {
		v.State, v.MutedUntil = api.NoticeStateMuted, n.Muted
	}
	if !n.Open() {
		v.State = api.NoticeStateClosed
	}
	return v
}

// Acknowledge notes that somebody saw a notice. Doing it again changes the note.
func (s *Service) Acknowledge(by, id, note string) (api.Notice, error) {
	return s.changeNotice(id, func(n *notice.Notice, now time.Time) string {
		n.Acknowledged = &notice.Ack{By: by, Note: note, At: now, Severity: n.Severity}
		return by + " saw: " + n.Says
	})
}

// longestMute is how long a notice can be muted.
const longestMute = 90 * 24 * time.Hour

// Mute says nothing of a notice until a time, unless it gets worse; zero hours lets it be heard again.
func (s *Service) Mute(by, id string, hours float64) (api.Notice, error) {
	d := time.Duration(hours * float64(time.Hour))
	if d < 0 || d > longestMute {
		return api.Notice{}, problem(422, "bad-time", "Such as 8h or 7d.", "A notice can be muted for up to 90 days.")
	}
	return s.changeNotice(id, func(n *notice.Notice, now time.Time) string {
		if n.Muted = now.Add(d); d == 0 {
			n.Muted = time.Time{}
			return by + " wants to hear again of: " + n.Says
		}
		return fmt.Sprintf("%s muted until %s: %s", by, n.Muted.Format("2006-01-02 15:04"), n.Says)
	})
}

func (s *Service) changeNotice(id string, f func(*notice.Notice, time.Time) string) (api.Notice, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.clock.Now()
	i := slices.IndexFunc(s.notices, func(n notice.Notice) bool {
		return n.ID == id || len(id) >= 5 && len(n.ID) > len(id) && n.ID[len(n.ID)-len(id):] == id
	})
	if i < 0 {
		return api.Notice{}, problem(404, "no-notice", "List them with: lantern notices", "There is no open notice %q.", id)
	}
	n := s.notices[i]
	b := &store.Batch{}
	s.happened(b, api.EventKindNotice, n.ID, f(&n, now))
	s.keepNotice(b, n)
	if err := s.commit(b); err != nil {
		return api.Notice{}, err
	}
	s.notices[i] = n
	return s.viewNotice(n, now), nil
}
