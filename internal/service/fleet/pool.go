package fleet

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/wire"
)

type Pool struct {
	pool.Pool
	Reporter string // the host whose report it is from
	Reported string // the name that its host gives it
	At       time.Time
	Running  []string // ids of recoveries that are running or paused
	Offers   []string // its capabilities
	Priority string
	Torn     bool   // it changed repeatedly while it was read
	Waits    string // why a recovery that should run does not run
	// unseen is since when its host reports without it; zero while the host reports it; wrong says what is impossible
	// in its report; witness is the second source for its members.
	Unseen  time.Time
	Wrong   string
	Witness api.Witness
	// Claims are the reports of it by other hosts, by host; Clash says why it is not known which report is right.
	Claims map[string]*PoolClaim
	Clash  string
	// drives are the keys of the drives that have a place in it, hosts the names of the hosts that its members are on.
	drives map[string]bool
	hosts  []string
	kept   kept
}

// TakePool puts a reported pool into memory. A place without a reported drive keeps the one last seen there.
func (s *State) TakePool(from string, at time.Time, p api.PoolReport) {
	before := s.Pools[p.Id]
	next := &Pool{
		Pool:     wire.ToPool(p),
		Reporter: from,
		At:       at,
		Offers:   p.Offers,
		Priority: p.Priority,
		Torn:     p.Inconsistent,
		Waits:    p.Waits,
		Unseen:   p.NotSeenSince,
		Witness:  p.Witness,
		drives:   map[string]bool{},
	}
	next.Reported = next.Name
	if given := s.Names.given[p.Id].Name; given != "" {
		next.Name = given
	}
	if before == nil || before.Name != next.Name {
		s.Names.twins = nil
	}
	if before != nil && before.Reporter == from {
		next.Claims, next.Clash = before.Claims, before.Clash
	}
	next.Watched = next.Watched || len(p.Offers) == 0
	if err := next.Check(); err != nil {
		next.Wrong = err.Error()
	}
	next.Everyone(func(_ string, m *pool.Member) {
		if m.Drive == "" && before != nil && m.State != pool.Out {
			was, _, _ := before.Slot(m.Slot)
			m.Drive = was.Drive
		}
		for _, key := range append([]string{m.Drive}, m.Drives...) {
			next.drives[key] = true
		}
		next.kept.layered = next.kept.layered || m.Under != ""
	})
	if before != nil && !next.kept.layered && before.WhyUnknown() == next.WhyUnknown() &&
		reflect.DeepEqual(before.Pool, next.Pool) {
		next.kept = before.kept
	}
	next.hosts = domainsOf(&next.Pool)
	if next.Unseen.IsZero() {
		next.Running = runningOf(p.Recoveries)
	}
	s.put(before, next)
}

// put puts a pool into memory and into the lists, in place of an earlier state of it, which is nil for a new one.
func (s *State) put(before, next *Pool) {
	s.index.unlink(next.ID)
	s.Pools[next.ID] = next
	if i, in := slices.BinarySearchFunc(s.index.byName, next, byName); in {
		s.index.byName[i] = next
	} else {
		s.index.byName = nil
	}
	s.index.poolChanged(next.ID, before == nil || before.Name != next.Name || before.Kind != next.Kind ||
		before.Reporter != next.Reporter || !slices.Equal(before.hosts, next.hosts) ||
		!slices.Equal(before.Offers, next.Offers))
	for key := range next.drives {
		if s.index.pools[key] == nil {
			s.index.pools[key] = map[string]*Pool{}
		}
		s.index.pools[key][next.ID] = next
	}
}

// domainsOf are the hosts that members of a pool are on.
func domainsOf(p *pool.Pool) (out []string) {
	for _, g := range p.Groups {
		for _, m := range g.Members {
			if m.Domain != "" && !slices.Contains(out, m.Domain) {
				out = append(out, m.Domain)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Hosts are the names of the hosts that members of a pool are on. They must not be changed.
func (p *Pool) Hosts() []string { return p.hosts }

// runningOf are the ids of recoveries that are running or paused.
func runningOf(all []api.RecoveryReport) (ids []string) {
	for _, r := range all {
		switch recovery.State(r.State) {
		case recovery.Finished, recovery.Stopped, recovery.Failed:
		default: // also a state that is not known here
			if r.Id != "" {
				ids = append(ids, r.Id)
			}
		}
	}
	return ids
}

// Recovers reports whether a pool recovers: a recovery runs or is paused, or a member is being filled even if the
// pool's list of recoveries does not have it.
func (p *Pool) Recovers() bool {
	filled := false
	p.Everyone(func(_ string, m *pool.Member) { filled = filled || m.State == pool.Recovering })
	return filled || len(p.Running) > 0
}

// drop removes a pool from memory.
func (s *State) drop(id string) {
	if s.Pools[id] != nil {
		s.index.unlink(id)
		s.index.byName = nil
		s.index.poolChanged(id, true)
	}
}

// unlink removes a pool and its places, but not from the lists.
func (x *index) unlink(id string) {
	if p := x.of.Pools[id]; p != nil {
		for key := range p.drives {
			delete(x.pools[key], id)
		}
		delete(x.of.Pools, id)
	}
}

// PoolBusy is the mean busy share of a pool's drives: one failing member alone does not make a busy pool.
func (s *State) PoolBusy(p *Pool) float64 {
	sum, n := 0.0, 0
	p.Everyone(func(_ string, m *pool.Member) {
		if d := s.Drives[m.Drive]; d != nil && d.Present {
			sum += d.Busy
			n++
		}
	})
	return sum / float64(max(1, n))
}

// PoolsWith are the pools in which a drive has a place, in the order of their names.
func (s *State) PoolsWith(key string) []*Pool {
	return slices.SortedFunc(maps.Values(s.index.pools[key]), byName)
}

// Below finds a pool that is a member of another one; a pool that is no longer seen is unknown.
func (s *State) Below(id string) *pool.Pool {
	if p := s.Pools[id]; p != nil && p.WhyUnknown() == "" {
		return &p.Pool
	}
	return nil
}

// Known reports whether the state of the pool is known: its host reports it, and the report is consistent.
func (p *Pool) Known() bool { return p.Unseen.IsZero() && p.Wrong == "" && p.Clash == "" }

// AsKnown is the pool as far as it is known now: all members are unknown where its report is missing or inconsistent,
// or changed while it was read.
func (s *State) AsKnown(p *Pool) *pool.Pool {
	if p.WhyUnknown() == "" {
		return &p.Pool
	}
	q := p.Unknown()
	return &q
}

// Margin is how many more drives a pool can lose. It is unknown when its host no longer reports the pool, and when its
// report is inconsistent or changed repeatedly while it was read (R7).
func (s *State) Margin(p *Pool) (pool.Margin, bool) {
	if p.WhyUnknown() != "" {
		return 0, false
	}
	if p.kept.layered {
		return p.DriveMargin(s.Below)
	}
	if !p.kept.made {
		p.kept.margin, p.kept.known = p.DriveMargin(s.Below)
		p.kept.made = true
	}
	return p.kept.margin, p.kept.known
}

// FullMargin is a pool's margin when nothing is lost.
func (p *Pool) FullMargin(below pool.Lookup) int {
	work := func() pool.Margin {
		whole := p.Whole()
		full, _ := whole.DriveMargin(func(id string) *pool.Pool {
			if q := below(id); q != nil {
				w := q.Whole()
				return &w
			}
			return nil
		})
		return full
	}
	if p.kept.layered {
		return int(work())
	}
	if !p.kept.whole {
		p.kept.full, p.kept.whole = work(), true
	}
	return int(p.kept.full)
}

// MarginLimitedBy is what limits a pool's margin.
func (p *Pool) MarginLimitedBy(below pool.Lookup) string {
	work := func() string {
		q := p.Through(below)
		return q.LimitedBy()
	}
	if p.kept.layered {
		return work()
	}
	if !p.kept.limits {
		p.kept.limitedBy, p.kept.limits = work(), true
	}
	return p.kept.limitedBy
}

// kept holds computed values of a pool, valid as long as the pool is unchanged. Nothing is kept of a pool with members
// that are pools.
type kept struct {
	layered, made, known bool
	margin               pool.Margin
	without              map[string]without
	whole, limits        bool // that is known
	full                 pool.Margin
	limitedBy            string
}

// Layered reports whether the pool is on other pools.
func (p *Pool) Layered() bool { return p.kept.layered }

type without struct {
	left  pool.Margin
	lost  []string
	known bool
}

// Without is a pool's margin after a drive is gone with all its places, and the volumes that are lost then.
func (s *State) Without(p *Pool, key, slot string) (left pool.Margin, lost []string, known bool) {
	if p.WhyUnknown() != "" {
		return 0, nil, false
	}
	if x, ok := p.kept.without[key+" "+slot]; ok {
		return x.left, x.lost, x.known
	}
	slots := p.SlotsOf(key)
	if !slices.Contains(slots, slot) && slot != "" {
		slots = append(slots, slot)
	}
	q := p.Losing(slots...)
	left, known = q.DriveMargin(s.Below)
	lost = q.LostVolumes()
	if !p.kept.layered {
		if p.kept.without == nil {
			p.kept.without = map[string]without{}
		}
		p.kept.without[key+" "+slot] = without{left, lost, known}
	}
	return left, lost, known
}

// Unreported keeps the pools that a host reported before and no longer reports: they are remembered, but their state is
// unknown (R7). Pools that another host reports now belong to that host.
func (s *State) Unreported(from string, at time.Time, was []api.PoolReport, r *api.Report) (gone []string) {
	for _, p := range was {
		now := s.Pools[p.Id]
		if slices.ContainsFunc(r.Pools, func(x api.PoolReport) bool { return x.Id == p.Id }) || now == nil ||
			now.Reporter != from {
			continue
		}
		if p.NotSeenSince.IsZero() {
			p.NotSeenSince = at
			gone = append(gone, p.Id)
		}
		r.Pools = append(r.Pools, p)
	}
	return gone
}

// PoolMatters are the matters of whole pools: pools that are no longer seen, with an inconsistent report, or with two
// accounts that differ.
func (s *State) PoolMatters() (out []notice.Matter) {
	for _, p := range s.SortedPools() {
		says, do := p.Trouble()
		if says != "" {
			out = append(
				out,
				notice.Matter{
					Key:      "pool/" + p.ID,
					Kind:     notice.Pool,
					Severity: health.Unknown,
					Pool:     p.Name,
					Host:     p.Reporter,
					Says:     says,
					Do:       do,
				},
			)
		}
	}
	return out
}

// WhyUnknown says why the shown state of a pool cannot be relied on now; empty when it can.
func (p *Pool) WhyUnknown() string {
	switch {
	case !p.Known():
		says, _ := p.Trouble()
		return says
	case p.Clash != "":
		return p.Clash
	case p.Torn:
		return p.Name + " changed while it was read: what is shown may not fit together"
	}
	return ""
}

// Trouble says why the state of a pool is not known; empty when it is known.
func (p *Pool) Trouble() (says, do string) {
	switch {
	case !p.Unseen.IsZero():
		return fmt.Sprintf(
				"%s has not been reported by %s since %s: its state is unknown",
				p.Name,
				p.Reporter,
				p.Unseen.Format("2006-01-02 15:04"),
			),
			"Find out whether it was stopped, unmounted or not assembled. If it no longer exists: lantern pool " +
				"forget " + p.ID
	case p.Wrong != "":
		return "inconsistent report of " + p.Name + ": " + p.Wrong, "Look at the " +
			"agent on " + p.Reporter + ", and at the pool by hand."
	case p.Clash != "":
		return p.Clash, "Nothing is ordered for it. Find out which host should use its drives, and stop the other one."
	case len(p.Witness.Differs) > 0 && !p.Witness.Unread: // drives in standby are no trouble
		return "the live view and the on-disk metadata of " + p.Name + " differ: " + strings.Join(
			p.Witness.Differs,
			"; ",
		), "Find out which one is right before you pull any drive of it."
	}
	return "", ""
}

// Above are the pools built on a pool, directly or through others.
func (s *State) Above(ids map[string]bool) (out []*pool.Pool) {
	seen := map[string]bool{}
	for range len(s.Pools) {
		grown := false
		for _, p := range s.SortedPools() {
			lies := false
			p.Everyone(func(_ string, m *pool.Member) { lies = lies || ids[m.Under] || seen[m.Under] })
			if lies && !seen[p.ID] && !ids[p.ID] {
				seen[p.ID], grown = true, true
				out = append(out, s.AsKnown(p))
			}
		}
		if !grown {
			break
		}
	}
	return out
}

// OnlyOn reports whether all members of a pool are on one host, so that the pool is unavailable while that host is
// down.
func (p *Pool) OnlyOn(host string) bool {
	there, elsewhere := false, false
	p.Everyone(func(group string, m *pool.Member) {
		if group != "" {
			there = there || m.Domain == host
			elsewhere = elsewhere || m.Domain != host
		}
	})
	return there && !elsewhere
}
