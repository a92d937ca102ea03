package service

import (
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// judgement is what the core says of every drive at one moment.
type judgement struct {
	at time.Time
	of map[string]judged
}

type judged struct {
	findings []health.Finding
	verdict  health.Verdict
	siblings []string // keys
}

// goodFor is how long a judgement stands when nothing was reported: long enough to answer a page, short enough that a
// host which went quiet shows.
const goodFor = 2 * time.Second

// judge gives the verdicts of all drives. s.mu is held.
func (s *Service) judge() map[string]judged {
	now := s.clock.Now()
	if s.judged != nil && now.Sub(s.judged.at) < s.clock.AtLeast(goodFor, goodFor) && !now.Before(s.judged.at) {
		return s.judged.of
	}
	of := make(map[string]judged, len(s.drives))
	places := map[string]place{}
	for _, p := range s.pools {
		s.placesOf(p, places)
	}
	subjects := make(map[string]health.Subject, len(s.drives))
	batches := map[string][]string{}
	for key, d := range s.drives {
		sub := s.subject(now, d, places[key])
		subjects[key] = sub
		var j judged
		j.findings, j.verdict = health.Judge(sub)
		of[key] = j
		if id := d.Desc.Serial; len(id) > 3 {
			b := d.Desc.Model + "/" + id[:len(id)-3]
			batches[b] = append(batches[b], key)
		}
	}
	for _, keys := range batches {
		slices.Sort(keys)
		for _, a := range keys {
			for _, b := range keys {
				if a == b || !health.SameBatch(s.drives[a].Desc.Identity, s.drives[b].Desc.Identity) {
					continue
				}
				j := of[a]
				j.siblings = append(j.siblings, b)
				of[a] = j
			}
		}
	}
	for key, j := range of {
		sub := subjects[key]
		for _, b := range j.siblings {
			if f := failed(of[b].findings); f != nil && places[key].pool != nil {
				sub.Siblings = append(sub.Siblings, health.Sibling{Tail: s.drives[b].tail(), At: f.Since,
					Why: "same model and serials near " + s.drives[b].Desc.Serial})
			}
		}
		if len(sub.Siblings) > 0 {
			j.findings, j.verdict = health.Judge(sub)
			of[key] = j
		}
	}
	s.judged = &judgement{at: now, of: of}
	return of
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

func (s *Service) subject(now time.Time, d *disk, at place) health.Subject {
	sub := health.Subject{Now: now, FirstAt: d.FirstAt, LastAt: d.SeenAt, Present: d.Present, GoneAt: d.SeenAt,
		Removed: d.Replaced, Blind: d.Blind, Failing: d.Reading.Failing, Record: d.record, Tests: wire.ToSelfTests(d.Reading.Tests),
		Filling: at.filling, Member: at.member.State}
	if h := s.hosts[d.Host]; h == nil || s.late(h, now) {
		sub.HostLate = true
	}
	if len(d.Reading.Unreadable) > 0 {
		u := d.Reading.Unreadable[0]
		sub.Bad = &drive.Unreadable{Kind: drive.PageKind(u.Kind), Why: u.Why, Bytes: u.Bytes}
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
		sub.PeerLatency = latencies[len(latencies)/2]
	}
	return sub
}

// late says whether two reports of a host were missed (R7).
func (s *Service) late(h *host, now time.Time) bool {
	return h.SeenAt.IsZero() || now.Sub(h.SeenAt) > time.Duration(2*h.Interval*float64(time.Second))
}

// series of one metric, from memory when that reaches far enough back, else from the store too.
func (s *Service) series(key string, metric drive.MetricName, since time.Time) (history.Series, error) {
	d := s.drives[key]
	if !since.Before(s.clock.Now().Add(-keepInMemory)) {
		return d.record[metric].Since(since), nil
	}
	var all history.Series
	err := s.store.EachReading(since, func(r store.Reading) error {
		if r.Drive != key {
			return nil
		}
		m, err := history.Unpack(r.Packed)
		if err != nil {
			return nil // load has told of it
		}
		if v, ok := m[metric]; ok {
			all = all.Add(history.Point{At: time.UnixMilli(r.At).UTC(), Value: v})
		}
		return nil
	})
	return all, err
}
