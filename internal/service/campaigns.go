package service

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
	"lantern/internal/store"
)

func (s *Service) loadCampaigns() error {
	rows, err := store.All[store.Campaign](s.store, "id", "")
	if err != nil {
		return err
	}
	s.campaigns = map[string]*swap.Campaign{}
	for _, row := range rows {
		c := &swap.Campaign{}
		if err := json.Unmarshal(row.Doc, c); err != nil {
			return fmt.Errorf("campaign %s: %w", row.ID, err)
		}
		s.campaigns[c.ID] = c
	}
	return nil
}

// keepCampaign keeps the next state of one.
func (s *Service) keepCampaign(b *store.Batch, next swap.Campaign) {
	before := s.campaigns[next.ID]
	if before != nil && string(document(before)) == string(document(next)) {
		return
	}
	if before != nil && before.State != swap.CampaignDone && next.State == swap.CampaignDone {
		if says := s.leftOver(s.pools[next.PoolID]); says != "" {
			next = next.Noted(next.EndedAt, says)
		}
	}
	s.campaigns[next.ID] = &next
	b.Put(&store.Campaign{ID: next.ID, Doc: document(next)})
	if n := len(next.Log); n > 0 && (before == nil || n > len(before.Log)) {
		s.happened(b, api.EventKindCampaign, next.ID, next.Pool+": "+next.Log[n-1].Says)
	}
}

// PlanCampaign orders the swaps of a whole pool, or of some of its members: the groups take turns. Nothing is touched.
func (s *Service) PlanCampaign(by string, req api.PlanCampaign) (api.Campaign, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.findPool(req.Pool)
	if err != nil {
		return api.Campaign{}, err
	}
	for _, c := range s.campaigns {
		if c.PoolID == p.ID && c.State.Open() {
			return api.Campaign{}, problem(409, "campaign-open", "Go on with it, or abandon it: lantern campaign show "+p.Name, "A campaign in %s is led by %s.", p.Name, c.Lead)
		}
	}
	if req.Grow && !slices.Contains(p.offers, "grow") {
		return api.Campaign{}, problem(409, "not-offered", "Plan it without; larger drives are used as far as the pool can.", "%s cannot be asked to grow.", p.Name)
	}
	named := map[string]bool{}
	for _, n := range req.Drives {
		d, err := s.findDrive(n)
		if err != nil {
			return api.Campaign{}, err
		}
		if _, group, ok := p.Find(d.Desc.Key()); !ok || group == "" {
			return api.Campaign{}, problem(409, "no-member", "See its members: lantern pool "+p.Name, "%s is no member of a group of %s.", d.tail(), p.Name)
		}
		named[d.Desc.Key()] = true
	}
	c := swap.Campaign{ID: newID(), Pool: p.Name, PoolID: p.ID, Lead: by, State: swap.Waiting, Needs: drive.Bytes(req.NeedsBytes), Grow: req.Grow, PlannedAt: s.clock.Now()}
	p.Everyone(func(group string, m *pool.Member) {
		d := s.drives[m.Drive]
		twice := slices.ContainsFunc(c.Items, func(it swap.Item) bool { return it.Old.Key() == m.Drive })
		if group == "" || d == nil || twice || len(named) > 0 && !named[m.Drive] {
			return
		}
		c.Items = append(c.Items, swap.Item{Slot: m.Slot, Group: group, Old: *s.swapDrive(d), State: swap.ItemWaits})
	})
	if len(c.Items) == 0 {
		return api.Campaign{}, problem(409, "no-member", "", "No member of %s is known that could be changed.", p.Name)
	}
	c.Items = swap.InTurns(c.Items)
	c.Log = []record.Entry{{At: c.PlannedAt, Who: by, Says: fmt.Sprintf("planned to change %d drives of %s, one at a time", len(c.Items), p.Name)}}
	b := &store.Batch{}
	s.keepCampaign(b, c)
	return s.viewCampaign(s.campaigns[c.ID]), s.commit(b)
}

func (s *Service) findCampaign(name string) (best *swap.Campaign, err error) {
	if c := s.campaigns[name]; c != nil {
		return c, nil
	}
	for _, c := range s.campaigns {
		if c.Pool == name && (best == nil || c.State.Open() && !best.State.Open() || c.State.Open() == best.State.Open() && c.ID > best.ID) {
			best = c
		}
	}
	if best == nil {
		return nil, problem(404, "no-campaign", "List them with: lantern campaign list", "There is no campaign %q.", name)
	}
	return best, nil
}

// NextInCampaign plans the next swap, or lets the pool grow after the last.
func (s *Service) NextInCampaign(by, name string) (api.Campaign, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.findCampaign(name)
	if err != nil {
		return api.Campaign{}, err
	}
	other := ""
	for _, w := range s.openSwaps() {
		if w.PoolID == c.PoolID && w.Phase != swap.Planned {
			other = w.Lead
		}
	}
	next, item, grow, err := c.Next(s.clock.Now(), by, other)
	if err != nil {
		return api.Campaign{}, err
	}
	b := &store.Batch{}
	if item != nil {
		d := s.drives[item.Old.Key()]
		if d == nil {
			return api.Campaign{}, problem(409, "no-member", "Skip it.", "%s is not known any more.", item.Old.Tail())
		}
		v, err := s.planSwap(by, d, c.Needs, false)
		if err != nil {
			return api.Campaign{}, err
		}
		item.Swap = v.Id
	}
	if grow {
		p := s.pools[c.PoolID]
		if p == nil {
			return api.Campaign{}, problem(409, "no-pool", "Wait for a report of it.", "Nothing is known of %s.", c.Pool)
		}
		if h := s.hosts[p.reporter]; h == nil || s.late(h, s.clock.Now()) {
			return api.Campaign{}, problem(409, "host-quiet", "Bring its agent back first.", "%s does not report, so nothing can be ordered there.", p.reporter)
		}
		if len(p.running) > 0 {
			return api.Campaign{}, problem(409, "recovering", "Wait until it has ended.", "A %s is running in %s.", s.recov[p.running[0]].Report.Kind, p.Name)
		}
		next.Held = p.Capacity
		s.order(b, &order{swap: c.ID, Order: api.Order{Host: p.reporter, Kind: api.OrderKindGrow, By: by, Pool: p.ID}})
	}
	s.keepCampaign(b, next)
	if err := s.commit(b); err != nil {
		return api.Campaign{}, err
	}
	return s.viewCampaign(s.campaigns[next.ID]), nil
}

// SkipInCampaign leaves the next place out, AbandonCampaign ends it.
func (s *Service) SkipInCampaign(by, name, reason string) (api.Campaign, error) {
	return s.onCampaign(name, func(c *swap.Campaign) (swap.Campaign, error) { return c.Skip(s.clock.Now(), by, reason) })
}

// AbandonCampaign ends a campaign before its end.
func (s *Service) AbandonCampaign(by, name, reason string) (api.Campaign, error) {
	return s.onCampaign(name, func(c *swap.Campaign) (swap.Campaign, error) { return c.Abandon(s.clock.Now(), by, reason) })
}

func (s *Service) onCampaign(name string, f func(*swap.Campaign) (swap.Campaign, error)) (api.Campaign, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.findCampaign(name)
	if err != nil {
		return api.Campaign{}, err
	}
	next, err := f(c)
	if err != nil {
		return api.Campaign{}, err
	}
	b := &store.Batch{}
	s.keepCampaign(b, next)
	return s.viewCampaign(s.campaigns[next.ID]), s.commit(b)
}

// swapToCampaigns tells a campaign that a swap of it has ended.
func (s *Service) swapToCampaigns(b *store.Batch, w *swapState, at time.Time) {
	if w.Phase.Open() {
		return
	}
	tail := ""
	if w.New != nil {
		tail = w.New.Tail()
	}
	for _, c := range s.campaigns {
		s.keepCampaign(b, c.SwapEnded(at, w.ID, w.Phase == swap.Closed, tail))
	}
}

// poolToCampaigns tells a campaign that grows its pool how that is.
func (s *Service) poolToCampaigns(b *store.Batch, at time.Time, p *poolState) {
	for _, c := range s.campaigns {
		if c.PoolID != p.ID || c.State != swap.Growing {
			continue
		}
		id := ""
		for _, r := range s.recov {
			if r.PoolID == p.ID && r.Kind == recovery.Grow && r.StartedAt.After(c.PlannedAt) {
				id = r.ID
			}
		}
		margin, known := s.margin(p)
		s.keepCampaign(b, c.PoolSeen(at, len(p.running) > 0, id, margin, known, p.Capacity))
	}
}

// Campaign is one; Campaigns are all, the newest first.
func (s *Service) Campaign(name string) (api.Campaign, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, err := s.findCampaign(name)
	if err != nil {
		return api.Campaign{}, err
	}
	return s.viewCampaign(c), nil
}

// Campaigns lists all campaigns, the newest first.
func (s *Service) Campaigns() []api.Campaign {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Campaign{}
	for _, c := range s.campaigns {
		out = append(out, s.viewCampaign(c))
	}
	slices.SortFunc(out, func(a, b api.Campaign) int { return cmp.Compare(b.Id, a.Id) })
	return out
}

func (s *Service) viewCampaign(c *swap.Campaign) api.Campaign {
	out := api.Campaign{Id: c.ID, Pool: c.Pool, Lead: c.Lead, State: api.CampaignState(c.State), Says: c.Says(), Grow: c.Grow, NeedsBytes: int64(c.Needs), Items: []api.CampaignItem{}, Log: viewLog(c.Log), PlannedAt: c.PlannedAt, EndedAt: c.EndedAt}
	for _, it := range c.Items {
		out.Items = append(out.Items, api.CampaignItem{Slot: it.Slot, Group: it.Group, Drive: it.Old.Key(), Tail: it.Old.Tail(), Bay: it.Old.Bay, State: api.CampaignItemState(it.State), Swap: it.Swap, NewTail: it.New})
		if it.State == swap.ItemNow {
			out.Swap = it.Swap
		}
	}
	if r := s.recov[c.Recovery]; r != nil {
		out.Recovery = s.viewRecovery(r, false)
	}
	return out
}
