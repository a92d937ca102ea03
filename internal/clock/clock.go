// Package clock passes time in. Nothing else in the program asks the system what time it is when that time is shown,
// kept or compared; so the lab can run fast, and a test can stand still.
package clock

import (
	"context"
	"sync"
	"time"
)

// Clock tells the time and waits for it.
type Clock interface {
	Now() time.Time
	// Sleep waits for d of this clock's time, or until ctx ends.
	Sleep(ctx context.Context, d time.Duration) error
	// AtLeast is d, or as much of this clock's time as passes in wall of real time if that is more: limits that guard
	// against slow machines must not shrink when a clock runs fast.
	AtLeast(d, wall time.Duration) time.Duration
}

// Real is the system's clock.
type Real struct{}

// Now is the system's time.
func (Real) Now() time.Time { return time.Now().UTC() }

// Sleep waits for d.
func (Real) Sleep(ctx context.Context, d time.Duration) error { return sleep(ctx, d) }

// AtLeast is the longer of the two.
func (Real) AtLeast(d, wall time.Duration) time.Duration { return max(d, wall) }

func sleep(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return ctx.Err()
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Lab is a clock that can run fast, or stand still.
type Lab struct {
	mu    sync.Mutex
	base  time.Time // lab time at since
	since time.Time // real
	speed float64
}

// NewLab gives a clock that shows at now and runs at speed times the real pace.
func NewLab(at time.Time, speed float64) *Lab {
	return &Lab{base: at.UTC(), since: time.Now(), speed: speed}
}

// Now is the lab's time.
func (l *Lab) Now() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.now()
}

func (l *Lab) now() time.Time {
	return l.base.Add(time.Duration(float64(time.Since(l.since)) * l.speed)).Round(time.Millisecond)
}

// Speed is how many times faster than real time it runs.
func (l *Lab) Speed() float64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.speed
}

// SetSpeed changes the pace from now on.
func (l *Lab) SetSpeed(speed float64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.base, l.since, l.speed = l.now(), time.Now(), speed
}

// Forward moves it by d at once: a clock of speed 0 is so moved by hand.
func (l *Lab) Forward(d time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.base, l.since = l.now().Add(d), time.Now()
}

// step is how long Sleep waits at most before it looks at the speed again.
const step = 100 * time.Millisecond

// Sleep waits for d of lab time; a change of speed is noticed within a tenth of a second.
func (l *Lab) Sleep(ctx context.Context, d time.Duration) error {
	until := l.Now().Add(d)
	for {
		left := until.Sub(l.Now())
		if left <= 0 {
			return ctx.Err()
		}
		wait := step
		if s := l.Speed(); s > 0 {
			wait = min(step, time.Duration(float64(left)/s)+time.Microsecond)
		}
		if err := sleep(ctx, wait); err != nil {
			return err
		}
	}
}

// AtLeast is d, or what passes of lab time in wall.
func (l *Lab) AtLeast(d, wall time.Duration) time.Duration {
	return max(d, time.Duration(float64(wall)*l.Speed()))
}
