package outside

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// Kit puts a program through what an agent may ask of it, and through what may befall it.
type Kit struct {
	Command []string
	Host    string
	Log     *slog.Logger
	// Break makes a member fail, Slot is its place and With what comes for it: without them no member fails.
	Break, Slot, With string
	// Mend does by hand what an order would do to a pool that can only be watched: after Break, it makes the place
	// whole again.
	Mend string
	// Patience is how long a recovery may take.
	Patience time.Duration
	// Tell is called with every result as it comes.
	Tell func(Result)
}

// Result is what came of one part of the kit.
type Result struct {
	Title string `json:"title"`
	OK    bool   `json:"ok"`
	Says  string `json:"says"`
	Left  bool   `json:"left_out"` // it was not tried, and Says why
}

// Run puts the program through all of it. The first thing that fails so that nothing after it can be trusted ends it.
func (k Kit) Run(ctx context.Context) (all []Result) {
	note := func(title string, err error, says string) bool {
		r := Result{Title: title, OK: err == nil, Says: says}
		if err != nil {
			r.Says = err.Error()
		}
		all = append(all, r)
		if k.Tell != nil {
			k.Tell(r)
		}
		return err == nil
	}
	leave := func(title, why string) {
		r := Result{Title: title, OK: true, Left: true, Says: why}
		all = append(all, r)
		if k.Tell != nil {
			k.Tell(r)
		}
	}
	d := New(k.Command, k.Host, k.Log)
	defer d.Close()
	keys := func(path string) string { // here everything that is there is a drive
		if _, err := os.Stat(path); err != nil {
			return ""
		}
		return path
	}
	ours := func() ([]pools.Snapshot, error) { return d.Pools(ctx, keys) }

	first, err := ours()
	for _, s := range first {
		if err == nil && s.Inconsistent {
			err = fmt.Errorf(
				"what it tells of %s cannot be believed: a member's device is not there, or is there twice",
				s.Pool.Name,
			)
		}
	}
	if !note(
		"It greets, and tells its pools",
		err,
		fmt.Sprintf("it calls itself %s and tells of %d", d.name, len(first)),
	) {
		return all
	}
	if len(first) == 0 {
		note(
			"It tells of at least one pool",
			errors.New("there is none: set one up for this, so that it can be tried"),
			"",
		)
		return all
	}
	again, err := ours()
	if err == nil {
		err = same(first, again)
	}
	note("Asked again, it tells of the same pools and places", err, "")

	refuses := func(title, method string, params any, codes ...int) {
		err := d.ask(ctx, lookIn, method, params, nil)
		var r *Refusal
		switch {
		case err == nil:
			err = errors.New("it does not refuse")
		case errors.As(err, &r) && (len(codes) == 0 || slices.Contains(codes, r.Code)):
			err = nil
		case r != nil:
			err = fmt.Errorf("it refuses with the code %d, not with %v", r.Code, codes)
		}
		says := ""
		if r != nil {
			says = r.Message
		}
		note(title, err, says)
	}
	// A program that offers nothing is one for watching: it need not know what would be ordered.
	watched := len(first[0].Offers) == 0
	unknown := []int{}
	if watched {
		unknown = append(unknown, -32601)
	}
	refuses("It refuses what it does not know", "no-such-method", struct{}{}, -32601)
	refuses(
		"It refuses a pool that is not there",
		"stop",
		map[string]any{"pool": "no such pool"},
		append(unknown, CodeNoPool)...)
	_, own, _ := strings.Cut(first[0].Pool.ID, ":")
	refuses(
		"It refuses a recovery that is none",
		"begin",
		map[string]any{"pool": own, "kind": "nonsense"},
		append(unknown, CodeNotOffered, -32602)...)
	refuses(
		"It refuses a place that is not there",
		"join",
		map[string]any{"pool": own, "slot": "no such place", "path": "/no/such/path", "bytes": 1},
	)

	d.one.Lock()
	if d.p != nil {
		_, err = d.p.in.Write([]byte("}{ no JSON\n"))
	}
	d.one.Unlock()
	if err == nil {
		_, err = ours()
	}
	note("It lives through a line that is no JSON", err, "")

	d.Close()
	afterwards, err := ours()
	if err == nil {
		err = same(first, afterwards)
	}
	note("After a restart it tells of the same pools and places", err, "")

	if slices.Contains(afterwards[0].Offers, pools.OfferScrub) {
		says, err := d.Begin(ctx, first[0].Pool.ID, pools.Task{Kind: recovery.Scrub})
		note("It begins a scrub", err, says)
		if err == nil {
			says, err = k.follow(ctx, ours, first[0].Pool.ID, recovery.Scrub)
			note("The scrub can be followed to its end", err, says)
		}
	} else {
		leave("It begins a scrub", "the pool does not offer it")
	}
	k.fail(ctx, d, ours, first[0].Pool.ID, watched, note, leave)

	d.one.Lock()
	p := d.p
	d.p = nil
	d.one.Unlock()
	if p != nil {
		_ = p.in.Close()
		select {
		case <-p.gone:
			err = nil
		case <-time.After(5 * time.Second):
			err = errors.New("it runs on five seconds later: an agent that ends leaves it behind")
			p.kill()
		}
		note("It ends when its input does", err, "")
	}
	return all
}

// fail breaks a member and follows its replacement.
func (k Kit) fail(
	ctx context.Context,
	d *Driver,
	ours func() ([]pools.Snapshot, error),
	id string,
	watched bool,
	note func(string, error, string) bool,
	leave func(string, string),
) {
	if k.Break == "" {
		leave(
			"A member that fails is told, replaced and filled",
			"say how one is made to fail: --break, --slot and --with",
		)
		return
	}
	find := func() (pools.Snapshot, error) {
		all, err := ours()
		for _, s := range all {
			if s.Pool.ID == id {
				return s, nil
			}
		}
		return pools.Snapshot{}, errors.Join(err, errors.New("the pool is not told any more"))
	}
	before, err := find()
	if err != nil {
		note("A member is made to fail", err, "")
		return
	}
	was, _ := before.Pool.Margin()
	if out, err := exec.CommandContext(ctx, "sh", "-c", k.Break).CombinedOutput(); err != nil {
		note("A member is made to fail", fmt.Errorf("%s: %w: %s", k.Break, err, out), "")
		return
	}
	until := func(holds func(pools.Snapshot) bool) (s pools.Snapshot, err error) {
		for end := time.Now().Add(k.Patience); time.Now().Before(end) &&
			ctx.Err() == nil; time.Sleep(100 * time.Millisecond) {
			if s, err = find(); err != nil {
				return s, err
			}
			if holds(s) {
				return s, nil
			}
		}
		return s, fmt.Errorf("not within %s", k.Patience)
	}
	s, err := until(func(s pools.Snapshot) bool {
		m, _, ok := s.Pool.Slot(k.Slot)
		now, known := s.Pool.Margin()
		return ok && m.Lost() && known && now < was
	})
	now, _ := s.Pool.Margin()
	if !note("A member that fails is told, and the margin falls", err, fmt.Sprintf("%s, before: %s", now, was)) {
		return
	}
	switch {
	case watched && k.Mend == "":
		leave("What a person does to mend it is seen", "say how it is mended by hand: --mend")
		return
	case watched:
		out, err := exec.CommandContext(ctx, "sh", "-c", k.Mend).CombinedOutput()
		if !note("It is mended by hand", err, strings.TrimSpace(string(out))) {
			return
		}
	default:
		says, err := d.Join(ctx, id, k.Slot, pools.Target{Path: k.With})
		if !note("It takes another in its place", err, says) {
			return
		}
	}
	_, err = until(func(s pools.Snapshot) bool {
		m, _, _ := s.Pool.Slot(k.Slot)
		now, known := s.Pool.Margin()
		return m.State == pool.Online && known && now == was
	})
	note("It is filled, and the margin is what it was", err, was.String())
}

// follow looks at a recovery until it ends: its id lasts, and it never goes back.
func (k Kit) follow(
	ctx context.Context,
	ours func() ([]pools.Snapshot, error),
	pool string,
	kind recovery.Kind,
) (string, error) {
	var last *recovery.Report
	for end := time.Now().Add(k.Patience); time.Now().Before(end) && ctx.Err() == nil; time.Sleep(100 * time.Millisecond) {
		all, err := ours()
		if err != nil {
			return "", err
		}
		var now *recovery.Report
		for _, s := range all {
			for i, r := range s.Recoveries {
				if s.Pool.ID == pool && r.Kind == kind && (last == nil || r.ID == last.ID) &&
					(now == nil || r.StartedAt.After(now.StartedAt)) {
					now = &s.Recoveries[i]
				}
			}
		}
		switch {
		case now == nil && last != nil:
			return "", errors.New("it is not told any more, or under another id: tell how it ended for a while")
		case now == nil:
			continue
		case last != nil && now.Done < last.Done:
			return "", fmt.Errorf("its bytes done fall from %d to %d", last.Done, now.Done)
		}
		if last = now; now.State != recovery.Running && now.State != recovery.Paused {
			if now.State == recovery.Finished && now.Done != now.Todo {
				return "", fmt.Errorf("it has finished with %d of %d bytes", now.Done, now.Todo)
			}
			return fmt.Sprintf(
				"it is %s: %d bytes, %d errors found, %d repaired, %d left",
				now.State,
				now.Done,
				now.Found,
				now.Repaired,
				now.Unrepairable,
			), nil
		}
	}
	return "", fmt.Errorf("it has not ended within %s", k.Patience)
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
