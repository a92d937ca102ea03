package agent

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"sync"
	"time"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/wire"
)

// A rhythm makes a drive's activity light blink as nothing else does: three flashes, and a pause. A flash is direct
// reads, spread over the drive, one after the other; nothing is ever written.
const (
	flash      = 150 * time.Millisecond
	pause      = 1050 * time.Millisecond
	flashes    = 3
	mostReads  = 40 // of a flash
	readSize   = 64 << 10
	mostErrors = 5 // in a row, before it is given up
)

// rhythms are those that are being kept, by the drive's key.
type rhythms struct {
	mu sync.Mutex
	of map[string]context.CancelFunc
}

func (r *rhythms) on(key string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.of[key] != nil
}

func (r *rhythms) stop(key string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if cancel := r.of[key]; cancel != nil {
		cancel()
		delete(r.of, key)
	}
}

// light switches the light of a bay, or, where that has none, keeps a rhythm on its drive.
func (a *Agent) light(ctx context.Context, o api.Order) (string, error) {
	key := wire.ToIdentity(o.Drive).Key()
	if !o.On && key != "" {
		a.rhythms.stop(key)
	}
	if o.Section != "" {
		lit, speaks, err := a.locate(ctx, o.Section, o.Bay, o.On)
		if !speaks {
			lit, speaks, err = a.lightByController(ctx, o.Section, o.Bay, o.On)
		}
		if !speaks {
			lit, err = a.Machine.Light(ctx, o.Section, o.Bay, o.On)
		}
		switch {
		case err == nil && lit != o.On:
			return "", fmt.Errorf("the light of %s did not change", o.Section+"/"+strconv.Itoa(o.Bay))
		case err == nil:
			return map[bool]string{true: "the light is on", false: "the light is off"}[lit], nil
		case key == "":
			return "", err
		}
	}
	if f, _, err := a.find(ctx, wire.ToIdentity(o.Drive)); err == nil && f.Locate != nil {
		lit, err := f.Locate(o.On)
		switch {
		case err != nil:
			return "", err
		case lit != o.On:
			return "", errors.New("the light of its slot did not change")
		}
		return map[bool]string{true: "the light of its slot is on", false: "the light of its slot is off"}[lit], nil
	}
	if !o.On {
		return "the rhythm has ended", nil
	}
	return a.beginRhythm(ctx, o)
}

// beginRhythm begins a rhythm on the drive that an order names (R2: found by its identity, now). It ends by itself.
func (a *Agent) beginRhythm(ctx context.Context, o api.Order) (string, error) {
	want := wire.ToIdentity(o.Drive)
	f, d, err := a.find(ctx, want)
	switch {
	case err != nil:
		return "", err
	case f.Read == nil || d.Capacity < readSize:
		return "", refuse("%s cannot be read directly, and its bay has no light", d.Tail())
	case sleeping(ctx, f):
		return "", refuse("%s is asleep, and reading would wake it", d.Tail())
	}
	buf := make([]byte, readSize)
	if err := f.Read(0, buf); err != nil {
		return "", fmt.Errorf("%s cannot be read: %w", d.Tail(), err)
	}
	key := d.Key()
	a.rhythms.stop(key)
	on, cancel := context.WithCancel(context.WithoutCancel(ctx))
	a.rhythms.mu.Lock()
	a.rhythms.of[key] = cancel
	a.rhythms.mu.Unlock()
	end := o.Until
	go func() {
		defer a.rhythms.stop(key)
		a.keep(on, f, d, func() bool { return !end.IsZero() && a.Clock.Now().After(end) })
	}()
	return "its activity light blinks: three flashes, and a pause", nil
}

// keep keeps the rhythm until ctx ends, it is over, or the drive does not answer.
func (a *Agent) keep(ctx context.Context, f Found, d drive.Description, over func() bool) {
	wait := clock.Real{} // it is for eyes, however fast the lab's time runs
	spots := uint64(d.Capacity) / readSize
	nth, failed := uint64(1), 0
	for ctx.Err() == nil && !over() && failed < mostErrors {
		for range flashes {
			begin := time.Now()
			until := begin.Add(flash)
			for n := range mostReads { // spread over the flash: a fast drive would be done with them at once
				_ = wait.Sleep(ctx, time.Until(begin.Add(flash*time.Duration(n)/mostReads)))
				if !time.Now().Before(until) || failed >= mostErrors || ctx.Err() != nil {
					break
				}
				// A step that meets every place once, and none twice in a row: heads move, caches do not answer.
				nth = (nth*6364136223846793005 + 1442695040888963407)
				if err := f.Read(int64(nth%spots)*readSize, make([]byte, readSize)); err != nil {
					failed++
				} else {
					failed = 0
				}
			}
			_ = wait.Sleep(ctx, time.Until(until))
			_ = wait.Sleep(ctx, flash)
		}
		_ = wait.Sleep(ctx, pause)
	}
}
