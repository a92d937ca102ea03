// Package conform tries a pool driver, whatever it speaks for: what the agent may ask of it, and what may happen to it.
package conform

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// Kit tries one driver on one pool.
type Kit struct {
	Driver pools.Driver
	// Fresh is the driver as it is after the agent was started again.
	Fresh func() pools.Driver
	Keys  func(path string) string
	// Pool is the pool's id; without it the first one that the driver tells is taken.
	Pool string
	// Break makes the member at Slot fail, and With is the drive that takes its place: without Break no member fails.
	Break func(context.Context) (says string, err error)
	Slot  string
	With  pools.Target
	// Mend does by hand what an order would do to a pool that can only be watched: after Break, it makes the place
	// whole again.
	Mend func(context.Context) (says string, err error)
	// Patience is how long a recovery may take.
	Patience time.Duration
	// Middle are further parts, tried while the pool is whole; Last are tried at the end.
	Middle, Last []Part
	// Tell is called with every result as it comes.
	Tell func(Result)

	results []Result
}

// Part is one thing that is tried.
type Part struct {
	Title string
	Try   func(context.Context) (says string, err error)
}

// Result is what came of one part.
type Result struct {
	Title string `json:"title"`
	OK    bool   `json:"ok"`
	Says  string `json:"says"`
	Left  bool   `json:"left_out"` // it was not tried, and Says why
}

// noPool is the id of a pool that nobody has.
const noPool = "no such pool"

// Run tries all of it. The first failure after which nothing can be said ends it.
func (k Kit) Run(ctx context.Context) []Result {
	first, err := k.look(ctx)
	for _, s := range first {
		if err == nil && s.Inconsistent {
			err = fmt.Errorf(
				"its report of %s is not consistent: a member's device is missing, or is there twice",
				s.Pool.Name,
			)
		}
	}
	if !k.note("It answers the greeting and lists its pools", fmt.Sprintf("it lists %d", len(first)), err) {
		return k.results
	}
	if k.Pool == "" && len(first) > 0 {
		k.Pool = first[0].Pool.ID
	}
	at := slices.IndexFunc(first, func(s pools.Snapshot) bool { return s.Pool.ID == k.Pool })
	if at < 0 {
		k.note("It reports the pool", "", errors.New("there is none: set one up for this, so that it can be tried"))
		return k.results
	}
	offers := first[at].Offers
	again, err := k.look(ctx)
	if err == nil {
		err = same(first, again)
	}
	k.note("Asked again, it reports the same pools and places", "", err)
	says, err := k.offered(offers)
	k.note("It can do all that it offers", says, err)
	says, err = k.refusesPool(ctx)
	k.note("It refuses a pool that does not exist", says, err)
	if d, ok := k.Driver.(pools.Beginner); ok {
		says, err = d.Begin(ctx, k.Pool, pools.Task{Kind: "nonsense"})
		k.refused("It refuses a recovery that does not exist", says, err)
	}
	if d, ok := k.Driver.(pools.Joiner); ok {
		says, err = d.Join(ctx, k.Pool, "no such place", pools.Target{Path: "/no/such/path", Size: 1})
		k.refused("It refuses a place that does not exist", says, err)
	}
	k.try(ctx, k.Middle)

	k.Driver = k.Fresh()
	afterwards, err := k.look(ctx)
	if err == nil {
		err = same(first, afterwards)
	}
	k.note("After a restart it reports the same pools and places", "", err)
	k.priority(ctx, offers)
	k.scrub(ctx, offers)
	k.fail(ctx, len(offers) == 0)
	k.try(ctx, k.Last)
	return k.results
}

func (k *Kit) note(title, says string, err error) bool {
	r := Result{Title: title, OK: err == nil, Says: says}
	if err != nil {
		r.Says = err.Error()
	}
	k.take(r)
	return err == nil
}

// refused notes whether something was refused, for whatever reason.
func (k *Kit) refused(title, says string, err error) {
	if err == nil {
		k.note(title, "", fmt.Errorf("it does not refuse: %q", says))
		return
	}
	k.note(title, err.Error(), nil)
}

func (k *Kit) leave(title, why string) { k.take(Result{Title: title, OK: true, Left: true, Says: why}) }

func (k *Kit) take(r Result) {
	k.results = append(k.results, r)
	if k.Tell != nil {
		k.Tell(r)
	}
}

func (k *Kit) try(ctx context.Context, parts []Part) {
	for _, p := range parts {
		says, err := p.Try(ctx)
		k.note(p.Title, says, err)
	}
}

func (k *Kit) look(ctx context.Context) ([]pools.Snapshot, error) { return k.Driver.Pools(ctx, k.Keys) }

func (k *Kit) find(ctx context.Context) (pools.Snapshot, error) {
	all, err := k.look(ctx)
	for _, s := range all {
		if s.Pool.ID == k.Pool {
			return s, nil
		}
	}
	return pools.Snapshot{}, errors.Join(err, errors.New("the pool is no longer reported"))
}

// offered looks whether the driver has the method behind each offer.
func (k *Kit) offered(offers []pools.Offer) (string, error) {
	var words []string
	for _, o := range offers {
		var ok bool
		switch o {
		case pools.OfferJoin, pools.OfferBeside, pools.OfferSpare:
			_, ok = k.Driver.(pools.Joiner)
		case pools.OfferAdmit:
			_, ok = k.Driver.(pools.Admitter)
		case pools.OfferScrub, pools.OfferRebalance, pools.OfferDrain, pools.OfferGrow, pools.OfferRefill:
			_, ok = k.Driver.(pools.Beginner)
		case pools.OfferRelease:
			_, ok = k.Driver.(pools.Releaser)
		case pools.OfferNudge:
			_, ok = k.Driver.(pools.Nudger)
		case pools.OfferStop:
			_, ok = k.Driver.(pools.Stopper)
		case pools.OfferPriority:
			_, ok = k.Driver.(pools.Prioritiser)
		}
		if !ok {
			return "", fmt.Errorf("it offers %q and cannot do it", o)
		}
		words = append(words, string(o))
	}
	if len(words) == 0 {
		return "it offers nothing: its pools are watched", nil
	}
	return strings.Join(words, ", "), nil
}

// refusesPool asks for everything that can be asked, of a pool that is not there.
func (k *Kit) refusesPool(ctx context.Context) (says string, err error) {
	nothing := pools.Target{Path: "/no/such/path", Size: 1}
	asked := map[string]func() (string, error){}
	if d, ok := k.Driver.(pools.Joiner); ok {
		asked["join"] = func() (string, error) { return d.Join(ctx, noPool, "1", nothing) }
	}
	if d, ok := k.Driver.(pools.Admitter); ok {
		asked["admit"] = func() (string, error) { return d.Admit(ctx, noPool, nothing) }
	}
	if d, ok := k.Driver.(pools.Beginner); ok {
		asked["begin"] = func() (string, error) { return d.Begin(ctx, noPool, pools.Task{Kind: recovery.Scrub}) }
	}
	if d, ok := k.Driver.(pools.Stopper); ok {
		asked["stop"] = func() (string, error) { return d.Stop(ctx, noPool) }
	}
	if d, ok := k.Driver.(pools.Releaser); ok {
		asked["release"] = func() (string, error) { return d.Release(ctx, noPool, "1") }
	}
	if d, ok := k.Driver.(pools.Nudger); ok {
		asked["nudge"] = func() (string, error) { return d.Nudge(ctx, noPool) }
	}
	if d, ok := k.Driver.(pools.Prioritiser); ok {
		asked["priority"] = func() (string, error) { return d.Prioritise(ctx, noPool, recovery.Low) }
	}
	for name, ask := range asked {
		says, e := ask()
		switch {
		case e == nil:
			err = errors.Join(err, fmt.Errorf("%s: it does not refuse: %q", name, says))
		case !errors.Is(e, pools.ErrNoSuchPool):
			err = errors.Join(err, fmt.Errorf("%s: it refuses for another reason: %w", name, e))
		}
	}
	return fmt.Sprintf("asked in %d ways", len(asked)), err
}

// priority sets each priority, and looks whether it is told afterwards; a kind of pool may have no more than two.
func (k *Kit) priority(ctx context.Context, offers []pools.Offer) {
	const title = "A priority that was set is told"
	d, ok := k.Driver.(pools.Prioritiser)
	if !ok || !slices.Contains(offers, pools.OfferPriority) {
		k.leave(title, "the pool does not offer it")
		return
	}
	before, err := k.find(ctx)
	was := before.Priority
	for _, p := range []recovery.Priority{recovery.Low, recovery.High, was} {
		if err != nil || p == "" {
			break
		}
		if _, err = d.Prioritise(ctx, k.Pool, p); err != nil {
			break
		}
		var s pools.Snapshot
		if s, err = k.find(ctx); err == nil && (s.Priority == "" || (p == recovery.Low) != (s.Priority == recovery.Low)) {
			err = fmt.Errorf("%q was set, %q is told", p, s.Priority)
		}
	}
	k.note(title, fmt.Sprintf("low, high, and %q again", was), err)
}

func (k *Kit) scrub(ctx context.Context, offers []pools.Offer) {
	d, ok := k.Driver.(pools.Beginner)
	if !ok || !slices.Contains(offers, pools.OfferScrub) {
		k.leave("It begins a scrub", "the pool does not offer it")
		return
	}
	says, err := d.Begin(ctx, k.Pool, pools.Task{Kind: recovery.Scrub})
	if k.note("It begins a scrub", says, err) {
		says, err = k.follow(ctx, recovery.Scrub)
		k.note("The scrub can be followed to its end", says, err)
	}
}

// fail breaks a member and follows its replacement.
func (k *Kit) fail(ctx context.Context, watched bool) {
	if k.Break == nil {
		k.leave(
			"A member that fails is told, replaced and filled",
			"say how one is made to fail: --break, --slot and --with",
		)
		return
	}
	before, err := k.find(ctx)
	if err == nil {
		_, err = k.Break(ctx)
	}
	if err != nil {
		k.note("A member is made to fail", "", err)
		return
	}
	was, _ := before.Pool.Margin()
	s, err := k.until(ctx, func(s pools.Snapshot) bool {
		m, _, ok := s.Pool.Slot(k.Slot)
		now, known := s.Pool.Margin()
		return ok && m.Lost() && known && now < was
	})
	now, _ := s.Pool.Margin()
	if !k.note("A member that fails is told, and the margin falls", fmt.Sprintf("%s, before: %s", now, was), err) {
		return
	}
	switch d, joins := k.Driver.(pools.Joiner); {
	case (watched || !joins) && k.Mend == nil:
		k.leave("What a person does to mend it is seen", "say how it is mended by hand: --mend")
		return
	case watched || !joins:
		says, err := k.Mend(ctx)
		if !k.note("It is repaired by hand", says, err) {
			return
		}
	default:
		says, err := d.Join(ctx, k.Pool, k.Slot, k.With)
		if !k.note("It accepts a replacement in its place", says, err) {
			return
		}
	}
	_, err = k.until(ctx, func(s pools.Snapshot) bool {
		m, _, _ := s.Pool.Slot(k.Slot)
		now, known := s.Pool.Margin()
		return m.State == pool.Online && known && now == was
	})
	k.note("It is filled, and the margin is what it was", was.String(), err)
}

// until looks at the pool again and again until something holds.
func (k *Kit) until(ctx context.Context, holds func(pools.Snapshot) bool) (s pools.Snapshot, err error) {
	for end := time.Now().Add(k.Patience); time.Now().Before(end) && ctx.Err() == nil; time.Sleep(100 * time.Millisecond) {
		if s, err = k.find(ctx); err != nil {
			return s, err
		}
		if holds(s) {
			return s, nil
		}
	}
	state := ""
	s.Pool.Everyone(func(_ string, m *pool.Member) { state += fmt.Sprintf(", %s is %s", m.Slot, m.State) })
	return s, fmt.Errorf("not within %s%s", k.Patience, state)
}

// follow looks at a recovery until it ends: its id lasts, and it never goes back.
func (k *Kit) follow(ctx context.Context, kind recovery.Kind) (string, error) {
	var last *recovery.Report
	for end := time.Now().Add(k.Patience); time.Now().Before(end) && ctx.Err() == nil; time.Sleep(100 * time.Millisecond) {
		all, err := k.look(ctx)
		if err != nil {
			return "", err
		}
		now := k.newest(all, kind, last)
		switch {
		case now == nil && last != nil:
			return "", errors.New("it is no longer reported, or under another id: report how it ended for some time")
		case now == nil:
			continue
		case last != nil && now.Done < last.Done:
			return "", fmt.Errorf("its bytes done fall from %d to %d", last.Done, now.Done)
		}
		if last = now; now.State != recovery.Running && now.State != recovery.Paused {
			if now.State == recovery.Finished && now.Done != now.Todo {
				return "", fmt.Errorf("it has finished with %d of %d bytes", now.Done, now.Todo)
			}
			return fmt.Sprintf("it is %s: %d bytes, %d errors found, %d repaired, %d left",
				now.State, now.Done, now.Found, now.Repaired, now.Unrepairable), nil
		}
	}
	return "", fmt.Errorf("it has not ended within %s", k.Patience)
}

// newest is the recovery of a kind that began last, or the one that was seen before; nil when there is none.
func (k *Kit) newest(all []pools.Snapshot, kind recovery.Kind, last *recovery.Report) (now *recovery.Report) {
	for _, s := range all {
		for i, r := range s.Recoveries {
			if s.Pool.ID == k.Pool && r.Kind == kind && (last == nil || r.ID == last.ID) &&
				(now == nil || r.StartedAt.After(now.StartedAt)) {
				now = &s.Recoveries[i]
			}
		}
	}
	return now
}

// same says what of some pools is not as it was.
func same(a, b []pools.Snapshot) error {
	if len(a) != len(b) {
		return fmt.Errorf("there are %d, before there were %d", len(b), len(a))
	}
	for i := range a {
		if a[i].Pool.ID != b[i].Pool.ID {
			return fmt.Errorf("pool %s is %s now: ids must last", a[i].Pool.ID, b[i].Pool.ID)
		}
		var before, after []string
		a[i].Pool.Everyone(func(_ string, m *pool.Member) { before = append(before, m.Slot) })
		b[i].Pool.Everyone(func(_ string, m *pool.Member) { after = append(after, m.Slot) })
		if !slices.Equal(before, after) {
			return fmt.Errorf(
				"the places of %s are %v, before they were %v: they must last",
				a[i].Pool.Name,
				after,
				before,
			)
		}
	}
	return nil
}
