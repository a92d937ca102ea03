package orders

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"

	"github.com/oklog/ulid/v2"
)

// orderLimit is the time within which a host must carry out an order, orderWall its least duration in real time.
const (
	orderLimit = 2 * time.Minute
	orderWall  = 40 * time.Second
)

// Give gives an order to a host.
func (s *State) Give(b *store.Batch, o *Order) {
	now := s.Clock.Now()
	o.Id, o.At, o.Expires, o.State = ulid.Make().String(), now, now.Add(
		s.Clock.AtLeast(orderLimit, orderWall),
	), api.OrderStateWaiting
	s.Waiting[o.Id] = o
	b.Put(o.row())
	b.Audit = append(b.Audit, o.entry(cmp.Or(o.By, "the service"), "order "+string(o.Kind), "given"))
	if c := s.wake[o.Host]; c != nil {
		close(c)
		delete(s.wake, o.Host)
	}
}

func (o *Order) row() *store.Order {
	return &store.Order{
		ID:    o.Id,
		Host:  o.Host,
		State: string(o.State),
		Swap:  o.SwapID,
		Nth:   o.Nth,
		Light: o.LightID,
		Doc:   ledger.Document(o.Order),
	}
}

// TakeOrders gives the open orders of a host; it waits up to wait for one.
func (s *Service) TakeOrders(ctx context.Context, from string, wait time.Duration) ([]api.Order, error) {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	for {
		s.mu.RLock()
		out := []api.Order{}
		for _, o := range s.Waiting {
			if o.Host == from && s.Restored.At.IsZero() && !s.contested(o) {
				out = append(out, o.Order)
			}
		}
		c := s.wake[from]
		if c == nil {
			c = make(chan struct{})
			s.wake[from] = c
		}
		s.mu.RUnlock()
		if len(out) > 0 {
			slices.SortFunc(out, func(a, b api.Order) int { return strings.Compare(a.Id, b.Id) })
			return out, nil
		}
		select {
		case <-c:
		case <-ctx.Done():
			return out, nil
		}
	}
}

// contested reports whether the drive of an order is ambiguous: the order is not given out, and ends with its time
// limit.
func (s *State) contested(o *Order) bool {
	d := s.fleet.Drives[wire.ToIdentity(o.Drive).Key()]
	return d != nil && s.fleet.Contested(d) != ""
}

// Expired are the orders that were not carried out in time.
func (s *State) Expired(now time.Time) (out []*Order) {
	for _, o := range s.Waiting {
		if now.After(o.Expires) {
			out = append(out, o)
		}
	}
	slices.SortFunc(out, func(a, b *Order) int { return strings.Compare(a.Id, b.Id) })
	return out
}

// End records how an order ended.
func (s *State) End(b *store.Batch, o *Order, state api.OrderState, says string) {
	o.State, o.Says = state, says
	delete(s.Waiting, o.Id)
	b.Put(o.row())
	who := o.Host
	if state == api.OrderStateExpired {
		who = "the service"
	}
	b.Audit = append(b.Audit, o.entry(who, "outcome of "+string(o.Kind), string(state)+": "+says))
}

// entry is the audit entry of an order: only orders change anything on a host.
func (o *Order) entry(who, action, result string) *store.AuditEntry {
	target := []string{o.Host}
	for _, x := range []string{o.Pool, o.Slot, wire.ToIdentity(o.Drive).Key(), o.SwapID, o.Id} {
		if x != "" {
			target = append(target, x)
		}
	}
	return &store.AuditEntry{At: time.Now(), Who: who, Action: action, Target: strings.Join(target, " "),
		Result: result}
}

// Order finds an order by its id.
func (s *Service) Order(id string) (api.Order, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if o := s.Waiting[id]; o != nil {
		return o.Order, nil
	}
	row, err := store.One[store.Order](s.Store, "id = ?", id)
	if errors.Is(err, store.ErrNone) {
		return api.Order{}, problem.New(404, "no-order", "", "No order %q.", id)
	}
	if err != nil {
		return api.Order{}, err
	}
	return fleet.FromDocument[api.Order](row.Doc)
}
