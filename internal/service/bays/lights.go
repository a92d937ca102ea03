package bays

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"

	"github.com/oklog/ulid/v2"
)

// LightOn lights a bay or a drive until a given end. A light that is already on gets the new end. A drive in a bay
// without a light is shown by a rhythm of its activity light; if that is impossible too, by lighting all other bays of
// its section.
func (s *Service) LightOn(by string, req api.LightOn) (api.Light, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, a, err := s.bayOf(req)
	if err != nil {
		return api.Light{}, err
	}
	if h := s.fleet.Hosts[a.Host]; h == nil || s.fleet.Late(h, s.Clock.Now()) {
		return api.Light{}, problem.New(
			409,
			"host-quiet",
			"Bring its agent back first.",
			"%s does not report, so its lights cannot be switched.",
			a.Host,
		)
	}
	if req.Seconds < 1 || req.Seconds > 24*3600 {
		return api.Light{}, problem.New(422, "bad-light", "Give it an end within 24 hours.", "A light needs an end.")
	}
	until := s.Clock.Now().Add(time.Duration(req.Seconds) * time.Second)
	b := &store.Batch{}
	if req.AllBut {
		if a.Section == "" {
			return api.Light{}, problem.New(
				409,
				"no-bay",
				"Look for its label.",
				"The section of %s is not known, so there are no other bays to light.",
				d.Tail(),
			)
		}
		first, err := s.lightOthers(b, by, a, d, until)
		if err != nil {
			return api.Light{}, err
		}
		return first.Light, s.Commit(b)
	}
	if err := s.cannotLight(d, a); err != nil {
		return api.Light{}, err
	}
	l := s.light(b, by, d, a, until, "")
	return l.Light, s.Commit(b)
}

// cannotLight says why a bay can neither be lit nor shown by a rhythm.
func (s *State) cannotLight(d *fleet.Drive, a enclosure.Address) error {
	if d != nil && d.Present && (d.How != enclosure.Told || a.Section == "") {
		if s.lastOfBusy(d) {
			return problem.New(
				409,
				"last-member",
				"Use its label, or wait until the pool is idle.",
				"%s is among the last good members of a group that is busy, and its bay has no light: it is not "+
					"read for a rhythm now.",
				d.Tail(),
			)
		}
	}
	if d != nil && !d.Present && !s.hasLights(a) {
		return problem.New(
			409,
			"cannot-light",
			"Light all others of its section instead: lantern light on "+d.Tail()+" --all-but",
			"%s does not answer, so its activity light cannot blink, and its bay has none of its own.",
			d.Tail(),
		)
	}
	if a.Section != "" && (d == nil || !d.Present) && !s.hasLights(a) {
		return problem.New(
			409,
			"cannot-light",
			"Look for the number on the case.",
			"Bay %s has no light of its own, and no drive in it that could blink.",
			a,
		)
	}
	return nil
}

// busyForRhythm is the share of busy time above which no rhythm is used on the last good members of a group; above
// twice that share, a rhythm ends in any pool.
const busyForRhythm = 0.3

// lastOfBusy reports whether a drive is among the last good members of a group in a busy pool: no rhythm is used on it.
func (s *State) lastOfBusy(d *fleet.Drive) bool {
	at, ok := s.judging.Places()[d.Key()]
	if !ok {
		return false
	}
	margin, known := groupMargin(at)
	return known && margin <= 0 && s.fleet.PoolBusy(at.Pool) > busyForRhythm
}

// groupMargin is how many more members a drive's group can lose.
func groupMargin(at fleet.Place) (pool.Margin, bool) {
	for _, g := range at.Pool.Groups {
		if g.Name == at.Group {
			return at.Pool.GroupMargin(g)
		}
	}
	return 0, false
}

// hasLights reports whether the enclosure itself reports a bay, and so may have a light.
func (s *State) hasLights(a enclosure.Address) bool {
	h := s.fleet.Hosts[a.Host]
	return h != nil && fleet.Told(h, a.Section)
}

// lightDrive lights a drive, wherever it is.
func (s *State) lightDrive(b *store.Batch, by string, d *fleet.Drive, until time.Time, allBut string) *Light {
	return s.light(b, by, d, enclosure.Address{Host: d.Host, Section: d.Section, Number: d.Bay}, until, allBut)
}

func (s *State) light(
	b *store.Batch,
	by string,
	d *fleet.Drive,
	a enclosure.Address,
	until time.Time,
	allBut string,
) *Light {
	now := s.Clock.Now()
	var l *Light
	for _, x := range s.LightByID {
		if (x.Bay == a.String() && x.Bay != "" || d != nil && x.Drive == d.Key()) &&
			x.State != api.LightStateGoing {
			l = x
		}
	}
	if l == nil {
		l = &Light{api.Light{Id: ulid.Make().String(), Bay: a.String(), Since: now}}
		s.LightByID[l.Id] = l
	}
	l.Bay, l.By, l.Until, l.State, l.Says, l.AllBut = a.String(), by, until, api.LightStateAsked, "", allBut
	o := &orders.Order{
		LightID: l.Id,
		Order: api.Order{
			Host:    a.Host,
			Kind:    api.OrderKindLight,
			By:      by,
			Section: a.Section,
			Bay:     a.Number,
			On:      true,
			Until:   until,
		},
	}
	what := "bay " + l.Bay
	if d != nil {
		l.Drive, l.Tail = d.Key(), d.Tail()
		if d.Present {
			o.Drive = wire.Identity(d.Desc.Identity)
		}
		if l.Bay == "" {
			what = "drive " + l.Tail
		}
		delete(s.surveyFailed, l.Drive)
	}
	if !s.hasLights(a) {
		o.Section, o.Bay = "", 0 // its host does not report this bay
	}
	s.orders.Give(b, o)
	b.Put(l.row())
	s.AddEvent(
		b,
		api.EventKindLight,
		l.Bay,
		fmt.Sprintf("%s asked to light %s until %s", by, what, until.Format(time.TimeOnly)),
	)
	return l
}

// lightOthers lights every other drive of a section, so that the dark one is the one meant.
func (s *State) lightOthers(
	b *store.Batch,
	by string,
	a enclosure.Address,
	d *fleet.Drive,
	until time.Time,
) (first *Light, err error) {
	var others []*fleet.Drive
	for _, x := range s.fleet.Drives {
		if x != d && x.Present && x.Host == a.Host && x.Section == a.Section && x.Bay != a.Number {
			others = append(others, x)
		}
	}
	if len(others) == 0 {
		return nil, problem.New(
			409,
			"cannot-light",
			"Look for the number on the case.",
			"No other drive answers in %s/%s that could be lit.",
			a.Host,
			a.Section,
		)
	}
	slices.SortFunc(others, fleet.ByPlace)
	name := a.String()
	if d != nil {
		name = d.Tail()
	}
	for _, x := range others {
		if x.How != enclosure.Told && s.lastOfBusy(x) {
			return nil, problem.New(
				409,
				"last-member",
				"Use the labels, or wait until the pool is idle.",
				"%s is among the last good members of a group that is busy, and is not read for a rhythm now: "+
					"without it, more than one bay would stay dark.",
				x.Tail(),
			)
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
func (s *State) bayOf(req api.LightOn) (*fleet.Drive, enclosure.Address, error) {
	if req.Drive != "" {
		d, err := s.fleet.FindDrive(req.Drive)
		if err != nil {
			return nil, enclosure.Address{}, err
		}
		if d.Section == "" && !d.Present {
			return nil, enclosure.Address{}, problem.New(
				409,
				"no-bay",
				"Look for its label.",
				"The bay of %s is not known, and it does not answer.",
				d.Tail(),
			)
		}
		return d, enclosure.Address{Host: d.Host, Section: d.Section, Number: d.Bay}, nil
	}
	a, err := enclosure.ParseAddress(req.Bay)
	if err != nil {
		return nil, a, problem.New(422, "bad-bay", "See: lantern bays <host>", "%s.", err)
	}
	h := s.fleet.Hosts[a.Host]
	if h == nil || !s.hasBay(h, a) {
		return nil, a, problem.New(404, "no-bay", "See: lantern bays "+a.Host, "No bay %s.", req.Bay)
	}
	for _, d := range s.fleet.Drives {
		if d.Present && d.BayName() == a.String() {
			return d, a, nil
		}
	}
	return nil, a, nil
}

func (s *State) hasBay(h *fleet.Host, a enclosure.Address) bool {
	for _, e := range s.fleet.EnclosuresOf(h) {
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
	l := s.LightByID[id]
	if l == nil {
		for _, x := range s.LightByID {
			if x.Bay == id || x.Tail == id {
				l = x
			}
		}
	}
	if l == nil {
		return api.Light{}, problem.New(
			404,
			"no-light",
			"List them with: lantern light list",
			"No light %q.",
			id,
		)
	}
	b := &store.Batch{}
	if l.State != api.LightStateGoing {
		l.Until = s.Clock.Now()
		s.Dim(b, l)
	}
	return l.Light, s.Commit(b)
}

// Dim orders that a light is switched off.
func (s *State) Dim(b *store.Batch, l *Light) {
	o := &orders.Order{LightID: l.Id, Order: api.Order{Kind: api.OrderKindLight}}
	if a, err := enclosure.ParseAddress(l.Bay); err == nil {
		o.Host = a.Host
		if s.hasLights(a) {
			o.Section, o.Bay = a.Section, a.Number
		}
	}
	if d := s.fleet.Drives[l.Drive]; d != nil {
		o.Host = cmp.Or(o.Host, d.Host)
		o.Drive = wire.Identity(d.Desc.Identity)
	}
	if o.Host == "" {
		return
	}
	l.State = api.LightStateGoing
	b.Put(l.row())
	s.orders.Give(b, o)
}

// seeRhythms starts rhythms again that an agent lost by a restart. A rhythm in a pool that has become busy ends.
func (s *State) seeRhythms(b *store.Batch, from string, r api.Report) {
	keeps := map[string]bool{}
	for _, d := range r.Drives {
		keeps[wire.ToIdentity(d.Identity).Key()] = d.Rhythm
	}
	for _, l := range s.LightByID {
		d := s.fleet.Drives[l.Drive]
		if d == nil || d.Host != from || l.How != rhythm || l.State != api.LightStateLit {
			continue
		}
		at, member := s.judging.Places()[l.Drive]
		switch {
		case member && s.fleet.PoolBusy(at.Pool) > 2*busyForRhythm:
			l.Says = at.Pool.Name + " has become busy"
			s.Dim(b, l)
		case d.Present && !keeps[l.Drive] && s.Clock.Now().Before(l.Until):
			s.lightDrive(b, l.By, d, l.Until, l.AllBut)
		}
	}
}

// Tick switches off the lights whose end has passed.
func (s *State) Tick(t *fleet.Tick) {
	for _, l := range s.LightByID {
		if (l.State == api.LightStateAsked || l.State == api.LightStateLit) && !t.Now.Before(l.Until) {
			s.Dim(t.Batch, l)
		}
	}
}

// Answered records the outcome of an order about a light; ours is false for other orders.
func (s *State) Answered(b *store.Batch, o *orders.Order) (ours bool) {
	if l := s.LightByID[o.LightID]; l != nil {
		s.lightAnswered(b, l, o)
	}
	return o.LightID != ""
}

// lightAnswered records the outcome of an order about a light. A light that could not be switched off is tried again at
// the next end.
func (s *State) lightAnswered(b *store.Batch, l *Light, o *orders.Order) {
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
		l.State, l.Until = api.LightStateLit, s.Clock.Now().Add(s.Clock.AtLeast(30*time.Second, 5*time.Second))
	}
	if l.State == api.LightStateOut || l.State == api.LightStateFailed {
		delete(s.LightByID, l.Id)
	}
	b.Put(l.row())
	words := map[api.LightState]string{
		api.LightStateLit:    "is lit",
		api.LightStateOut:    "is dark again",
		api.LightStateFailed: "could not be lit: " + o.Says,
		api.LightStateGoing:  "is to go dark",
	}
	what := "bay " + l.Bay
	if l.Bay == "" {
		what = "drive " + l.Tail
	}
	s.AddEvent(b, api.EventKindLight, l.Bay, fmt.Sprintf("%s %s", what, words[l.State]))
}

func (l *Light) row() *store.Light {
	ended := l.State == api.LightStateOut || l.State == api.LightStateFailed
	return &store.Light{ID: l.Id, Ended: ended, Doc: ledger.Document(l.Light)}
}

// Take compares the lights and rhythms that a host reports with those requested.
func (s *State) Take(c *fleet.Change) {
	s.seeLights(c.Batch, c.Host.Name, c.Report)
	s.seeRhythms(c.Batch, c.Host.Name, c.Report)
}

// seeLights compares the lights of a host's enclosures with those requested: a light that is on without a request (for
// example after a restore) gets an end, at which it is switched off.
func (s *State) seeLights(b *store.Batch, from string, r api.Report) {
	shown := map[string]bool{}
	for _, e := range r.Enclosures {
		for _, sec := range e.Sections {
			for _, n := range sec.Lit {
				bay := enclosure.Address{Host: from, Section: sec.Name, Number: n}.String()
				shown[bay] = true
				known := false
				for _, l := range s.LightByID {
					known = known || l.Bay == bay
				}
				if !known {
					l := &Light{
						api.Light{
							Id:    ulid.Make().String(),
							Bay:   bay,
							Since: r.At,
							By:    foundLit,
							State: api.LightStateLit,
							Until: r.At.Add(10 * time.Minute),
						},
					}
					s.LightByID[l.Id] = l
					b.Put(l.row())
				}
			}
		}
	}
	for _, l := range s.LightByID {
		if a, err := enclosure.ParseAddress(l.Bay); err == nil && a.Host == from && l.By == foundLit && !shown[l.Bay] {
			l.State = api.LightStateOut
			delete(s.LightByID, l.Id)
			b.Put(l.row())
		}
	}
}

// rhythm is the way to show a drive in a bay without a light.
const rhythm = "rhythm"

// foundLit is used in place of a person's name for a light without a request.
const foundLit = "found lit"

// Lit reports whether a bay's light was last seen on, or is requested.
func (s *State) Lit(bay string) bool {
	for _, l := range s.LightByID {
		if l.Bay == bay {
			return true
		}
	}
	return false
}

type Light struct{ api.Light }
