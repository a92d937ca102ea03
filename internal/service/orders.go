package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/swap"
	"lantern/internal/store"
)

// orderLimit is how long a host has to carry an order out, and orderWall how much real time that is at least.
const (
	orderLimit = 2 * time.Minute
	orderWall  = 40 * time.Second
)

// order gives a host something to do. s.mu is held.
func (s *Service) order(b *store.Batch, o *order) {
	now := s.clock.Now()
	o.Id, o.At, o.Expires, o.State = ulid.Make().String(), now, now.Add(s.clock.AtLeast(orderLimit, orderWall)), api.OrderStateWaiting
	s.orders[o.Id] = o
	b.Put(o.row())
	if c := s.wake[o.Host]; c != nil {
		close(c)
		delete(s.wake, o.Host)
	}
}

func (o *order) row() *store.Order {
	return &store.Order{ID: o.Id, Host: o.Host, State: string(o.State), Swap: o.swap, Nth: o.nth, Light: o.light, Doc: document(o.Order)}
}

// TakeOrders gives a host what it has to do, waiting up to wait for something to come.
func (s *Service) TakeOrders(ctx context.Context, from string, wait time.Duration) ([]api.Order, error) {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	for {
		s.mu.Lock()
		out := []api.Order{}
		for _, o := range s.orders {
			if o.Host == from {
				out = append(out, o.Order)
			}
		}
		c := s.wake[from]
		if c == nil {
			c = make(chan struct{})
			s.wake[from] = c
		}
		s.mu.Unlock()
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

// TakeOutcome keeps what came of an order. One that is not waited for any more is kept too, but changes nothing: what
// the pool shows will tell.
func (s *Service) TakeOutcome(from, id string, out api.Outcome) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := s.orders[id]
	if o == nil || o.Host != from {
		if _, err := store.One[store.Order](s.store, "id = ? and host = ?", id, from); err == nil {
			return nil
		}
		return problem(404, "no-order", "", "There is no order %q for this host.", id)
	}
	b := &store.Batch{}
	s.end(b, o, api.OrderState(out.State), out.Says)
	return s.commit(b)
}

// end writes down how an order ended and tells whoever gave it.
func (s *Service) end(b *store.Batch, o *order, state api.OrderState, says string) {
	o.State, o.Says = state, says
	delete(s.orders, o.Id)
	b.Put(o.row())
	if w := s.swaps[o.swap]; w != nil {
		_ = s.apply(b, w, swap.Event{Kind: swap.OrderDone, At: s.clock.Now(), Order: o.nth, Done: state == api.OrderStateDone, Outcome: says})
	}
	if l := s.lights[o.light]; l != nil {
		s.lightAnswered(b, l, o)
	}
	if o.Kind == api.OrderKindSelftest {
		s.testAnswered(b, o)
	} else if o.Kind == api.OrderKindAddress {
		s.addressAnswered(b, o)
	} else if o.swap == "" && o.light == "" {
		s.happened(b, api.EventKindPool, o.Pool, fmt.Sprintf("%s on %s: %s, %s", o.Kind, o.Host, state, says))
	}
}

// Order finds an order by its id.
func (s *Service) Order(id string) (api.Order, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.orders[id]; o != nil {
		return o.Order, nil
	}
	row, err := store.One[store.Order](s.store, "id = ?", id)
	if err != nil {
		return api.Order{}, problem(404, "no-order", "", "There is no order %q.", id)
	}
	return fromDocument[api.Order](row.Doc)
}

// Tick does what is due: lights that end, orders that nobody carried out, hosts that went quiet. It is called a few
// times a second.
func (s *Service) Tick() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.clock.Now()
	b := &store.Batch{}
	for _, o := range s.orders {
		if now.After(o.Expires) {
			s.end(b, o, api.OrderStateExpired, o.Host+" did not answer within the time limit")
		}
	}
	for _, l := range s.lights {
		if (l.State == api.LightStateAsked || l.State == api.LightStateLit) && !now.Before(l.Until) {
			s.dim(b, l)
		}
	}
	for _, h := range s.hosts {
		if !h.quiet && !h.SeenAt.IsZero() && s.late(h, now) {
			h.quiet = true
			s.happened(b, api.EventKindHost, h.Name, h.Name+" has stopped reporting; what is known of it is of "+h.SeenAt.Format(time.RFC3339))
		}
	}
	s.plannedTests(b, now)
	s.thin(now)
	s.notify(b, now)
	s.digest(b, now)
	return errors.Join(s.commit(b), s.fold(), s.forget(now))
}

// LightOn asks for a bay to be lit until an end. A bay that is lit already keeps its light, with the new end.
func (s *Service) LightOn(by string, req api.LightOn) (api.Light, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, a, err := s.bayOf(req)
	if err != nil {
		return api.Light{}, err
	}
	if h := s.hosts[a.Host]; h == nil || s.late(h, s.clock.Now()) {
		return api.Light{}, problem(409, "host-quiet", "Bring its agent back first.", "%s does not report, so its lights cannot be switched.", a.Host)
	}
	now := s.clock.Now()
	until := now.Add(time.Duration(req.Seconds) * time.Second)
	b := &store.Batch{}
	var l *light
	for _, x := range s.lights {
		if x.Bay == a.String() && x.State != api.LightStateGoing {
			l = x
		}
	}
	if l == nil {
		l = &light{api.Light{Id: ulid.Make().String(), Bay: a.String(), Since: now}}
		s.lights[l.Id] = l
	}
	l.By, l.Until, l.State, l.Says = by, until, api.LightStateAsked, ""
	if d != nil {
		l.Drive, l.Tail = d.Desc.Key(), d.tail()
	}
	s.order(b, &order{light: l.Id, Order: api.Order{Host: a.Host, Kind: api.OrderKindLight, By: by, Section: a.Section, Bay: a.Number, On: true}})
	b.Put(l.row())
	s.happened(b, api.EventKindLight, l.Bay, fmt.Sprintf("%s asked to light bay %s until %s", by, l.Bay, until.Format(time.TimeOnly)))
	return l.Light, s.commit(b)
}

// bayOf finds the bay that is meant, by drive or by address.
func (s *Service) bayOf(req api.LightOn) (*disk, enclosure.Address, error) {
	if req.Drive != "" {
		d, err := s.findDrive(req.Drive)
		if err != nil {
			return nil, enclosure.Address{}, err
		}
		if d.Section == "" {
			return nil, enclosure.Address{}, problem(409, "no-bay", "Look for its label.", "Nobody knows in which bay %s is.", d.tail())
		}
		return d, enclosure.Address{Host: d.Host, Section: d.Section, Number: d.Bay}, nil
	}
	a, err := enclosure.ParseAddress(req.Bay)
	if err != nil {
		return nil, a, problem(422, "bad-bay", "See: lantern bays <host>", "%s.", err)
	}
	h := s.hosts[a.Host]
	if h == nil || !hasBay(h.report, a) {
		return nil, a, problem(404, "no-bay", "See: lantern bays "+a.Host, "There is no bay %s.", req.Bay)
	}
	for _, d := range s.drives {
		if d.Present && d.bay() == a.String() {
			return d, a, nil
		}
	}
	return nil, a, nil
}

func hasBay(r api.Report, a enclosure.Address) bool {
	for _, e := range r.Enclosures {
		for _, sec := range e.Sections {
			if sec.Name == a.Section && a.Number >= 1 && a.Number <= sec.Rows*sec.Columns {
				return true
			}
		}
	}
	return false
}

// LightOff puts a light out before its end.
func (s *Service) LightOff(id string) (api.Light, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.lights[id]
	if l == nil {
		for _, x := range s.lights {
			if x.Bay == id || x.Tail == id {
				l = x
			}
		}
	}
	if l == nil {
		return api.Light{}, problem(404, "no-light", "List them with: lantern light list", "There is no light %q.", id)
	}
	b := &store.Batch{}
	if l.State != api.LightStateGoing {
		l.Until = s.clock.Now()
		s.dim(b, l)
	}
	return l.Light, s.commit(b)
}

// dim orders a light to go out.
func (s *Service) dim(b *store.Batch, l *light) {
	a, err := enclosure.ParseAddress(l.Bay)
	if err != nil {
		return
	}
	l.State = api.LightStateGoing
	b.Put(l.row())
	s.order(b, &order{light: l.Id, Order: api.Order{Host: a.Host, Kind: api.OrderKindLight, Section: a.Section, Bay: a.Number}})
}

// lightAnswered takes in what a host observed of a light. One that could not be put out is tried again at the next end.
func (s *Service) lightAnswered(b *store.Batch, l *light, o *order) {
	l.Says = o.Says
	switch {
	case o.State == api.OrderStateDone && o.On:
		if l.State == api.LightStateAsked {
			l.State = api.LightStateLit
		}
	case o.State == api.OrderStateDone:
		if l.State == api.LightStateGoing {
			l.State = api.LightStateOut
		}
	case o.On:
		l.State = api.LightStateFailed
	default:
		l.State, l.Until = api.LightStateLit, s.clock.Now().Add(s.clock.AtLeast(30*time.Second, 5*time.Second))
	}
	if l.State == api.LightStateOut || l.State == api.LightStateFailed {
		delete(s.lights, l.Id)
	}
	b.Put(l.row())
	words := map[api.LightState]string{api.LightStateLit: "is lit", api.LightStateOut: "is dark again", api.LightStateFailed: "could not be lit: " + o.Says, api.LightStateGoing: "is to go dark"}
	s.happened(b, api.EventKindLight, l.Bay, fmt.Sprintf("bay %s %s", l.Bay, words[l.State]))
}

func (l *light) row() *store.Light {
	ended := l.State == api.LightStateOut || l.State == api.LightStateFailed
	return &store.Light{ID: l.Id, Ended: ended, Doc: document(l.Light)}
}

// seeLights compares what a host's enclosures show with what was asked: a light that burns and belongs to nobody (after
// a restore, say) is put out by giving it an end.
func (s *Service) seeLights(b *store.Batch, from string, r api.Report) {
	shown := map[string]bool{}
	for _, e := range r.Enclosures {
		for _, sec := range e.Sections {
			for _, n := range sec.Lit {
				bay := enclosure.Address{Host: from, Section: sec.Name, Number: n}.String()
				shown[bay] = true
				known := false
				for _, l := range s.lights {
					known = known || l.Bay == bay
				}
				if !known {
					l := &light{api.Light{Id: ulid.Make().String(), Bay: bay, Since: r.At, By: foundLit, State: api.LightStateLit, Until: r.At.Add(10 * time.Minute)}}
					s.lights[l.Id] = l
					b.Put(l.row())
				}
			}
		}
	}
	for _, l := range s.lights {
		if a, err := enclosure.ParseAddress(l.Bay); err == nil && a.Host == from && l.By == foundLit && !shown[l.Bay] {
			l.State = api.LightStateOut
			delete(s.lights, l.Id)
			b.Put(l.row())
		}
	}
}

// foundLit stands where a person's name would: nobody asked for this light.
const foundLit = "found lit"

// lit says whether a bay's light was last seen on, or is asked to be.
func (s *Service) lit(bay string) bool {
	for _, l := range s.lights {
		if l.Bay == bay {
			return true
		}
	}
	return false
}
