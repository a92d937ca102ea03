package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// judgement is what the core says of every drive at one moment.
type judgement struct {
	at         time.Time
	generation int // of the changes that it was made after
	of         map[string]judged
	places     map[string]place
}

// judged is one drive's part of it. hits is what was found without looking at siblings; it stands as long as what it was
// made from does.
type judged struct {
	findings []health.Finding
	verdict  health.Verdict
	hits     []health.Hit
	from     grounds
}

// grounds are what a drive's findings can depend on, beside its siblings: equal grounds give equal findings.
type grounds struct {
	version    int // of what is remembered of the drive
	late       bool
	state      pool.MemberState
	filling    bool
	asked      bool // a swap asked for it to be taken out
	peers      health.Group
	neighbours health.Group
	mates      string
	scrub      time.Time
	limits     *health.Thresholds
	shift      health.Shift
	own        int // which version of people's own rules
}

// goodFor is how long a judgement stands when nothing was reported: long enough to answer a page, short enough that a
// host which went quiet shows.
const goodFor = 2 * time.Second

// judge gives the verdicts of all drives. s.mu is held. Of a large fleet only those drives are judged anew of which
// something changed.
func (s *Service) judge() map[string]judged {
	now := s.clock.Now()
	if s.judged != nil && s.judged.generation == s.generation && now.Sub(s.judged.at) < s.clock.AtLeast(goodFor, goodFor) && !now.Before(s.judged.at) {
		return s.judged.of
	}
	of := make(map[string]judged, len(s.drives))
	places := s.allPlaces()
	warm, scrubs := s.neighbourhoods(), s.cleanScrubs()
	var bad []string
	for key, d := range s.drives {
		j, known := s.past[key]
		from := s.grounds(now, d, places[key], warm, scrubs)
		if !known || j.from != from {
			sub := s.subject(d, places[key], from)
			j = judged{hits: append(health.Evaluate(&sub, from.limits), s.ownHits(d, places[key])...), from: from}
		}
		of[key] = j
		if failure(j.hits, d.standing) != nil {
			bad = append(bad, key)
		}
	}
	slices.Sort(bad)
	related := map[string][]health.Sibling{}
	for _, b := range bad {
		f := failure(of[b].hits, s.drives[b].standing)
		since := f.Since
		if since.IsZero() {
			since = now
		}
		for key, hours := range s.siblings(s.drives[b], places[b]) {
			if places[key].pool == nil {
				continue
			}
			why := "same model and serials near " + s.drives[b].Desc.Serial
			if hours {
				why = "same model and nearly equal power-on hours"
			}
			related[key] = append(related[key], health.Sibling{Tail: s.drives[b].tail(), At: since, Why: why, Hours: hours})
		}
	}
	for key, j := range of {
		d := s.drives[key]
		hits := j.hits
		if r := related[key]; len(r) > 0 {
			slices.SortFunc(r, func(a, b health.Sibling) int { return strings.Compare(a.Tail, b.Tail) })
			hits = append(slices.Clip(hits), health.EvaluateSiblings(r, now, j.from.limits)...)
		}
		if slices.ContainsFunc(d.standing, func(x health.Standing) bool { return s.lifted(x.Rule, j.from.limits) }) {
			left := slices.DeleteFunc(slices.Clone(d.standing), func(x health.Standing) bool { return s.lifted(x.Rule, j.from.limits) })
			s.logFindings(key, d.standing, left)
			d.standing = left
			s.unwritten[key] = true
		}
		if len(hits)+len(d.standing) == 0 {
			j.findings, j.verdict = nil, health.VerdictOf(nil, j.from.late)
		} else {
			s.stand(key, d, health.Settle(d.standing, hits, now))
			j.findings, j.verdict = health.Tell(d.standing, j.from.late, now)
		}
		of[key] = j
	}
	s.past = of
	s.judged = &judgement{at: now, generation: s.generation, of: of, places: places}
	return of
}

// stand keeps what stands against a drive, and notes what of it changed, to be written down.
func (s *Service) stand(key string, d *disk, standing []health.Standing) {
	was := d.standing
	d.standing = standing
	same := len(was) == len(standing)
	for i := 0; same && i < len(standing); i++ {
		a, b := was[i], standing[i]
		same = a.Rule == b.Rule && a.Verdict == b.Verdict && b.Seen.Sub(d.standingKept) < time.Hour
	}
	if !same {
		s.unwritten[key] = true
	}
	s.logFindings(key, was, standing)
	for _, x := range standing {
		if bay := d.bay(); bay != "" && (x.Rule == "link-crc" || x.Rule == "link-follows-drive") && !slices.Contains(d.BadLinks, bay) {
			d.BadLinks = append(d.BadLinks, bay)
			s.badLink(key, d, bay)
			s.unwritten[key] = true
		}
		if x.Verdict.Gravity() >= health.Replace.Gravity() && x.Rule != "vanished" {
			if d.remember(past{x.Seen, fmt.Sprintf("had the verdict %s (%s)", x.Verdict, health.TitleOf(x.Rule))}) {
				s.unwritten[key] = true
			}
		}
	}
}

// logFindings notes what was raised, got another verdict or was cleared, to be written down.
func (s *Service) logFindings(key string, was, is []health.Standing) {
	now := s.clock.Now()
	note := func(x health.Standing, turn string) {
		s.foundLog = append(s.foundLog, &store.FoundLog{Drive: key, At: now, Rule: x.Rule, Turn: turn, Doc: document(x.Finding(now))})
	}
	for _, x := range is {
		i := slices.IndexFunc(was, func(w health.Standing) bool { return w.Rule == x.Rule })
		switch {
		case i < 0:
			note(x, "raised: "+string(x.Verdict))
		case was[i].Verdict != x.Verdict:
			note(x, "became "+string(x.Verdict))
		}
	}
	for _, w := range was {
		if !slices.ContainsFunc(is, func(x health.Standing) bool { return x.Rule == w.Rule }) {
			note(w, "cleared")
		}
	}
}

// writeStanding puts what changed of the findings into a batch.
func (s *Service) writeStanding(b *store.Batch) {
	now := s.clock.Now()
	for key := range s.unwritten {
		if d := s.drives[key]; d != nil {
			d.standingKept = now
			b.Put(&store.Standing{Drive: key, Doc: document(d.standing)})
			b.Put(d.row())
		}
	}
	for _, row := range s.foundLog {
		b.Add(row)
	}
	s.foundLog = nil
	clear(s.unwritten)
}

// cleanScrubs says when a scrub of each pool last ended that found nothing.
func (s *Service) cleanScrubs() map[string]time.Time {
	out := map[string]time.Time{}
	for _, c := range s.recov {
		if c.Kind == recovery.Scrub && c.State == recovery.Finished && c.Report.Found == 0 && c.EndedAt.After(out[c.PoolID]) {
			out[c.PoolID] = c.EndedAt
		}
	}
	return out
}

// neighbourhoods are the temperatures in each section of each enclosure.
func (s *Service) neighbourhoods() map[string]health.Group {
	degrees := map[string][]float64{}
	for _, d := range s.drives {
		if d.Section == "" || !d.Present {
			continue
		}
		if p, ok := d.record["temperature_celsius"].Last(); ok {
			at := d.Host + "/" + d.Section
			degrees[at] = append(degrees[at], p.Value)
		}
	}
	out := make(map[string]health.Group, len(degrees))
	for at, v := range degrees {
		out[at] = health.Robust(v)
	}
	return out
}

// places is where in its pool each drive is.
func (s *Service) places() map[string]place {
	s.judge()
	return s.judged.places
}

// batch is what serials of drives that may be siblings have in common.
func batch(d *disk) string {
	if n := len(d.Desc.Serial); n > 3 {
		return d.Desc.Model + "/" + d.Desc.Serial[:n-3]
	}
	return ""
}

// siblings are the keys of the drives made together with d (false), and of those of its model in its pool that ran just as
// long (true).
func (s *Service) siblings(d *disk, at place) map[string]bool {
	out := map[string]bool{}
	if hours, told := d.record["power_on_hours"].Last(); told && at.pool != nil {
		at.pool.Everyone(func(_ string, m *pool.Member) {
			other := s.drives[m.Drive]
			if other == nil || other == d || other.Desc.Model != d.Desc.Model {
				return
			}
			if p, ok := other.record["power_on_hours"].Last(); ok && health.SameHours(hours.Value, p.Value) {
				out[m.Drive] = true
			}
		})
	}
	for _, k := range s.batches[batch(d)] {
		if other := s.drives[k]; other != nil && health.SameBatch(d.Desc.Identity, other.Desc.Identity) {
			out[k] = false
		}
	}
	return out
}

// batchOf are the keys of the drives made together with d, in order.
func (s *Service) batchOf(d *disk) (keys []string) {
	for k := range s.siblings(d, place{}) {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// failure is the finding by which a drive counts as failed for its siblings: not for a bad link, not for being pulled.
func failure(hits []health.Hit, standing []health.Standing) *health.Hit {
	for i, h := range hits {
		if health.Failed(h) {
			return &hits[i]
		}
	}
	for i, h := range standing {
		if health.Failed(h.Hit) {
			return &standing[i].Hit
		}
	}
	return nil
}

// place is where in its pool a drive is, with its peers' latency.
type place struct {
	pool    *poolState
	member  pool.Member
	group   string
	peers   []string
	filling bool
	// also are its further places: the one above is the one that is worst off.
	also []place
}

// every calls f for each place of a drive.
func (at place) every(f func(place)) {
	if at.pool == nil {
		return
	}
	f(at)
	for _, x := range at.also {
		f(x)
	}
}

// worseThan says whether a place is worse off than another; margins are those of pools.
func (at place) worseThan(o place, margins map[string]int) bool {
	if at.member.State != o.member.State {
		return pool.Worse(at.member.State, o.member.State)
	}
	return margins[at.pool.ID] < margins[o.pool.ID]
}

// allPlaces are the places of all drives in pools, of each drive the worst first. Pools are gone through in one order, so that the same
// place stands first each time.
func (s *Service) allPlaces() map[string]place {
	out := make(map[string]place, len(s.drives))
	margins := map[string]int{}
	for _, p := range s.sortedPools() {
		margins[p.ID] = -1 << 20
		if m, known := s.margin(p); known {
			margins[p.ID] = int(m)
		}
		one := map[string][]place{}
		s.placesOf(p, one)
		for key, places := range one {
			for _, x := range places {
				at, known := out[key]
				switch {
				case !known:
					out[key] = x
				case x.worseThan(at, margins):
					x.also = append(slices.Clip(at.also), place{pool: at.pool, member: at.member, group: at.group, peers: at.peers, filling: at.filling})
					out[key] = x
				default:
					at.also = append(slices.Clip(at.also), x)
					out[key] = at
				}
			}
		}
	}
	return out
}

// placesOf are the places in one pool by drive.
func (s *Service) placesOf(p *poolState, out map[string][]place) {
	filling := map[string]bool{}
	for _, id := range p.running {
		if c := s.recov[id]; c != nil && c.State == recovery.Running {
			filling[c.Report.Drive] = true
		}
	}
	p.Everyone(func(group string, m *pool.Member) {
		for _, key := range append([]string{m.Drive}, m.Drives...) {
			if key != "" {
				out[key] = append(out[key], place{pool: p, member: *m, group: group, filling: filling[key]})
			}
		}
	})
	for _, g := range p.Groups {
		var keys []string
		for _, m := range g.Members {
			keys = append(keys, m.Drive)
		}
		for _, k := range keys {
			for i := range out[k] {
				if out[k][i].group == g.Name {
					out[k][i].peers = keys
				}
			}
		}
	}
}

func (s *Service) grounds(now time.Time, d *disk, at place, warm map[string]health.Group, scrubs map[string]time.Time) grounds {
	filling := false
	at.every(func(x place) { filling = filling || x.filling })
	g := grounds{version: d.version, state: at.member.State, filling: filling, asked: !d.Present && s.work.askedOut(d.Desc.Key(), now), limits: s.limitsOf(d, at), own: s.ownVersion, shift: s.shifts[d.Desc.Key()]}
	if h := s.hosts[d.Host]; h == nil || s.late(h, now) {
		g.late = true
	}
	var latencies []float64
	for _, k := range at.peers {
		if peer := s.drives[k]; peer != nil && peer != d {
			if p, ok := peer.record["read_latency_seconds"].Last(); ok {
				latencies = append(latencies, p.Value)
			}
		}
	}
	g.peers = health.Robust(latencies)
	if at.pool != nil {
		g.scrub = scrubs[at.pool.ID]
	}
	if d.Section != "" {
		g.neighbours = warm[d.Host+"/"+d.Section]
		var mates []string
		for key, tail := range s.badLinks[d.bay()] {
			if key != d.Desc.Key() {
				mates = append(mates, tail)
			}
		}
		slices.Sort(mates)
		g.mates = strings.Join(mates, " ")
	}
	return g
}

func (s *Service) subject(d *disk, at place, g grounds) health.Subject {
	sub := health.Subject{FirstAt: d.FirstAt, LastAt: d.SeenAt, Present: d.Present, GoneAt: d.SeenAt, Removed: d.Replaced || g.asked, HostLate: g.late, Blind: d.Blind,
		Failing: d.Reading.Failing, Warnings: d.Reading.Warnings, Medium: d.Desc.Medium, Record: d.record, Tests: wire.ToSelfTests(d.Reading.Tests), TestsTold: !d.Reading.At.IsZero(), CanTest: d.Reading.SelfTests,
		Peers: g.peers, Neighbours: g.neighbours, Filling: g.filling, Member: at.member.State, Paths: pathStates(d.Paths), Used: !d.Present && s.usedWhenLast(d), Stays: d.Stays, BayMates: strings.Fields(g.mates), Shift: g.shift, CleanScrub: g.scrub}
	if len(d.Reading.Sources) > 0 {
		sub.Sources = make(map[drive.MetricName]string, len(d.Reading.Sources))
		for n, source := range d.Reading.Sources {
			sub.Sources[drive.MetricName(n)] = source
		}
	}
	if d.Failed != nil && d.Failed.Says != "" {
		sub.FailedLBA, sub.Lies = d.Failed.Lba, d.Failed.Says
	}
	sub.Stalled = d.stalled
	if len(d.Reading.Unreadable) > 0 {
		u := d.Reading.Unreadable[0]
		sub.Bad = &drive.Unreadable{Kind: drive.PageKind(u.Kind), Why: u.Why, Bytes: u.Bytes}
	}
	return sub
}

// late says whether two reports of a host were missed (R7).
func (s *Service) late(h *host, now time.Time) bool {
	return h.SeenAt.IsZero() || now.Sub(h.SeenAt) > time.Duration(2*h.Interval*float64(time.Second))
}
