package views

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// SetPriorityHours gives a pool's recoveries another priority within some hours of the day.
func (s *Service) SetPriorityHours(by, name string, h api.PriorityHours) (api.Pool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.fleet.FindPool(name)
	if err != nil {
		return api.Pool{}, err
	}
	_, err1 := time.Parse("15:04", h.From)
	_, err2 := time.Parse("15:04", h.To)
	_, err3 := time.LoadLocation(h.Zone)
	known := func(x string) bool { return slices.Contains([]string{"low", "normal", "high"}, x) }
	switch {
	case err1 != nil || err2 != nil || h.From == h.To:
		return api.Pool{}, problem.New(
			422,
			"bad-hours",
			"Such as from 22:00 to 06:00.",
			"From %q to %q are no hours of a day.",
			h.From,
			h.To,
		)
	case err3 != nil:
		return api.Pool{}, problem.New(422, "bad-zone", "Such as Europe/Berlin.", "No zone %q.", h.Zone)
	case !known(string(h.Within)) || !known(string(h.Otherwise)):
		return api.Pool{}, problem.New(
			422,
			"bad-priority",
			"It is low, normal or high.",
			"%q and %q are no priorities.",
			h.Within,
			h.Otherwise,
		)
	case len(p.Offers) > 0 && !slices.Contains(p.Offers, "priority"):
		return api.Pool{}, problem.New(409, "not-offered", "", "%s offers no priority.", p.Name)
	}
	b := &store.Batch{}
	b.Put(&store.PriorityHours{Pool: p.ID, Doc: ledger.Document(h)})
	s.AddEvent(
		b,
		api.EventKindPool,
		p.ID,
		fmt.Sprintf(
			"%s gives recoveries in %s priority %s from %s to %s, and %s otherwise",
			by,
			p.Name,
			h.Within,
			h.From,
			h.To,
			h.Otherwise,
		),
	)
	if err := s.Commit(b); err != nil {
		return api.Pool{}, err
	}
	s.progress.Hours[p.ID] = h
	delete(s.progress.Turned, p.ID)
	return s.viewPool(p), nil
}

// RemovePriorityHours leaves a pool's priority as it is now.
func (s *Service) RemovePriorityHours(by, name string) (api.Pool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.fleet.FindPool(name)
	if err != nil {
		return api.Pool{}, err
	}
	if _, ok := s.progress.Hours[p.ID]; !ok {
		return api.Pool{}, problem.New(404, "no-hours", "", "%s has no priority hours.", p.Name)
	}
	b := &store.Batch{}
	b.Drop(&store.PriorityHours{Pool: p.ID})
	s.AddEvent(b, api.EventKindPool, p.ID, fmt.Sprintf("%s removed the priority hours of %s", by, p.Name))
	if err := s.Commit(b); err != nil {
		return api.Pool{}, err
	}
	delete(s.progress.Hours, p.ID)
	return s.viewPool(p), nil
}

// Pools lists all pools, the one with the least margin first; unknown ones before all.
func (s *Service) Pools() []api.Pool {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Pool{}
	for _, p := range s.fleet.Pools {
		out = append(out, s.viewPool(p))
	}
	slices.SortFunc(out, func(a, b api.Pool) int {
		rank := func(p api.Pool) int {
			if !p.Margin.Known || p.Stale {
				return -1 << 20
			}
			return p.Margin.Members
		}
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.Name, b.Name))
	})
	return out
}

// Pool is one pool, by name or id.
func (s *Service) Pool(name string) (api.Pool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.fleet.FindPool(name)
	if err != nil {
		return api.Pool{}, err
	}
	return s.viewPool(p), nil
}

func (s *State) viewPool(p *fleet.Pool) api.Pool {
	out := api.Pool{
		Id:            p.ID,
		Name:          p.Name,
		Also:          slices.DeleteFunc(fleet.AlsoCalled(s.fleet, p), func(n string) bool { return n == p.Name }),
		Kind:          p.Kind,
		Hosts:         []string{},
		CapacityBytes: int64(p.Capacity),
		UsedBytes:     int64(p.Used),
		Limit:         p.Limit,
		Offers:        p.Offers,
		Priority:      p.Priority,
		Inconsistent:  p.Torn,
		SeenAt:        p.At,
		Groups:        []api.Group{},
		Volumes:       []api.Volume{},
		Spares:        s.viewMembers(p.Spares),
		Logs:          s.viewMembers(p.Logs),
	}
	through := p.Through(s.fleet.Below)
	margin, known := s.fleet.Margin(p)
	out.Margin = wire.MarginBy(margin, known, through.LimitedBy())
	out.Watched, out.UsedUnknown, out.NotSeenSince, out.Wrong, out.Witness = p.Watched, p.UsedUnknown, p.Unseen,
		p.Wrong, p.Witness
	out.Stale = !p.Unseen.IsZero()
	if h := s.fleet.Hosts[p.Reporter]; h == nil || s.fleet.Late(h, s.Clock.Now()) {
		out.Stale = true
	}
	whole := p.Whole()
	for _, g := range p.Groups {
		for _, m := range g.Members {
			if !slices.Contains(out.Hosts, m.Domain) && m.Domain != "" {
				out.Hosts = append(out.Hosts, m.Domain)
			}
		}
		out.Groups = append(
			out.Groups,
			api.Group{
				Name:       g.Name,
				Protection: g.Protect.Words,
				Protect:    wire.Protection(g.Protect),
				Spread:     g.Spread,
				Heals:      g.Heals,
				Members:    s.viewMembers(g.Members),
				Margin:     wire.Margin(p.GroupMargin(g)),
			},
		)
	}
	slices.Sort(out.Hosts)
	full, _ := whole.DriveMargin(func(id string) *pool.Pool {
		if q := s.fleet.Below(id); q != nil {
			w := q.Whole()
			return &w
		}
		return nil
	})
	out.FullMargin = int(full)
	for _, v := range p.Volumes {
		out.Volumes = append(
			out.Volumes,
			api.Volume{
				Name:       v.Name,
				Group:      v.Group,
				Protection: v.Protect.Words,
				Protect:    wire.Protection(v.Protect),
				Extents:    wire.Extents(v.Extents),
				UsedBytes:  int64(v.Used),
				Margin:     wire.Margin(p.VolumeMargin(v)),
			},
		)
	}
	out.PriorityHours = s.progress.Hours[p.ID]
	newest := s.recoveries.Newest(p.ID, "")
	best := 0
	for _, w := range s.swaps.OpenSwaps() {
		rank := 1 // planned
		switch {
		case w.PoolID != p.ID:
			continue
		case newest != nil && w.Recovery == newest.ID:
			rank = 3
		case w.Phase != swap.Planned:
			rank = 2
		}
		if rank > best {
			best, out.Swap = rank, w.ID
		}
	}
	if c := newest; c != nil {
		out.Recovery = s.progress.ViewRecovery(c, false)
	}
	return out
}

func (s *State) viewMembers(in []pool.Member) []api.Member {
	out := make([]api.Member, len(in))
	for i, m := range in {
		out[i] = api.Member{
			Slot:      m.Slot,
			State:     string(m.State),
			Drive:     m.Drive,
			Domain:    m.Domain,
			Log:       m.Log,
			Parity:    m.Parity,
			BadBlocks: m.BadBlocks,
			Beside:    m.Beside,
			StandsFor: m.StandsFor,
			Device:    m.Device,
			Drives:    m.Drives,
			Under:     m.Under,
			Partition: m.Partition,
			Layers:    m.Layers,
			SizeBytes: int64(m.Size),
			UsedBytes: int64(
				m.Used,
			),
			NeedsBytes: int64(m.Needs),
			Errors:     wire.MemberErrors(m.Errors),
			Verdict:    api.Unknown,
		}
		if d := s.fleet.Drives[m.Drive]; d != nil {
			out[i].Tail, out[i].Bay, out[i].Verdict = d.Tail(), d.BayName(), api.Verdict(
				s.judging.Judge()[m.Drive].Verdict,
			)
		}
	}
	return out
}
