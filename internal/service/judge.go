package service

import (
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/wire"
)

// judgement is what the core says of every drive at one moment.
type judgement struct {
	at     time.Time
	of     map[string]judged
	places map[string]place
}

// judged is one drive's part of it. alone is what was found without looking at siblings; it stands as long as what it
// was made from does.
type judged struct {
	findings []health.Finding
	verdict  health.Verdict
	alone    *judged
	from     grounds
}

// grounds are what a drive's findings can depend on, beside its siblings: equal grounds give equal findings.
type grounds struct {
	version int // of what is remembered of the drive
	late    bool
	state   pool.MemberState
	filling bool
	peers   float64
}

// goodFor is how long a judgement stands when nothing was reported: long enough to answer a page, short enough that a
// host which went quiet shows.
const goodFor = 2 * time.Second

// judge gives the verdicts of all drives. s.mu is held. Of a large fleet only those drives are judged anew of which
// something changed.
func (s *Service) judge() map[string]judged {
	now := s.clock.Now()
	if s.judged != nil && now.Sub(s.judged.at) < s.clock.AtLeast(goodFor, goodFor) && !now.Before(s.judged.at) {
		return s.judged.of
	}
	of := make(map[string]judged, len(s.drives))
	places := make(map[string]place, len(s.drives))
	for _, p := range s.pools {
		s.placesOf(p, places)
	}
	var bad []string
	for key, d := range s.drives {
		j, known := s.before[key]
		from := s.grounds(now, d, places[key])
		if !known || j.alone == nil || j.from != from {
			one := judged{}
			one.findings, one.verdict = health.Judge(s.subject(d, places[key], from))
			j = judged{findings: one.findings, verdict: one.verdict, alone: &one, from: from}
		} else {
			j.findings, j.verdict = j.alone.findings, j.alone.verdict
		}
		of[key] = j
		if failed(j.findings) != nil {
			bad = append(bad, key)
		}
	}
	slices.Sort(bad)
	siblings := map[string][]health.Sibling{}
	for _, b := range bad {
		f := failed(of[b].findings)
		for _, a := range s.siblings(s.drives[b]) {
			if places[a].pool != nil {
				siblings[a] = append(siblings[a], health.Sibling{Tail: s.drives[b].tail(), At: f.Since, Why: "same model and serials near " + s.drives[b].Desc.Serial})
			}
		}
	}
	for a, failedOnes := range siblings {
		sub := s.subject(s.drives[a], places[a], of[a].from)
		sub.Siblings = failedOnes
		j := of[a]
		j.findings, j.verdict = health.Judge(sub)
		of[a] = j
	}
	s.before = of
	s.judged = &judgement{at: now, of: of, places: places}
	return of
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

// siblings are the keys of the drives made together with d.
func (s *Service) siblings(d *disk) (keys []string) {
	for _, k := range s.batches[batch(d)] {
		if other := s.drives[k]; other != nil && health.SameBatch(d.Desc.Identity, other.Desc.Identity) {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	return keys
}

// failed is the finding by which a drive counts as failed for its siblings: not for a bad link, not for being pulled.
func failed(findings []health.Finding) *health.Finding {
	for i, f := range findings {
		if f.Verdict.Gravity() >= health.Replace.Gravity() && f.Strength == drive.Strong && f.Rule != "vanished" {
			return &findings[i]
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
}

func (s *Service) placesOf(p *poolState, out map[string]place) {
	filling := map[string]bool{}
	for _, id := range p.running {
		if c := s.recov[id]; c != nil && c.State == recovery.Running {
			filling[c.Report.Drive] = true
		}
	}
	p.Everyone(func(group string, m *pool.Member) {
		if m.Drive == "" {
			return
		}
		out[m.Drive] = place{pool: p, member: *m, group: group, filling: filling[m.Drive]}
	})
	for _, g := range p.Groups {
		var keys []string
		for _, m := range g.Members {
			keys = append(keys, m.Drive)
		}
		for _, k := range keys {
			if at, ok := out[k]; ok {
				at.peers = keys
				out[k] = at
			}
		}
	}
}

func (s *Service) grounds(now time.Time, d *disk, at place) grounds {
	g := grounds{version: d.version, state: at.member.State, filling: at.filling}
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
	if len(latencies) >= 2 {
		slices.Sort(latencies)
		g.peers = latencies[len(latencies)/2]
	}
	return g
}

func (s *Service) subject(d *disk, at place, g grounds) health.Subject {
	sub := health.Subject{FirstAt: d.FirstAt, LastAt: d.SeenAt, Present: d.Present, GoneAt: d.SeenAt,
		Removed: d.Replaced, HostLate: g.late, Blind: d.Blind, Failing: d.Reading.Failing, Record: d.record, Tests: wire.ToSelfTests(d.Reading.Tests),
		PeerLatency: g.peers, Filling: at.filling, Member: at.member.State}
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
