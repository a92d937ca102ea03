package swaps

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/record"
	"lantern/internal/core/recovery"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/problem"
	"lantern/internal/service/stock"
	"lantern/internal/store"
)

// LoadCampaigns loads the campaigns from the store.
func (s *State) LoadCampaigns() error {
	s.CampaignByID = map[string]*swap.Campaign{}
	return s.loadCampaigns("")
}

func (s *State) loadCampaigns(where string, args ...any) error {
	rows, err := store.All[store.Campaign](s.Store, "id", where, args...)
	if err != nil {
		return err
	}
	for _, row := range rows {
		c := &swap.Campaign{}
		if err := json.Unmarshal(row.Doc, c); err != nil {
			return fmt.Errorf("campaign %s: %w", row.ID, err)
		}
		s.CampaignByID[c.ID] = c
	}
	return nil
}

// keepCampaign stores the next state of a campaign.
func (s *State) keepCampaign(b *store.Batch, next swap.Campaign) {
	before := s.CampaignByID[next.ID]
	if before != nil && string(ledger.Document(before)) == string(ledger.Document(next)) {
		return
	}
	if before != nil && before.State != swap.CampaignDone && next.State == swap.CampaignDone {
		if says := s.stock.LeftOver(s.fleet.Pools[next.PoolID]); says != "" {
			next = next.Noted(next.EndedAt, says)
		}
	}
	s.CampaignByID[next.ID] = &next
	b.Put(&store.Campaign{ID: next.ID, Doc: ledger.Document(next)})
	if n := len(next.Log); n > 0 && (before == nil || n > len(before.Log)) {
		s.AddEvent(b, api.EventKindCampaign, next.ID, next.Pool+": "+next.Log[n-1].Says)
	}
}

// PlanCampaign plans the swaps of a whole pool, or of some of its members; the groups alternate. It changes nothing in
// the pool.
func (s *Service) PlanCampaign(by string, req api.PlanCampaign) (api.Campaign, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.fleet.FindPool(req.Pool)
	if err != nil {
		return api.Campaign{}, err
	}
	for _, c := range s.CampaignByID {
		if c.PoolID == p.ID && c.State.Open() {
			return api.Campaign{}, problem.New(
				409,
				"campaign-open",
				"Go on with it, or abandon it: lantern campaign show "+p.Name,
				"A campaign in %s is led by %s.",
				p.Name,
				c.Lead,
			)
		}
	}
	if req.Grow && !slices.Contains(p.Offers, "grow") {
		return api.Campaign{}, problem.New(
			409,
			"not-offered",
			"Plan it without; larger drives are used as far as the pool can.",
			"%s cannot be asked to grow.",
			p.Name,
		)
	}
	named := map[string]bool{}
	for _, n := range req.Drives {
		d, err := s.fleet.FindDrive(n)
		if err != nil {
			return api.Campaign{}, err
		}
		if _, group, ok := p.Find(d.Key()); !ok || group == "" {
			return api.Campaign{}, problem.New(
				409,
				"no-member",
				"See its members: lantern pool "+p.Name,
				"%s is not a member of a group of %s.",
				d.Tail(),
				p.Name,
			)
		}
		named[d.Key()] = true
	}
	c := swap.Campaign{
		ID:        ledger.NewID(),
		Pool:      p.Name,
		PoolID:    p.ID,
		Lead:      by,
		State:     swap.Waiting,
		Needs:     drive.Bytes(req.NeedsBytes),
		Grow:      req.Grow,
		PlannedAt: s.Clock.Now(),
	}
	p.Everyone(func(group string, m *pool.Member) {
		d := s.fleet.Drives[m.Drive]
		twice := slices.ContainsFunc(c.Items, func(it swap.Item) bool { return it.Old.Key() == m.Drive })
		if group == "" || d == nil || twice || len(named) > 0 && !named[m.Drive] {
			return
		}
		c.Items = append(
			c.Items,
			swap.Item{Slot: m.Slot, Group: group, Old: *s.stock.SwapDrive(d), State: swap.ItemWaits},
		)
	})
	if len(c.Items) == 0 {
		return api.Campaign{}, problem.New(
			409,
			"no-member",
			"",
			"No member of %s is known that could be changed.",
			p.Name,
		)
	}
	c.Items = swap.InTurns(c.Items)
	c.Log = []record.Entry{
		{
			At:   c.PlannedAt,
			Who:  by,
			Says: fmt.Sprintf("planned to change %d drives of %s, one at a time", len(c.Items), p.Name),
		},
	}
	b := &store.Batch{}
	s.keepCampaign(b, c)
	return s.viewCampaign(s.CampaignByID[c.ID]), s.Commit(b)
}

func (s *State) FindCampaign(name string) (best *swap.Campaign, err error) {
	if c := s.CampaignByID[name]; c != nil {
		return c, nil
	}
	for _, c := range s.CampaignByID {
		if c.Pool == name &&
			(best == nil || c.State.Open() && !best.State.Open() || c.State.Open() == best.State.Open() && c.ID > best.ID) {
			best = c
		}
	}
	if best == nil {
		return nil, problem.New(
			404,
			"no-campaign",
			"List them with: lantern campaign list",
			"No campaign %q.",
			name,
		)
	}
	return best, nil
}

// NextInCampaign plans the next swap, or orders the pool to grow after the last.
func (s *Service) NextInCampaign(by, name string) (api.Campaign, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.FindCampaign(name)
	if err != nil {
		return api.Campaign{}, err
	}
	other := ""
	for _, w := range s.OpenSwaps() {
		if w.PoolID == c.PoolID && w.Phase != swap.Planned {
			other = w.Lead
		}
	}
	next, item, grow, err := c.Next(s.Clock.Now(), by, other)
	if err != nil {
		return api.Campaign{}, err
	}
	b := &store.Batch{}
	if item != nil {
		d := s.fleet.Drives[item.Old.Key()]
		if d == nil {
			return api.Campaign{}, problem.New(
				409,
				"no-member",
				"Skip it.",
				"%s is no longer known.",
				item.Old.Tail(),
			)
		}
		v, err := s.planSwap(by, d, c.Needs, false)
		if err != nil {
			return api.Campaign{}, err
		}
		item.Swap = v.Id
	}
	if grow {
		p := s.fleet.Pools[c.PoolID]
		if p == nil {
			return api.Campaign{}, problem.New(
				409,
				"no-pool",
				"Wait for a report of it.",
				"Nothing is known of %s.",
				c.Pool,
			)
		}
		if h := s.fleet.Hosts[p.Reporter]; h == nil || s.fleet.Late(h, s.Clock.Now()) {
			return api.Campaign{}, problem.New(
				409,
				"host-quiet",
				"Bring its agent back first.",
				"%s does not report, so nothing can be ordered there.",
				p.Reporter,
			)
		}
		if moves := s.recoveries.MovesIn(p); moves != "" {
			return api.Campaign{}, problem.New(
				409,
				"recovering",
				"Wait until it has ended.",
				"A %s is running in %s.",
				moves,
				p.Name,
			)
		}
		next.Held = p.Capacity
		s.orders.Give(
			b,
			&orders.Order{
				SwapID: c.ID,
				Order:  api.Order{Host: p.Reporter, Kind: api.OrderKindGrow, By: by, Pool: p.ID},
			},
		)
	}
	s.keepCampaign(b, next)
	if err := s.Commit(b); err != nil {
		return api.Campaign{}, err
	}
	return s.viewCampaign(s.CampaignByID[next.ID]), nil
}

// SkipInCampaign skips the next place of a campaign.
func (s *Service) SkipInCampaign(by, name, reason string) (api.Campaign, error) {
	return s.onCampaign(
		name,
		func(c *swap.Campaign) (swap.Campaign, error) { return c.Skip(s.Clock.Now(), by, reason) },
	)
}

// AbandonCampaign ends a campaign early.
func (s *Service) AbandonCampaign(by, name, reason string) (api.Campaign, error) {
	return s.onCampaign(
		name,
		func(c *swap.Campaign) (swap.Campaign, error) { return c.Abandon(s.Clock.Now(), by, reason) },
	)
}

func (s *Service) onCampaign(name string, f func(*swap.Campaign) (swap.Campaign, error)) (api.Campaign, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.FindCampaign(name)
	if err != nil {
		return api.Campaign{}, err
	}
	next, err := f(c)
	if err != nil {
		return api.Campaign{}, err
	}
	b := &store.Batch{}
	s.keepCampaign(b, next)
	return s.viewCampaign(s.CampaignByID[next.ID]), s.Commit(b)
}

// swapToCampaigns passes the end of a swap to its campaign.
func (s *State) swapToCampaigns(b *store.Batch, w *Swap, at time.Time) {
	if w.Phase.Open() {
		return
	}
	tail := ""
	if w.New != nil {
		tail = w.New.Tail()
	}
	for _, c := range s.CampaignByID {
		s.keepCampaign(b, c.SwapEnded(at, w.ID, w.Phase == swap.Closed, tail))
	}
}

// poolToCampaigns passes the state of a pool to the campaign that grows it.
func (s *State) poolToCampaigns(b *store.Batch, at time.Time, p *fleet.Pool) {
	for _, c := range s.CampaignByID {
		if c.PoolID != p.ID || c.State != swap.Growing {
			continue
		}
		id := ""
		for _, r := range s.recoveries.Of(p.ID) {
			if r.Kind == recovery.Grow && r.StartedAt.After(c.PlannedAt) {
				id = r.ID
			}
		}
		margin, known := s.fleet.Margin(p)
		s.keepCampaign(b, c.PoolSeen(at, len(p.Running) > 0, id, margin, known, p.Capacity))
	}
}

// Campaign is one; Campaigns are all, the newest first.
func (s *Service) Campaign(name string) (api.Campaign, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	c, err := s.FindCampaign(name)
	if err != nil {
		return api.Campaign{}, err
	}
	return s.viewCampaign(c), nil
}

// Campaigns lists all campaigns, the newest first.
func (s *Service) Campaigns() []api.Campaign {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := []api.Campaign{}
	for _, c := range s.CampaignByID {
		out = append(out, s.viewCampaign(c))
	}
	slices.SortFunc(out, func(a, b api.Campaign) int { return cmp.Compare(b.Id, a.Id) })
	return out
}

func (s *State) viewCampaign(c *swap.Campaign) api.Campaign {
	out := api.Campaign{
		Id:         c.ID,
		Pool:       fleet.NameNow(s.fleet, c.PoolID, c.Pool),
		Lead:       c.Lead,
		State:      api.CampaignState(c.State),
		Says:       c.Says(),
		Grow:       c.Grow,
		NeedsBytes: int64(c.Needs),
		Items:      []api.CampaignItem{},
		Log:        stock.ViewLog(c.Log),
		PlannedAt:  c.PlannedAt,
		EndedAt:    c.EndedAt,
	}
	for _, it := range c.Items {
		out.Items = append(
			out.Items,
			api.CampaignItem{
				Slot:    it.Slot,
				Group:   it.Group,
				Drive:   it.Old.Key(),
				Tail:    it.Old.Tail(),
				Bay:     it.Old.Bay,
				State:   api.CampaignItemState(it.State),
				Swap:    it.Swap,
				NewTail: it.New,
			},
		)
		if it.State == swap.ItemNow {
			out.Swap = it.Swap
		}
	}
	if r := s.recoveries.Courses[c.Recovery]; r != nil {
		out.Recovery = s.progress.ViewRecovery(r, false)
	}
	return out
}
