package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/store"
	"lantern/internal/wire"
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
	if c := s.campaigns[o.swap]; c != nil {
		s.keepCampaign(b, c.Answered(s.clock.Now(), state == api.OrderStateDone, says))
	}
	if a := s.acceptances[o.Acceptance]; a != nil && o.On && state != api.OrderStateDone {
		s.turn(b, a, a.OrderFailed(s.clock.Now(), says), nil)
	}
	if o.Kind == api.OrderKindSelftest {
		s.testAnswered(b, o)
	} else if o.Kind == api.OrderKindAddress {
		s.addressAnswered(b, o)
	} else if o.swap == "" && o.light == "" && o.Acceptance == "" {
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
			s.hostToSwaps(b, h.Name, true, now)
			s.happened(b, api.EventKindHost, h.Name, h.Name+" has stopped reporting; what is known of it is of "+h.SeenAt.Format(time.RFC3339))
		}
	}
	s.goOnAccepting(b, now)
	s.plannedTests(b, now)
	s.turnPriorities(b, now)
	s.thin(now)
	s.notify(b, now)
	s.digest(b, now)
	return errors.Join(s.commit(b), s.fold(), s.forget(now))
}

// LightOn asks for a bay or a drive to be lit until an end. What is lit already keeps its light, with the new end. A drive
// whose bay has no light is shown by a rhythm; one that cannot be lit at all, by lighting all others of its section.
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
	if req.Seconds < 1 || req.Seconds > 24*3600 {
		return api.Light{}, problem(422, "bad-light", "Give it an end within 24 hours.", "A light needs an end.")
	}
	until := s.clock.Now().Add(time.Duration(req.Seconds) * time.Second)
	b := &store.Batch{}
	if req.AllBut {
		if a.Section == "" {
			return api.Light{}, problem(409, "no-bay", "Look for its label.", "Nobody knows in which section %s was, so there are no others to light.", d.tail())
		}
		first, err := s.lightOthers(b, by, a, d, until)
		if err != nil {
			return api.Light{}, err
		}
		return first.Light, s.commit(b)
	}
	if d != nil && d.Present && (d.How != enclosure.Told || a.Section == "") {
		if s.lastOfBusy(d) {
			return api.Light{}, problem(409, "last-member", "Go by its label, or wait until the pool is quiet.", "%s is among the last good members of a group that is busy, and its bay has no light: it is not read for a rhythm now.", d.tail())
		}
	}
	if d != nil && !d.Present && !s.hasLights(a) {
		return api.Light{}, problem(409, "cannot-light", "Light all others of its section instead: lantern light on "+d.tail()+" --all-but", "%s does not answer, so its activity light cannot blink, and its bay has none of its own.", d.tail())
	}
	if a.Section != "" && (d == nil || !d.Present) && !s.hasLights(a) {
		return api.Light{}, problem(409, "cannot-light", "Look for the number on the case.", "Bay %s has no light of its own, and no drive in it that could blink.", a)
	}
	l := s.light(b, by, d, a, until, "")
	return l.Light, s.commit(b)
}

// busyForRhythm is above which share of I/O the last good members of a group are left alone; above twice that, a rhythm in
// any pool ends.
const busyForRhythm = 0.3

// lastOfBusy says whether a drive is among the last good members of a group in a busy pool: it is not read for a rhythm.
func (s *Service) lastOfBusy(d *disk) bool {
	at, ok := s.places()[d.Desc.Key()]
	if !ok {
		return false
	}
	margin, known := groupMargin(at)
	return known && margin <= 0 && s.poolBusy(at.pool) > busyForRhythm
}

// groupMargin is how many more members a drive's group can lose.
func groupMargin(at place) (pool.Margin, bool) {
	for _, g := range at.pool.Groups {
		if g.Name == at.group {
			return at.pool.GroupMargin(g)
		}
	}
	return 0, false
}

// hasLights says whether the enclosure itself tells of a bay, and so may have a light.
func (s *Service) hasLights(a enclosure.Address) bool {
	h := s.hosts[a.Host]
	return h != nil && told(h, a.Section)
}

// lightDrive lights a drive, wherever it is.
func (s *Service) lightDrive(b *store.Batch, by string, d *disk, until time.Time, allBut string) *light {
	return s.light(b, by, d, enclosure.Address{Host: d.Host, Section: d.Section, Number: d.Bay}, until, allBut)
}

func (s *Service) light(b *store.Batch, by string, d *disk, a enclosure.Address, until time.Time, allBut string) *light {
	now := s.clock.Now()
	var l *light
	for _, x := range s.lights {
		if (x.Bay == a.String() && x.Bay != "" || d != nil && x.Drive == d.Desc.Key()) && x.State != api.LightStateGoing {
			l = x
		}
	}
	if l == nil {
		l = &light{api.Light{Id: ulid.Make().String(), Bay: a.String(), Since: now}}
		s.lights[l.Id] = l
	}
	l.Bay, l.By, l.Until, l.State, l.Says, l.AllBut = a.String(), by, until, api.LightStateAsked, "", allBut
	o := &order{light: l.Id, Order: api.Order{Host: a.Host, Kind: api.OrderKindLight, By: by, Section: a.Section, Bay: a.Number, On: true, Until: until}}
	what := "bay " + l.Bay
	if d != nil {
		l.Drive, l.Tail = d.Desc.Key(), d.tail()
		if d.Present {
			o.Drive = wire.Identity(d.Desc.Identity)
		}
		if l.Bay == "" {
			what = "drive " + l.Tail
		}
		delete(s.surveyFailed, l.Drive)
	}
	if !s.hasLights(a) {
		o.Section, o.Bay = "", 0 // its host knows nothing of this bay
	}
	s.order(b, o)
	b.Put(l.row())
	s.happened(b, api.EventKindLight, l.Bay, fmt.Sprintf("%s asked to light %s until %s", by, what, until.Format(time.TimeOnly)))
	return l
}

// lightOthers lights every other drive of a section, so that the one that is dark shows.
func (s *Service) lightOthers(b *store.Batch, by string, a enclosure.Address, d *disk, until time.Time) (first *light, err error) {
	var others []*disk
	for _, x := range s.drives {
		if x != d && x.Present && x.Host == a.Host && x.Section == a.Section && x.Bay != a.Number {
			others = append(others, x)
		}
	}
	if len(others) == 0 {
		return nil, problem(409, "cannot-light", "Look for the number on the case.", "No other drive answers in %s/%s that could be lit.", a.Host, a.Section)
	}
	slices.SortFunc(others, byPlace)
	name := a.String()
	if d != nil {
		name = d.tail()
	}
	for _, x := range others {
		if x.How != enclosure.Told && s.lastOfBusy(x) {
			return nil, problem(409, "last-member", "Go by the labels, or wait until the pool is quiet.", "%s is among the last good members of a group that is busy, and is not read for a rhythm now: without it, more than one bay would stay dark.", x.tail())
		}
	}
	for _, x := range others {
		if l := s.lightDrive(b, by, x, until, name); first == nil {
			first = l
		}
	}
	return first, nil
}

// bayOf finds the bay that is meant, by drive or by address. A drive may be without one.
func (s *Service) bayOf(req api.LightOn) (*disk, enclosure.Address, error) {
	if req.Drive != "" {
		d, err := s.findDrive(req.Drive)
		if err != nil {
			return nil, enclosure.Address{}, err
		}
		if d.Section == "" && !d.Present {
			return nil, enclosure.Address{}, problem(409, "no-bay", "Look for its label.", "Nobody knows in which bay %s is, and it does not answer.", d.tail())
		}
		return d, enclosure.Address{Host: d.Host, Section: d.Section, Number: d.Bay}, nil
	}
	a, err := enclosure.ParseAddress(req.Bay)
	if err != nil {
		return nil, a, problem(422, "bad-bay", "See: lantern bays <host>", "%s.", err)
	}
	h := s.hosts[a.Host]
	if h == nil || !s.hasBay(h, a) {
		return nil, a, problem(404, "no-bay", "See: lantern bays "+a.Host, "There is no bay %s.", req.Bay)
	}
	for _, d := range s.drives {
		if d.Present && d.bay() == a.String() {
			return d, a, nil
		}
	}
	return nil, a, nil
}

func (s *Service) hasBay(h *host, a enclosure.Address) bool {
	for _, e := range s.enclosuresOf(h) {
		for _, sec := range e.Sections {
			if _, ok := wire.ToSection(sec).Place(a.Number); ok && sec.Name == a.Section {
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
	o := &order{light: l.Id, Order: api.Order{Kind: api.OrderKindLight}}
	if a, err := enclosure.ParseAddress(l.Bay); err == nil {
		o.Host = a.Host
		if s.hasLights(a) {
			o.Section, o.Bay = a.Section, a.Number
		}
	}
	if d := s.drives[l.Drive]; d != nil {
		o.Host = cmp.Or(o.Host, d.Host)
		o.Drive = wire.Identity(d.Desc.Identity)
	}
	if o.Host == "" {
		return
	}
	l.State = api.LightStateGoing
	b.Put(l.row())
	s.order(b, o)
}

// seeRhythms begins rhythms again that an agent does not keep any more: it was restarted. One in a pool that has become busy
// ends.
func (s *Service) seeRhythms(b *store.Batch, from string, r api.Report) {
	keeps := map[string]bool{}
	for _, d := range r.Drives {
		keeps[wire.ToIdentity(d.Identity).Key()] = d.Rhythm
	}
	for _, l := range s.lights {
		d := s.drives[l.Drive]
		if d == nil || d.Host != from || l.How != rhythm || l.State != api.LightStateLit {
			continue
		}
		at, member := s.places()[l.Drive]
		switch {
		case member && s.poolBusy(at.pool) > 2*busyForRhythm:
			l.Says = at.pool.Name + " has become busy"
			s.dim(b, l)
		case d.Present && !keeps[l.Drive] && s.clock.Now().Before(l.Until):
			s.lightDrive(b, l.By, d, l.Until, l.AllBut)
		}
	}
}

// lightAnswered takes in what a host observed of a light. One that could not be put out is tried again at the next end.
func (s *Service) lightAnswered(b *store.Batch, l *light, o *order) {
	l.Says = o.Says
	switch {
	case o.State == api.OrderStateDone && o.On:
		if l.How = "light"; strings.Contains(o.Says, "blinks") {
			l.How = rhythm
		}
		if l.State == api.LightStateAsked {
			l.State = api.LightStateLit
		}
	case o.State == api.OrderStateDone:
		if l.State == api.LightStateGoing {
			l.State = api.LightStateOut
		}
	case o.On:
		l.State = api.LightStateFailed
		s.surveyFailed[l.Drive] = o.Says
	default:
		l.State, l.Until = api.LightStateLit, s.clock.Now().Add(s.clock.AtLeast(30*time.Second, 5*time.Second))
	}
	if l.State == api.LightStateOut || l.State == api.LightStateFailed {
		delete(s.lights, l.Id)
	}
	b.Put(l.row())
	words := map[api.LightState]string{api.LightStateLit: "is lit", api.LightStateOut: "is dark again", api.LightStateFailed: "could not be lit: " + o.Says, api.LightStateGoing: "is to go dark"}
	what := "bay " + l.Bay
	if l.Bay == "" {
		what = "drive " + l.Tail
	}
	s.happened(b, api.EventKindLight, l.Bay, fmt.Sprintf("%s %s", what, words[l.State]))
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

// rhythm is how a drive is shown whose bay has no light.
const rhythm = "rhythm"

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
