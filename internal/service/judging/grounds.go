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
