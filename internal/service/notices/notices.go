package notices

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
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/service/recoveries"
	"lantern/internal/store"
)

// noticeEach is how often matters are computed, by the service's clock, and the least interval in real time.
const noticeEach = 2500 * time.Millisecond

func (s *State) LoadNotices() error {
	rows, err := store.All[store.Notice](s.Store, "id", "closed = ?", false)
	if err != nil {
		return err
	}
	s.Open = nil
	for _, row := range rows {
		var n notice.Notice
		if err := json.Unmarshal(row.Doc, &n); err != nil {
			return fmt.Errorf("notice %s: %w", row.ID, err)
		}
		s.Open = append(s.Open, n)
	}
	uses, err := store.All[store.PoolUse](s.Store, "at", "at > ?", s.Clock.Now().Add(-useWindow).UnixMilli())
	if err != nil {
		return err
	}
	s.uses = map[string][]store.PoolUse{}
	for _, u := range uses {
		s.uses[u.Pool] = append(s.uses[u.Pool], u)
	}
	return nil
}

// Tick updates the notices, and makes the daily messages that are due.
func (s *State) Tick(t *fleet.Tick) {
	s.notify(t.Batch, t.Now)
	s.digest(t.Batch, t.Now)
}

// notify updates the notices, and adds changes to a batch.
func (s *State) notify(b *store.Batch, now time.Time) {
	if !s.Urgent && now.Sub(s.notifiedAt) < s.Clock.AtLeast(noticeEach, noticeEach) && !now.Before(s.notifiedAt) {
		return
	}
	matters := s.matters(b, now)
	if now.Before(s.fleet.GraceUntil) {
		matters = s.ofReporting(matters)
	}
	s.notifiedAt, s.Urgent = now, false
	open, changes := notice.Update(s.Open, matters, now, ledger.NewID)
	before := s.Open
	s.Open = open
	// A change of a notice's text is not sent, but stored, so that people find what they saw. Notices that stay open
	// keep their order.
	for _, n := range s.Open {
		for len(before) > 0 && before[0].ID != n.ID {
			before = before[1:]
		}
		if len(before) > 0 && !before[0].Same(n.Matter) {
			s.keepNotice(b, n)
		}
	}
	if len(changes) == 0 {
		return
	}
	at := make(map[string]int, len(s.Open))
	for i, n := range s.Open {
		at[n.ID] = i
	}
	for _, c := range changes {
		s.AddEvent(b, api.EventKindNotice, c.ID, fmt.Sprintf("%s: %s", c.Turn, c.Says))
		c.Told = s.deliver(b, c, now)
		s.keepNotice(b, c.Notice)
		if i, still := at[c.ID]; still {
			s.Open[i].Told = c.Told
		}
	}
}

// ofReporting removes matters of hosts that have not reported since the start: they have time to do so. Their open
// notices stay open. Alarms are never removed.
func (s *State) ofReporting(matters []notice.Matter) (out []notice.Matter) {
	waits := func(m notice.Matter) bool {
		host := m.Host
		if p, err := s.fleet.FindPool(m.Pool); host == "" && m.Pool != "" && err == nil {
			host = p.Reporter
		}
		h := s.fleet.Hosts[host]
		return h != nil && !h.Heard && m.Kind != notice.Alarm
	}
	for _, m := range matters {
		if !waits(m) {
			out = append(out, m)
		}
	}
	for _, n := range s.Open {
		if waits(n.Matter) {
			out = append(out, n.Matter)
		}
	}
	return out
}

func (s *State) keepNotice(b *store.Batch, n notice.Notice) {
	b.Put(&store.Notice{ID: n.ID, Closed: !n.Open(), At: n.Changed, Doc: ledger.Document(n)})
}

// matters are all present matters.
func (s *State) matters(b *store.Batch, now time.Time) (out []notice.Matter) {
	out = s.judging.AllMatters()
	out = append(append(append(out, s.swaps.Alarms()...), s.moves(now)...), s.bays.Shelves(now)...)
	for _, h := range s.fleet.Hosts {
		if h.SeenAt.IsZero() {
			continue
		}
		if s.fleet.Late(h, now) && !s.fleet.Work.AskedDown(h.Name, now) {
			out = append(
				out,
				notice.Matter{
					Key:      "host/" + h.Name,
					Kind:     notice.Host,
					Severity: health.Unknown,
					Host:     h.Name,
					Says: fmt.Sprintf(
						"%s has not reported since %s: what is true there now is not known",
						h.Name,
						h.SeenAt.Format("2006-01-02 15:04"),
					),
					Do: "Look at the host and its agent.",
				},
			)
		}
	}
	out = append(out, s.fleet.PoolMatters()...)
	out = append(out, s.fleet.HostMatters()...)
	out = append(out, s.strangers(now)...)
	if m, ok := s.certificate(now); ok {
		out = append(out, m)
	}
	if m, ok := s.backedUp(now); ok {
		out = append(out, m)
	}
	out = append(out, s.silentSites()...)
	if m, ok := s.copyBehind(time.Now()); ok { // in real time, not the lab's
		out = append(out, m)
	}
	if says, do, severity := s.Trouble(); says != "" {
		out = append(
			out,
			notice.Matter{Key: "service/records", Kind: notice.Service, Severity: severity, Says: says, Do: do},
		)
	}
	out = append(out, s.fleet.ClaimMatters()...)
	for _, p := range s.fleet.Pools {
		if p.UsedUnknown || !p.Known() {
			continue
		}
		if m, ok := notice.OfFilling(s.fullness(b, p, now), now); ok {
			out = append(out, m)
		}
	}
	for _, c := range s.recoveries.Underway() {
		name := fleet.NameNow(s.fleet, c.PoolID, c.PoolName)
		if c.State == recovery.Paused && now.Sub(recoveries.LastMove(c)) > pausedFor {
			out = append(
				out,
				notice.Matter{
					Key:      "paused/" + c.ID,
					Kind:     notice.Recovery,
					Severity: health.Watch,
					Pool:     name,
					Says: fmt.Sprintf(
						"the %s in %s is paused since %s",
						c.Kind,
						name,
						recoveries.LastMove(c).Format("2006-01-02 15:04"),
					),
					Do: "Find out who paused it, and let it go on: margin is not restored before it ends.",
				},
			)
		}
		if c.State != recovery.Running {
			continue
		}
		v := s.progress.ViewRecovery(c, false)
		if !v.AgainAt.IsZero() {
			out = append(
				out,
				notice.Matter{
					Key:      "again/" + c.ID,
					Kind:     notice.Recovery,
					Severity: health.Watch,
					Pool:     name,
					Says: fmt.Sprintf(
						"the %s in %s began again from its beginning at %s",
						c.Kind,
						name,
						v.AgainAt.Format("2006-01-02 15:04"),
					),
					Do: "Find the cause: a member that came and went, or a restart.",
				},
			)
		}
		if v.Stalled {
			out = append(
				out,
				notice.Matter{
					Key:      "recovery/" + c.ID,
					Kind:     notice.Recovery,
					Severity: health.Watch,
					Pool:     name,
					Says:     fmt.Sprintf("the %s in %s has stalled: %s", c.Kind, name, v.Why),
					Do:       "Check what stops it.",
				},
			)
		}
	}
	return out
}

// pausedFor is how long a recovery may be paused before people are notified.
const pausedFor = 10 * time.Minute

// whereabouts are the places of drives that moved recently or share a bay with another: no other drive can give a
// matter.
func (s *State) whereabouts(expected map[string]bool, now time.Time) (out []enclosure.Whereabouts) {
	add := func(d *fleet.Drive) {
		key := d.Key()
		w := enclosure.Whereabouts{Key: key, Tail: d.Tail(), Bay: d.BayName(), Expected: expected[key]}
		if n := len(d.Stays); n > 1 && d.Stays[n-1].Bay == w.Bay && d.How.Sure() {
			w.Before, w.Since = d.Stays[n-2].Bay, d.Stays[n-1].From
		}
		out = append(out, w)
	}
	some := s.fleet.MovedOrShared()
	shares := func(i int, d *fleet.Drive) bool { // those of one bay are neighbours
		return i >= 0 && i < len(some) && d.Section != "" && some[i].Host == d.Host && some[i].Section == d.Section &&
			some[i].Bay == d.Bay
	}
	for i, d := range some {
		n := len(d.Stays)
		if shares(i-1, d) || shares(i+1, d) || n > 1 && now.Sub(d.Stays[n-1].From) <= enclosure.MoveFor {
			add(d)
		}
	}
	return out
}

// moves are the drives in unexpected places; the page of each drive shows it too.
func (s *State) moves(now time.Time) (out []notice.Matter) {
	expected := map[string]bool{}
	for _, w := range s.swaps.SwapByID {
		if !w.EndedAt.IsZero() && now.Sub(w.EndedAt) > 24*time.Hour {
			continue // what moves now has nothing to do with it
		}
		if expected[w.Old.Key()] = true; w.New != nil {
			expected[w.New.Key()] = true
		}
	}
	was := s.judging.Shifts
	s.judging.Shifts = map[string]health.Shift{}
	for _, m := range enclosure.Movements(s.whereabouts(expected, now), now) {
		for i, key := range m.Drives {
			sh := health.Shift{Kind: m.Kind, Says: m.Each[i], Do: m.Do, Since: now}
			if old, ok := was[key]; ok && old.Kind == m.Kind {
				sh.Since = old.Since
			}
			s.judging.Shifts[key] = sh
		}
		x := notice.Matter{
			Key:      "place/" + m.Key,
			Kind:     notice.Place,
			Severity: health.Watch,
			Bay:      m.Bay,
			Drives:   m.Drives,
			Says:     m.Says,
			Do:       m.Do,
		}
		if d := s.fleet.Drives[m.Drives[0]]; d != nil {
			x.Host = d.Host
		}
		out = append(out, x)
	}
	return out
}

// How much of a pool's past is used for its fill level, and how often it is read.
const (
	useWindow = 30 * 24 * time.Hour
	useEach   = 12 * time.Hour
)

// fullness gives the fill level of a pool and its growth, and stores the data behind it.
func (s *State) fullness(b *store.Batch, p *fleet.Pool, now time.Time) notice.Fullness {
	f := notice.Fullness{Pool: p.Name, ID: p.ID, Used: float64(p.Used), Capacity: float64(p.Capacity)}
	all := s.uses[p.ID]
	if n := len(all); n == 0 || now.Sub(time.UnixMilli(all[n-1].At)) >= useEach {
		u := store.PoolUse{Pool: p.ID, At: now.UnixMilli(), Used: int64(p.Used)}
		b.Add(&u)
		all = append(
			slices.DeleteFunc(all, func(x store.PoolUse) bool { return now.Sub(time.UnixMilli(x.At)) > useWindow }),
			u,
		)
		s.uses[p.ID] = all
	}
	if first := all[0]; now.Sub(time.UnixMilli(first.At)) >= 3*24*time.Hour {
		f.PerDay = (float64(p.Used) - float64(first.Used)) / (now.Sub(time.UnixMilli(first.At)).Hours() / 24)
	}
	return f
}

// Notices lists the open notices, and with all also the newest closed ones.
func (s *Service) Notices(all bool) ([]api.Notice, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	now := s.Clock.Now()
	list := slices.Clone(s.Open)
	if all {
		rows, err := store.Newest[store.Notice](s.Store, 500, "closed = ?", true)
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

func (s *State) viewNotice(n notice.Notice, now time.Time) api.Notice {
	v := api.Notice{
		Id:        n.ID,
		Kind:      api.NoticeKind(n.Kind),
		Severity:  api.Verdict(n.Severity),
		Worst:     api.Verdict(n.Worst),
		Says:      n.Says,
		Do:        n.Do,
		Host:      n.Host,
		Pool:      n.Pool,
		Bay:       n.Bay,
		Drives:    n.Drives,
		OpenedAt:  n.Opened,
		ChangedAt: n.Changed,
		ClosedAt:  n.Closed,
		State:     api.NoticeStateOpen,
	}
	if n.Acknowledged != nil {
		v.State = api.NoticeStateAcknowledged
		v.AcknowledgedBy, v.AcknowledgedAt, v.Note = n.Acknowledged.By, n.Acknowledged.At, n.Acknowledged.Note
	}
	if now.Before(n.Muted) {
		v.State, v.MutedUntil, v.Note = api.NoticeStateMuted, n.Muted, cmp.Or(n.MutedWhy, v.Note)
	}
	if !n.Open() {
		v.State = api.NoticeStateClosed
	}
	return v
}

// Acknowledge records that a person saw a notice. Repeating it changes the note.
func (s *Service) Acknowledge(by, id, note string) (api.Notice, error) {
	return s.changeNotice(id, func(n *notice.Notice, now time.Time) string {
		n.Acknowledged = &notice.Ack{By: by, Note: note, At: now, Severity: n.Severity}
		return by + " saw: " + n.Says
	})
}

// longestMute is how long a notice can be muted.
const longestMute = 90 * 24 * time.Hour

// Mute suppresses the messages of a notice until a time, unless it gets worse; zero hours ends that.
func (s *Service) Mute(by, id string, hours float64, note string) (api.Notice, error) {
	d := time.Duration(hours * float64(time.Hour))
	if d < 0 || d > longestMute {
		return api.Notice{}, problem.New(
			422,
			"bad-time",
			"Such as 8h or 7d.",
			"A notice can be muted for up to 90 days.",
		)
	}
	return s.changeNotice(id, func(n *notice.Notice, now time.Time) string {
		n.MutedWhy = note
		if n.Muted = now.Add(d); d == 0 {
			n.Muted, n.MutedWhy = time.Time{}, ""
			return by + " ended the mute of: " + n.Says
		}
		why := ""
		if note != "" {
			why = " (" + note + ")"
		}
		return fmt.Sprintf("%s muted until %s%s: %s", by, n.Muted.Format("2006-01-02 15:04"), why, n.Says)
	})
}

func (s *Service) changeNotice(id string, f func(*notice.Notice, time.Time) string) (api.Notice, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Clock.Now()
	i := slices.IndexFunc(s.Open, func(n notice.Notice) bool {
		return n.ID == id || len(id) >= 5 && len(n.ID) > len(id) && n.ID[len(n.ID)-len(id):] == id
	})
	if i < 0 {
		return api.Notice{}, problem.New(
			404,
			"no-notice",
			"List them with: lantern notices",
			"No open notice %q.",
			id,
		)
	}
	n := s.Open[i]
	b := &store.Batch{}
	s.AddEvent(b, api.EventKindNotice, n.ID, f(&n, now))
	s.keepNotice(b, n)
	if err := s.Commit(b); err != nil {
		return api.Notice{}, err
	}
	s.Open[i] = n
	return s.viewNotice(n, now), nil
}
