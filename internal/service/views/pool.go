package views

import (
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/service/swaps"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// SetPriorityHours sets another priority for a pool's recoveries within some hours of the day.
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
			"From %q to %q are not hours of a day.",
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
			"%q and %q are not priorities.",
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

// RemovePriorityHours removes the hours; the present priority stays.
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

// Pools lists pools, the one with the least margin first, unknown ones before all; next is the cursor of the next page.
func (s *Service) Pools(f api.ListPoolsParams) (page []api.Pool, next string, err error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	all := s.poolsByMargin()
	if f.Place != "" {
		all = slices.DeleteFunc(slices.Clone(all), func(p *listedPool) bool { return p.place != f.Place })
	}
	if f.Cursor != "" {
		i := slices.IndexFunc(all, func(p *listedPool) bool { return p.ID == f.Cursor })
		if i < 0 {
			return nil, "", problem.New(
				422,
				"bad-cursor",
				"Begin again without a cursor.",
				"The cursor is of another list.",
			)
		}
		all = all[i+1:]
	}
	if f.Limit > 0 && len(all) > f.Limit {
		all = all[:f.Limit]
		next = all[f.Limit-1].ID
	}
	page = make([]api.Pool, len(all))
	open := s.swapsByPool()
	for i, p := range all {
		if page[i] = s.briefPool(p.Pool, open); !f.Brief {
			s.detailPool(&page[i], p.Pool)
		}
	}
	return page, next, nil
}

// AllPools are all pools with all details, in the order of Pools.
func (s *Service) AllPools() []api.Pool {
	all, _, _ := s.Pools(api.ListPoolsParams{}) // without a cursor nothing can fail
	return all
}

// Pool is one pool, by name or id.
func (s *Service) Pool(name string) (api.Pool, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	p, err := s.fleet.FindPool(name)
	if err != nil {
		return api.Pool{}, err
	}
	return s.viewPool(p), nil
}

func (s *State) viewPool(p *fleet.Pool) api.Pool {
	out := s.briefPool(p, s.swapsByPool())
	s.detailPool(&out, p)
	return out
}

// briefPool is a pool without its members; open are the swaps that are open, by pool.
func (s *State) briefPool(p *fleet.Pool, open map[string][]*swaps.Swap) api.Pool {
	out := api.Pool{
		Id:            p.ID,
		Name:          p.Name,
		Also:          slices.DeleteFunc(fleet.AlsoCalled(s.fleet, p), func(n string) bool { return n == p.Name }),
		Kind:          p.Kind,
		Hosts:         append([]string{}, p.Hosts()...),
		CapacityBytes: int64(p.Capacity),
		UsedBytes:     int64(p.Used),
		Limit:         p.Limit,
		Offers:        p.Offers,
		Priority:      p.Priority,
		Inconsistent:  p.Torn,
		SeenAt:        p.At,
		Groups:        []api.Group{},
		Volumes:       []api.Volume{},
		Spares:        []api.Member{},
		Logs:          []api.Member{},
		FullMargin:    p.FullMargin(s.fleet.Below),
		Stale:         s.stalePool(p),
	}
	margin, known := s.fleet.Margin(p)
	out.Margin = wire.MarginBy(margin, known, p.MarginLimitedBy(s.fleet.Below))
	out.Watched, out.UsedUnknown, out.NotSeenSince, out.Wrong, out.Witness = p.Watched, p.UsedUnknown, p.Unseen,
		p.Wrong, p.Witness
	out.PriorityHours = s.progress.Hours[p.ID]
	newest := s.recoveries.Newest(p.ID, "")
	best := 0
	for _, w := range open[p.ID] {
		rank := 1 // planned
		switch {
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

// swapsByPool are the swaps that are open.
func (s *State) swapsByPool() map[string][]*swaps.Swap {
	out := map[string][]*swaps.Swap{}
	for _, w := range s.swaps.OpenSwaps() {
		out[w.PoolID] = append(out[w.PoolID], w)
	}
	return out
}

// detailPool adds members and volumes.
func (s *State) detailPool(out *api.Pool, p *fleet.Pool) {
	out.Spares, out.Logs = s.viewMembers(p.Spares), s.viewMembers(p.Logs)
	for _, g := range p.Groups {
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
