package service

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/core/partition"
	"lantern/internal/core/pool"
	"lantern/internal/core/stack"
	"lantern/internal/core/swap"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// seat is one place that a drive has in a pool.
type seat struct {
	pool   *poolState
	member pool.Member
	group  string
}

// sortedPools are all pools in an order that does not change.
func (s *Service) sortedPools() []*poolState { return s.poolsWith("") }

// poolsWith are the pools in which a drive has a place, in an order that does not change; all of them where key is empty.
func (s *Service) poolsWith(key string) (out []*poolState) {
	for _, p := range s.pools {
		if key == "" || p.drives[key] {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b *poolState) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID)) })
	return out
}

// below finds a pool that a member of another one is; of one that is not seen any more, nothing is known.
func (s *Service) below(id string) *pool.Pool {
	if p := s.pools[id]; p != nil && p.unknown() == "" {
		return &p.Pool
	}
	return nil
}

// known says whether the pool is as it is shown: its host reports it, and its report can be so.
func (p *poolState) known() bool { return p.unseen.IsZero() && p.wrong == "" }

// asKnown is the pool as far as it is known now: all members are unknown where its report is missing, contradicts itself, or changed
// while it was read.
func (s *Service) asKnown(p *poolState) *pool.Pool {
	if p.unknown() == "" {
		return &p.Pool
	}
	q := p.Unknown()
	return &q
}

// margin is how many more drives a pool can lose. It is not known of a pool that its host does not report any more, whose report cannot
// be so, or that changed again and again while it was read (R7).
func (s *Service) margin(p *poolState) (pool.Margin, bool) {
	if p.unknown() != "" {
		return 0, false
	}
	return p.DriveMargin(s.below)
}

// without is a pool's margin after a drive is gone with all its places, and the volumes that are lost then.
func (s *Service) without(p *poolState, key, slot string) (left pool.Margin, lost []string, known bool) {
	if p.unknown() != "" {
		return 0, nil, false
	}
	slots := p.SlotsOf(key)
	if !slices.Contains(slots, slot) && slot != "" {
		slots = append(slots, slot)
	}
	q := p.Losing(slots...)
	left, known = q.DriveMargin(s.below)
	return left, q.LostVolumes(), known
}

// seats are all places of a drive, the one that is worst off first.
func (s *Service) seats(key string) (out []seat) {
	if key == "" {
		return nil
	}
	for _, p := range s.poolsWith(key) {
		p.Everyone(func(group string, m *pool.Member) {
			if m.On(key) {
				out = append(out, seat{p, *m, group})
			}
		})
	}
	slices.SortStableFunc(out, func(a, b seat) int {
		switch {
		case pool.Worse(a.member.State, b.member.State):
			return -1
		case pool.Worse(b.member.State, a.member.State):
			return 1
		}
		return s.lessMargin(a.pool, b.pool)
	})
	return out
}

// lessMargin puts the pool with the least margin first, and one of which none is known before all.
func (s *Service) lessMargin(a, b *poolState) int {
	rank := func(p *poolState) int {
		m, known := s.margin(p)
		if !known {
			return -1 << 20
		}
		return int(m)
	}
	return cmp.Compare(rank(a), rank(b))
}

// member finds the pool in which a drive has a place; of several the one that is worst off.
func (s *Service) member(key string) (p *poolState, m pool.Member, group string) {
	if all := s.seats(key); len(all) > 0 {
		return all[0].pool, all[0].member, all[0].group
	}
	return nil, m, ""
}

// unaccounted are the uses of a drive that no pool accounts for. What only lies on a whole drive belongs to the pool that has the
// whole drive as a member, whoever reports it.
func (s *Service) unaccounted(d *disk) (out []api.Use) {
	all := s.seats(d.Desc.Key())
	whole := slices.ContainsFunc(all, func(x seat) bool { return x.member.Partition == 0 && len(x.member.Layers) == 0 })
	for _, u := range d.Uses {
		switch p := s.pools[u.Pool]; {
		case u.Pool != "" && p != nil && slices.Contains(p.Drives(s.below), d.Desc.Key()):
		case !u.Active && len(u.Chain) == 0 && (whole || u.Kind == drive.TestPattern):
		default:
			out = append(out, u)
		}
	}
	return out
}

// notFree says why a drive must not be taken for unused, and what to do; empty only when it was established that it is: it is there,
// its host reports, both its ends were read and are blank, the kernel shows no use of it, and it is in no pool.
func (s *Service) notFree(d *disk) (why, do string) {
	h := s.hosts[d.Host]
	uses := s.unaccounted(d)
	active := slices.DeleteFunc(slices.Clone(uses), func(u api.Use) bool { return !u.Active })
	switch p, _, _ := s.member(d.Desc.Key()); {
	case p != nil:
		return "it is a member of " + p.Name, "Swap it out first."
	case !d.Present:
		return "it does not answer, so its current contents are unknown", "Put it in first."
	case h == nil || s.late(h, s.clock.Now()):
		return d.Host + " does not report, so what uses it now is not known", "Bring its agent back first."
	case len(active) > 0:
		return "it is in use: " + useWords(active), "Stop that use first: unmount, swapoff, close."
	case len(uses) > 0:
		return "it carries " + useWords(uses), "Make sure that nobody needs it; then wipe it by hand."
	case len(d.Holds) > 0 && d.Holds[0] != drive.TestPattern:
		return "it carries somebody's data (" + strings.Join(d.Holds, ", ") + ")", "Make sure that nobody needs it; then wipe it by hand."
	case !d.Looked:
		return "its contents are unknown: it was not read", "Wait for its first look, or wake it."
	}
	return "", ""
}

func useWords(uses []api.Use) string {
	var out []string
	for _, u := range uses {
		out = append(out, cmp.Or(u.Says, u.Kind))
	}
	return strings.Join(out, "; ")
}

// viewUses are all uses of a drive, with the names of the pools that account for them.
func (s *Service) viewUses(d *disk) (out []api.Use) {
	loose := s.unaccounted(d)
	for _, u := range d.Uses {
		if p := s.pools[u.Pool]; p != nil {
			u.PoolName = p.Name
		} else if !slices.ContainsFunc(loose, func(x api.Use) bool { return x.Says == u.Says }) {
			if p, _, _ := s.member(d.Desc.Key()); p != nil {
				u.Pool, u.PoolName = p.ID, p.Name
			}
		}
		out = append(out, u)
	}
	return out
}

// viewPlaces are all places of a drive.
func (s *Service) viewPlaces(key string) (out []api.Place) {
	for _, x := range s.seats(key) {
		v := api.Place{Pool: x.pool.Name, PoolId: x.pool.ID, Group: x.group, Slot: x.member.Slot, State: string(x.member.State), Role: api.PlaceMember, Device: x.member.Device,
			Partition: x.member.Partition, NeedsBytes: int64(x.member.Needs), Margin: wire.Margin(s.margin(x.pool))}
		if x.group == "" {
			v.Role = api.PlaceSpare
			if slices.ContainsFunc(x.pool.Logs, func(l pool.Member) bool { return l.Slot == x.member.Slot }) {
				v.Role = api.PlaceLog
			}
		}
		out = append(out, v)
	}
	return out
}

// pathsSince keeps what is known of the ways to a drive: one that was there before and is not any more is gone. A way that was taken
// out long ago is forgotten.
func pathsSince(was []api.DrivePath, r api.DriveReport, at time.Time) []api.DrivePath {
	const forget = 30 * 24 * time.Hour
	now := slices.Clone(r.Paths)
	if len(now) == 0 && len(was) > 0 {
		now = []api.DrivePath{{Path: r.Path, Port: r.Port, State: api.DrivePathStateWorking}}
	}
	for i := range now {
		now[i].SeenAt = at
	}
	for _, w := range was {
		back := slices.ContainsFunc(now, func(n api.DrivePath) bool {
			return w.Port != "" && n.Port == w.Port || (w.Port == "" || n.Port == "") && n.Path == w.Path
		})
		if !back && at.Sub(w.SeenAt) < forget {
			w.State = api.DrivePathStateGone
			now = append(now, w)
		}
	}
	if len(now) < 2 {
		return nil
	}
	return now
}

// pathStates are the ways to a drive as the rules look at them.
func pathStates(in []api.DrivePath) (out []health.Path) {
	for _, p := range in {
		out = append(out, health.Path{Name: p.Path, Port: p.Port, Works: p.State == api.DrivePathStateWorking, SeenAt: p.SeenAt})
	}
	return out
}

// unreported carries the pools over that a host told of before and does not tell of any more: what was seen once is remembered, and
// is not taken for what is (R7). Those of which another host speaks now are left to it.
func (s *Service) unreported(from string, at time.Time, was []api.PoolReport, r *api.Report) (gone []string) {
	for _, p := range was {
		now := s.pools[p.Id]
		if slices.ContainsFunc(r.Pools, func(x api.PoolReport) bool { return x.Id == p.Id }) || now == nil || now.reporter != from {
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

// poolMatters are what is to be told of pools as a whole: those that are not seen any more, whose report cannot be so, or of which two
// accounts differ.
func (s *Service) poolMatters() (out []notice.Matter) {
	for _, p := range s.sortedPools() {
		says, do := p.trouble()
		if says != "" {
			out = append(out, notice.Matter{Key: "pool/" + p.ID, Kind: notice.Pool, Severity: health.Unknown, Pool: p.Name, Host: p.reporter, Says: says, Do: do})
		}
	}
	return out
}

// unknown says why nothing that is shown of a pool can be counted on now; empty when it can.
func (p *poolState) unknown() string {
	switch {
	case !p.known():
		says, _ := p.trouble()
		return says
	case p.torn:
		return p.Name + " changed while it was read: what is shown may not fit together"
	}
	return ""
}

// trouble says why a pool is not known to be as it is shown; empty when it is.
func (p *poolState) trouble() (says, do string) {
	switch {
	case !p.unseen.IsZero():
		return fmt.Sprintf("%s has not been reported by %s since %s: its state is unknown", p.Name, p.reporter, p.unseen.Format("2006-01-02 15:04")),
			"Find out whether it was stopped, unmounted or not assembled. If it no longer exists: lantern pool forget " + p.ID
	case p.wrong != "":
		return "inconsistent report of " + p.Name + ": " + p.wrong, "Look at the agent on " + p.reporter + ", and at the pool by hand."
	case len(p.witness.Differs) > 0 && !p.witness.Unread: // that its drives are in standby is no trouble
		return "the live view and the on-disk metadata of " + p.Name + " differ: " + strings.Join(p.witness.Differs, "; "), "Find out which one is right before you pull any drive of it."
	}
	return "", ""
}

// ForgetPool forgets a pool that its host does not report any more.
func (s *Service) ForgetPool(by string, p *poolState) error {
	if p.unseen.IsZero() {
		return problem(409, "pool-reported", "Only a pool that its host no longer reports can be forgotten.", "%s is reported by %s.", p.Name, p.reporter)
	}
	b := &store.Batch{}
	delete(s.pools, p.ID)
	s.twinNames = nil
	s.moved()
	if h := s.hosts[p.reporter]; h != nil {
		h.report.Pools = slices.DeleteFunc(slices.Clone(h.report.Pools), func(x api.PoolReport) bool { return x.Id == p.ID })
		h.Report = document(h.report)
		row := h.Host
		b.Put(&row)
	}
	s.happened(b, api.EventKindPool, p.ID, by+" forgot the pool "+p.Name)
	return s.commit(b)
}

// above are the pools that lie on a pool, directly or through others.
func (s *Service) above(ids map[string]bool) (out []*pool.Pool) {
	seen := map[string]bool{}
	for range len(s.pools) {
		grown := false
		for _, p := range s.sortedPools() {
			lies := false
			p.Everyone(func(_ string, m *pool.Member) { lies = lies || ids[m.Under] || seen[m.Under] })
			if lies && !seen[p.ID] && !ids[p.ID] {
				seen[p.ID], grown = true, true
				out = append(out, s.asKnown(p))
			}
		}
		if !grown {
			break
		}
	}
	return out
}

// usedWhenLast says whether a drive that is gone was used, when it was last seen, by something that no pool accounts for.
func (s *Service) usedWhenLast(d *disk) bool {
	return slices.ContainsFunc(s.unaccounted(d), func(u api.Use) bool { return u.Active })
}

// otherUses are the uses of a swap's old drive that none of its pools accounts for.
func (s *Service) otherUses(d *disk) (out []swap.OtherUse, known bool) {
	uses := s.unaccounted(d)
	for _, u := range uses {
		name := d.tail()
		if len(u.Chain) > 0 {
			name = u.Chain[0]
		}
		out = append(out, swap.OtherUse{Name: name, Says: cmp.Or(u.Says, u.Kind), Active: u.Active, Table: u.Kind == drive.PartitionTable && len(d.Layout.Parts) > 0 && !u.Active,
			Boot: partition.BootOnly(u.Table)})
	}
	known = d.Told
	for _, u := range uses {
		if !u.Active && (u.Kind == stack.Unread || strings.HasPrefix(u.Kind, drive.NotReadable)) {
			known = false
		}
	}
	return out, known
}
