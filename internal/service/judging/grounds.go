package judging

import (
	"slices"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/service/fleet"
	"lantern/internal/wire"
)

// grounds are the inputs of a drive's findings besides its siblings: equal grounds give equal findings.
type grounds struct {
	contested  string // why its identity is not known
	version    int    // of the drive in memory
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
	own        int // version of people's own rules
}

// sameHours are the keys of the drives of d's model in its pool with the same hours.
func (s *State) sameHours(d *fleet.Drive, at fleet.Place) (keys []string) {
	hours, told := d.Record["power_on_hours"].Last()
	if !told || at.Pool == nil {
		return nil
	}
	at.Pool.Everyone(func(_ string, m *pool.Member) {
		other := s.fleet.Drives[m.Drive]
		if other == nil || other == d || other.Desc.Model != d.Desc.Model {
			return
		}
		if p, ok := other.Record["power_on_hours"].Last(); ok && health.SameHours(hours.Value, p.Value) {
			keys = append(keys, m.Drive)
		}
	})
	return keys
}

// sameBatch are the keys of the drives made together with d, by their serials or by their inventory records.
func (s *State) sameBatch(d *fleet.Drive, _ fleet.Place) (keys []string) {
	for _, k := range s.fleet.Batches[fleet.Batch(d)] {
		if other := s.fleet.Drives[k]; other != nil && health.SameBatch(d.Desc.Identity, other.Desc.Identity) {
			keys = append(keys, k)
		}
	}
	for _, k := range s.fleet.Bought(d) {
		if !slices.Contains(keys, k) {
			keys = append(keys, k)
		}
	}
	return keys
}

// BatchOf are the keys of the drives made together with d, in order.
func (s *State) BatchOf(d *fleet.Drive) []string {
	return slices.Sorted(slices.Values(s.sameBatch(d, fleet.Place{})))
}

func (s *State) grounds(now time.Time, d *fleet.Drive, j *judgement, p *peers) grounds {
	at := j.places[d.Key()]
	filling := false
	at.Every(func(x fleet.Place) { filling = filling || x.Filling })
	g := grounds{
		version: d.Version(),
		state:   at.Member.State,
		filling: filling,
		asked:   !d.Present && s.fleet.Work.AskedOut(d.Key(), now),
		limits:  s.limitsOf(d, at),
		own:     s.ownVersion,
		shift:   s.Shifts[d.Key()],
	}
	if h := s.fleet.Hosts[d.Host]; h == nil || s.fleet.Late(h, now) {
		g.late = true
	}
	g.contested = s.fleet.Contested(d)
	g.peers = p.group(d, at.Peers)
	if at.Pool != nil {
		g.scrub = j.scrubs[at.Pool.ID]
	}
	if d.Section != "" {
		if sec := j.sections[d.Host+"/"+d.Section]; sec != nil {
			g.neighbours = sec.group
		}
		var mates []string
		for key, tail := range s.fleet.BadLinks[d.BayName()] {
			if key != d.Key() {
				mates = append(mates, tail)
			}
		}
		slices.Sort(mates)
		g.mates = strings.Join(mates, " ")
	}
	return g
}

// peers gives the read latencies of the other drives of each group. It looks each drive up once, and is made for one
// judgement only.
type peers struct {
	fleet  *fleet.State
	of     map[*string][]latency // by the first key in the list of a group
	others []float64             // memory for those of one drive
}

// latency is the newest read latency of a drive, in seconds.
type latency struct {
	drive   *fleet.Drive
	seconds float64
}

func peersOf(f *fleet.State) *peers { return &peers{fleet: f, of: map[*string][]latency{}} }

// group are the latencies of the drives with the given keys but d.
func (p *peers) group(d *fleet.Drive, keys []string) health.Group {
	if len(keys) == 0 {
		return health.Group{}
	}
	all, known := p.of[&keys[0]]
	if !known {
		for _, k := range keys {
			if peer := p.fleet.Drives[k]; peer != nil {
				if last, ok := peer.Record["read_latency_seconds"].Last(); ok {
					all = append(all, latency{peer, last.Value})
				}
			}
		}
		p.of[&keys[0]] = all
	}
	p.others = p.others[:0]
	for _, x := range all {
		if x.drive != d {
			p.others = append(p.others, x.seconds)
		}
	}
	return health.Robust(p.others)
}

func (s *State) subject(d *fleet.Drive, at fleet.Place, g grounds) health.Subject {
	sub := health.Subject{
		FirstAt:    d.FirstAt,
		LastAt:     d.SeenAt,
		Present:    d.Present,
		GoneAt:     d.SeenAt,
		Removed:    d.Replaced || g.asked,
		HostLate:   g.late,
		Blind:      d.Blind,
		Contested:  g.contested,
		Failing:    d.Reading.Failing,
		Warnings:   d.Reading.Warnings,
		Medium:     d.Desc.Medium,
		Record:     d.Record,
		Tests:      wire.ToSelfTests(d.Reading.Tests),
		TestsTold:  !d.Reading.At.IsZero(),
		CanTest:    d.Reading.SelfTests,
		Peers:      g.peers,
		Neighbours: g.neighbours,
		Filling:    g.filling,
		Member:     at.Member.State,
		Paths:      fleet.PathStates(d.Paths),
		Used:       !d.Present && s.fleet.UsedWhenLast(d),
		Stays:      d.Stays,
		BayMates:   strings.Fields(g.mates),
		Shift:      g.shift,
		CleanScrub: g.scrub,
	}
	if len(d.Reading.Sources) > 0 {
		sub.Sources = make(map[drive.MetricName]string, len(d.Reading.Sources))
		for n, source := range d.Reading.Sources {
			sub.Sources[drive.MetricName(n)] = source
		}
	}
	if d.Failed != nil && d.Failed.Says != "" {
		sub.FailedLBA, sub.SectorHolds = d.Failed.Lba, d.Failed.Says
	}
	sub.Stalled = d.Stalled
	if len(d.Reading.Unreadable) > 0 {
		u := d.Reading.Unreadable[0]
		sub.Bad = &drive.Unreadable{Kind: drive.PageKind(u.Kind), Why: u.Why, Bytes: u.Bytes}
	}
	return sub
}
