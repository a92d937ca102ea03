package judging

import (
	"fmt"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
	"lantern/internal/wire"
	"slices"
	"strings"
	"time"
)

// judgement is what the core says of every drive at one moment.
type judgement struct {
	at         time.Time
	generation int // of the changes that it was made after
	of         map[string]Judged
	places     map[string]fleet.Place
}

// Judged is one drive's part of it. hits is what was found without looking at siblings; it stands as long as what it was
// made from does.
type Judged struct {
	Findings []health.Finding
	Verdict  health.Verdict
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

// Judge gives the verdicts of all drives. s.mu is held. Of a large fleet only those drives are judged anew of which
// something changed.
func (s *State) Judge() map[string]Judged {
	now := s.Clock.Now()
	if s.judged != nil && s.judged.generation == s.Generation && now.Sub(s.judged.at) < s.Clock.AtLeast(goodFor, goodFor) && !now.Before(s.judged.at) {
		return s.judged.of
	}
	of := make(map[string]Judged, len(s.fleet.Drives))
	places := s.allPlaces()
	warm, scrubs := s.neighbourhoods(), s.recoveries.CleanScrubs()
	var bad []string
	for key, d := range s.fleet.Drives {
		j, known := s.past[key]
		from := s.grounds(now, d, places[key], warm, scrubs)
		if !known || j.from != from {
			sub := s.subject(d, places[key], from)
			j = Judged{hits: append(health.Evaluate(&sub, from.limits), s.ownHits(d, places[key])...), from: from}
		}
		of[key] = j
		if failure(j.hits, d.Standing) != nil {
			bad = append(bad, key)
		}
	}
	slices.Sort(bad)
	related := map[string][]health.Sibling{}
	for _, b := range bad {
		f := failure(of[b].hits, s.fleet.Drives[b].Standing)
		since := f.Since
		if since.IsZero() {
			since = now
		}
		for key, hours := range s.siblings(s.fleet.Drives[b], places[b]) {
			if places[key].Pool == nil {
				continue
			}
			why := "same model and serials near " + s.fleet.Drives[b].Desc.Serial
			if hours {
				why = "same model and nearly equal power-on hours"
			}
			related[key] = append(related[key], health.Sibling{Tail: s.fleet.Drives[b].Tail(), At: since, Why: why, Hours: hours})
		}
	}
	for key, j := range of {
		d := s.fleet.Drives[key]
		hits := j.hits
		if r := related[key]; len(r) > 0 {
			slices.SortFunc(r, func(a, b health.Sibling) int { return strings.Compare(a.Tail, b.Tail) })
			hits = append(slices.Clip(hits), health.EvaluateSiblings(r, now, j.from.limits)...)
		}
		if slices.ContainsFunc(d.Standing, func(x health.Standing) bool { return s.lifted(x.Rule, j.from.limits) }) {
			left := slices.DeleteFunc(slices.Clone(d.Standing), func(x health.Standing) bool { return s.lifted(x.Rule, j.from.limits) })
			s.logFindings(key, d.Standing, left)
			d.Standing = left
			s.unwritten[key] = true
		}
		if len(hits)+len(d.Standing) == 0 {
			j.Findings, j.Verdict = nil, health.VerdictOf(nil, j.from.late)
		} else {
			s.stand(key, d, health.Settle(d.Standing, hits, now))
			j.Findings, j.Verdict = health.Tell(d.Standing, j.from.late, now)
		}
		of[key] = j
	}
	s.past = of
	s.judged = &judgement{at: now, generation: s.Generation, of: of, places: places}
	return of
}

// stand keeps what stands against a drive, and notes what of it changed, to be written down.
func (s *State) stand(key string, d *fleet.Drive, standing []health.Standing) {
	was := d.Standing
	d.Standing = standing
	same := len(was) == len(standing)
	for i := 0; same && i < len(standing); i++ {
		a, b := was[i], standing[i]
		same = a.Rule == b.Rule && a.Verdict == b.Verdict && b.Seen.Sub(d.StandingKept) < time.Hour
	}
	if !same {
		s.unwritten[key] = true
	}
	s.logFindings(key, was, standing)
	for _, x := range standing {
		if bay := d.BayName(); bay != "" && (x.Rule == "link-crc" || x.Rule == "link-follows-drive") && !slices.Contains(d.BadLinks, bay) {
			d.BadLinks = append(d.BadLinks, bay)
			s.fleet.BadLink(key, d, bay)
			s.unwritten[key] = true
		}
		if x.Verdict.Gravity() >= health.Replace.Gravity() && x.Rule != "vanished" {
			if d.Remember(fleet.Past{At: x.Seen, Says: fmt.Sprintf("had the verdict %s (%s)", x.Verdict, health.TitleOf(x.Rule))}) {
				s.unwritten[key] = true
			}
		}
	}
}

// logFindings notes what was raised, got another verdict or was cleared, to be written down.
func (s *State) logFindings(key string, was, is []health.Standing) {
	now := s.Clock.Now()
	note := func(x health.Standing, turn string) {
		s.foundLog = append(s.foundLog, &store.FoundLog{Drive: key, At: now, Rule: x.Rule, Turn: turn, Doc: ledger.Document(x.Finding(now))})
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

// WriteStanding puts what changed of the findings into a batch.
func (s *State) WriteStanding(b *store.Batch) {
	now := s.Clock.Now()
	for key := range s.unwritten {
		if d := s.fleet.Drives[key]; d != nil {
			d.StandingKept = now
			b.Put(&store.Standing{Drive: key, Doc: ledger.Document(d.Standing)})
			b.Put(d.Row())
		}
	}
	for _, row := range s.foundLog {
		b.Add(row)
	}
	s.foundLog = nil
	clear(s.unwritten)
}

// neighbourhoods are the temperatures in each section of each enclosure.
func (s *State) neighbourhoods() map[string]health.Group {
	degrees := map[string][]float64{}
	for _, d := range s.fleet.Drives {
		if d.Section == "" || !d.Present {
			continue
		}
		if p, ok := d.Record["temperature_celsius"].Last(); ok {
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

// Places is where in its pool each drive is.
func (s *State) Places() map[string]fleet.Place {
	s.Judge()
	return s.judged.places
}

// siblings are the keys of the drives made together with d (false), and of those of its model in its pool that ran just as
// long (true).
func (s *State) siblings(d *fleet.Drive, at fleet.Place) map[string]bool {
	out := map[string]bool{}
	if hours, told := d.Record["power_on_hours"].Last(); told && at.Pool != nil {
		at.Pool.Everyone(func(_ string, m *pool.Member) {
			other := s.fleet.Drives[m.Drive]
			if other == nil || other == d || other.Desc.Model != d.Desc.Model {
				return
			}
			if p, ok := other.Record["power_on_hours"].Last(); ok && health.SameHours(hours.Value, p.Value) {
				out[m.Drive] = true
			}
		})
	}
	for _, k := range s.fleet.Batches[fleet.Batch(d)] {
		if other := s.fleet.Drives[k]; other != nil && health.SameBatch(d.Desc.Identity, other.Desc.Identity) {
			out[k] = false
		}
	}
	return out
}

// BatchOf are the keys of the drives made together with d, in order.
func (s *State) BatchOf(d *fleet.Drive) (keys []string) {
	for k := range s.siblings(d, fleet.Place{}) {
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

// allPlaces are the places of all drives in pools, of each drive the worst first. Pools are gone through in one order, so that the same
// place stands first each time.
func (s *State) allPlaces() map[string]fleet.Place {
	out := make(map[string]fleet.Place, len(s.fleet.Drives))
	margins := map[string]int{}
	for _, p := range s.fleet.SortedPools() {
		margins[p.ID] = -1 << 20
		if m, known := s.fleet.Margin(p); known {
			margins[p.ID] = int(m)
		}
		one := map[string][]fleet.Place{}
		s.recoveries.PlacesOf(p, one)
		for key, places := range one {
			for _, x := range places {
				at, known := out[key]
				switch {
				case !known:
					out[key] = x
				case x.WorseThan(at, margins):
					x.Also = append(slices.Clip(at.Also), fleet.Place{Pool: at.Pool, Member: at.Member, Group: at.Group, Peers: at.Peers, Filling: at.Filling})
					out[key] = x
				default:
					at.Also = append(slices.Clip(at.Also), x)
					out[key] = at
				}
			}
		}
	}
	return out
}

func (s *State) grounds(now time.Time, d *fleet.Drive, at fleet.Place, warm map[string]health.Group, scrubs map[string]time.Time) grounds {
	filling := false
	at.Every(func(x fleet.Place) { filling = filling || x.Filling })
	g := grounds{version: d.Version, state: at.Member.State, filling: filling, asked: !d.Present && s.fleet.Work.AskedOut(d.Desc.Key(), now), limits: s.limitsOf(d, at), own: s.ownVersion, shift: s.Shifts[d.Desc.Key()]}
	if h := s.fleet.Hosts[d.Host]; h == nil || s.fleet.Late(h, now) {
		g.late = true
	}
	var latencies []float64
	for _, k := range at.Peers {
		if peer := s.fleet.Drives[k]; peer != nil && peer != d {
			if p, ok := peer.Record["read_latency_seconds"].Last(); ok {
				latencies = append(latencies, p.Value)
			}
		}
	}
	g.peers = health.Robust(latencies)
	if at.Pool != nil {
		g.scrub = scrubs[at.Pool.ID]
	}
	if d.Section != "" {
		g.neighbours = warm[d.Host+"/"+d.Section]
		var mates []string
		for key, tail := range s.fleet.BadLinks[d.BayName()] {
			if key != d.Desc.Key() {
				mates = append(mates, tail)
			}
		}
		slices.Sort(mates)
		g.mates = strings.Join(mates, " ")
	}
	return g
}

func (s *State) subject(d *fleet.Drive, at fleet.Place, g grounds) health.Subject {
	sub := health.Subject{FirstAt: d.FirstAt, LastAt: d.SeenAt, Present: d.Present, GoneAt: d.SeenAt, Removed: d.Replaced || g.asked, HostLate: g.late, Blind: d.Blind,
		Failing: d.Reading.Failing, Warnings: d.Reading.Warnings, Medium: d.Desc.Medium, Record: d.Record, Tests: wire.ToSelfTests(d.Reading.Tests), TestsTold: !d.Reading.At.IsZero(), CanTest: d.Reading.SelfTests,
		Peers: g.peers, Neighbours: g.neighbours, Filling: g.filling, Member: at.Member.State, Paths: fleet.PathStates(d.Paths), Used: !d.Present && s.fleet.UsedWhenLast(d), Stays: d.Stays, BayMates: strings.Fields(g.mates), Shift: g.shift, CleanScrub: g.scrub}
	if len(d.Reading.Sources) > 0 {
		sub.Sources = make(map[drive.MetricName]string, len(d.Reading.Sources))
		for n, source := range d.Reading.Sources {
			sub.Sources[drive.MetricName(n)] = source
		}
	}
	if d.Failed != nil && d.Failed.Says != "" {
		sub.FailedLBA, sub.Lies = d.Failed.Lba, d.Failed.Says
	}
	sub.Stalled = d.Stalled
	if len(d.Reading.Unreadable) > 0 {
		u := d.Reading.Unreadable[0]
		sub.Bad = &drive.Unreadable{Kind: drive.PageKind(u.Kind), Why: u.Why, Bytes: u.Bytes}
	}
	return sub
}
