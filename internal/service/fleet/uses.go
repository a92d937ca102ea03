package fleet

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/partition"
	"lantern/internal/core/pool"
	"lantern/internal/core/stack"
	"lantern/internal/core/swap"
	"lantern/internal/wire"
)

// Seat is one place that a drive has in a pool.
type Seat struct {
	Pool   *Pool
	Member pool.Member
	Group  string
}

// Seats are all places of a drive, the worst first.
func (s *State) Seats(key string) (out []Seat) {
	if key == "" {
		return nil
	}
	for _, p := range s.PoolsWith(key) {
		p.Everyone(func(group string, m *pool.Member) {
			if m.On(key) {
				out = append(out, Seat{p, *m, group})
			}
		})
	}
	slices.SortStableFunc(out, func(a, b Seat) int {
		switch {
		case pool.Worse(a.Member.State, b.Member.State):
			return -1
		case pool.Worse(b.Member.State, a.Member.State):
			return 1
		}
		return s.lessMargin(a.Pool, b.Pool)
	})
	return out
}

// lessMargin orders pools by margin, the least first, and unknown before all.
func (s *State) lessMargin(a, b *Pool) int {
	rank := func(p *Pool) int {
		m, known := s.Margin(p)
		if !known {
			return -1 << 20
		}
		return int(m)
	}
	return cmp.Compare(rank(a), rank(b))
}

// Member finds the pool in which a drive has a place; of several the worst.
func (s *State) Member(key string) (p *Pool, m pool.Member, group string) {
	if all := s.Seats(key); len(all) > 0 {
		return all[0].Pool, all[0].Member, all[0].Group
	}
	return nil, m, ""
}

// Unaccounted are the uses of a drive that belong to no pool. Inactive content of a whole drive belongs to the pool
// that has the whole drive as a member, whoever reports it.
func (s *State) Unaccounted(d *Drive) (out []api.Use) {
	all := s.Seats(d.Key())
	whole := slices.ContainsFunc(all, func(x Seat) bool { return x.Member.Partition == 0 && len(x.Member.Layers) == 0 })
	for _, u := range d.Uses {
		switch p := s.Pools[u.Pool]; {
		case u.Pool != "" && p != nil && slices.Contains(p.Drives(s.Below), d.Key()):
		case !u.Active && len(u.Chain) == 0 && (whole || u.Kind == drive.TestPattern):
		default:
			out = append(out, u)
		}
	}
	return out
}

// NotFree says why a drive must not be treated as unused, and what to do. It is empty only when it is established that
// the drive is unused: it is present, its host reports, both its ends were read and are blank, the kernel shows no use
// of it, and it is in no pool.
func (s *State) NotFree(d *Drive) (why, do string) {
	h := s.Hosts[d.Host]
	uses := s.Unaccounted(d)
	active := slices.DeleteFunc(slices.Clone(uses), func(u api.Use) bool { return !u.Active })
	switch p, _, _ := s.Member(d.Key()); {
	case p != nil:
		return "it is a member of " + p.Name, "Swap it out first."
	case !d.Present:
		return "it does not answer, so its current contents are unknown", "Put it in first."
	case h == nil || s.Late(h, s.Clock.Now()):
		return d.Host + " does not report, so what uses it now is not known", "Bring its agent back first."
	case len(disputed(s).claims(d)) > 0:
		return "it is reported by " + disputed(s).claims(d)[0].Host + " as well, and what uses it there is not known",
			"Find out which host it belongs to."
	case len(active) > 0:
		return "it is in use: " + UseWords(active), "Stop that use first: unmount, swapoff, close."
	case len(uses) > 0:
		return "it carries " + UseWords(uses), "Make sure that nobody needs it; then wipe it by hand."
	}
	return notBlank(d)
}

// notBlank says why an unused drive must not be treated as empty.
func notBlank(d *Drive) (why, do string) {
	switch {
	case len(d.Holds) > 0 && d.Holds[0] != drive.TestPattern:
		return "it carries somebody's data (" + strings.Join(
			d.Holds,
			", ",
		) + ")", "Make sure that nobody needs it; then wipe it by hand."
	case !d.Looked:
		return "its contents are unknown: it was not read", "Wait for its first look, or wake it."
	}
	return "", ""
}

func UseWords(uses []api.Use) string {
	var out []string
	for _, u := range uses {
		out = append(out, cmp.Or(u.Says, u.Kind))
	}
	return strings.Join(out, "; ")
}

// ViewUses are all uses of a drive, with the names of the pools that they belong to.
func (s *State) ViewUses(d *Drive) (out []api.Use) {
	loose := s.Unaccounted(d)
	for _, u := range d.Uses {
		if p := s.Pools[u.Pool]; p != nil {
			u.PoolName = p.Name
		} else if !slices.ContainsFunc(loose, func(x api.Use) bool { return x.Says == u.Says }) {
			if p, _, _ := s.Member(d.Key()); p != nil {
				u.Pool, u.PoolName = p.ID, p.Name
			}
		}
		out = append(out, u)
	}
	return out
}

// ViewPlaces are all places of a drive.
func (s *State) ViewPlaces(key string) (out []api.Place) {
	for _, x := range s.Seats(key) {
		v := api.Place{
			Pool:       x.Pool.Name,
			PoolId:     x.Pool.ID,
			Group:      x.Group,
			Slot:       x.Member.Slot,
			State:      string(x.Member.State),
			Role:       api.PlaceMember,
			Device:     x.Member.Device,
			Partition:  x.Member.Partition,
			NeedsBytes: int64(x.Member.Needs),
			Margin:     wire.Margin(s.Margin(x.Pool)),
		}
		if x.Group == "" {
			v.Role = api.PlaceSpare
			if slices.ContainsFunc(x.Pool.Logs, func(l pool.Member) bool { return l.Slot == x.Member.Slot }) {
				v.Role = api.PlaceLog
			}
		}
		out = append(out, v)
	}
	return out
}

// PathsSince updates the paths to a drive: a path that existed before and is missing now is gone. A path that has been
// gone for long is removed.
func PathsSince(was []api.DrivePath, r api.DriveReport, at time.Time) []api.DrivePath {
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

// PathStates are the paths to a drive as input of the rules.
func PathStates(in []api.DrivePath) (out []health.Path) {
	for _, p := range in {
		out = append(
			out,
			health.Path{Name: p.Path, Port: p.Port, Works: p.State == api.DrivePathStateWorking, SeenAt: p.SeenAt},
		)
	}
	return out
}

// UsedWhenLast reports whether a drive that is gone was used, when it was last seen, by something that belongs to no
// pool.
func (s *State) UsedWhenLast(d *Drive) bool {
	return slices.ContainsFunc(s.Unaccounted(d), func(u api.Use) bool { return u.Active })
}

// OtherUses are the uses of a swap's old drive that belong to none of its pools.
func (s *State) OtherUses(d *Drive) (out []swap.OtherUse, known bool) {
	uses := s.Unaccounted(d)
	for _, u := range uses {
		name := d.Tail()
		if len(u.Chain) > 0 {
			name = u.Chain[0]
		}
		out = append(
			out,
			swap.OtherUse{
				Name:   name,
				Says:   cmp.Or(u.Says, u.Kind),
				Active: u.Active,
				Table:  u.Kind == drive.PartitionTable && len(d.Layout.Parts) > 0 && !u.Active,
				Boot:   partition.BootOnly(u.Table),
			},
		)
	}
	known = d.Told
	for _, u := range uses {
		if !u.Active && (u.Kind == stack.Unread || strings.HasPrefix(u.Kind, drive.NotReadable)) {
			known = false
		}
	}
	return out, known
}
