package httpd

import (
	"fmt"
	"sync"
	"time"

	"lantern/internal/service/problem"
)

// tries slows down clients with wrong tokens: from the freeTries-th on, each failure doubles the time in which a wrong
// token from that address is not even checked, up to longestWait.
type tries struct {
	mu   sync.Mutex
	from map[string]*failures
}

type failures struct {
	count       int
	last, until time.Time
}

const (
	freeTries   = 5
	longestWait = time.Minute
	forgetAfter = 15 * time.Minute
	mostKnown   = 10000 // greatest number of addresses; the oldest are removed first
)

// wait reports whether an address must wait.
func (t *tries) wait(from string, now time.Time) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	f := t.from[from]
	if f == nil || !now.Before(f.until) {
		return nil
	}
	left := f.until.Sub(now).Round(time.Second)
	return problem.New(429, "too-many-tries", fmt.Sprintf("Try again in %s.", max(left, time.Second)),
		"Too many wrong tokens came from this address.")
}

// failed records a wrong token, and returns the number of recent ones.
func (t *tries) failed(from string, now time.Time) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.from == nil {
		t.from = map[string]*failures{}
	}
	if len(t.from) >= mostKnown {
		for a, f := range t.from {
			if now.Sub(f.last) > time.Minute || len(t.from) >= 2*mostKnown {
				delete(t.from, a)
			}
		}
	}
	f := t.from[from]
	if f == nil || now.Sub(f.last) > forgetAfter {
		f = &failures{}
		t.from[from] = f
	}
	f.count++
	f.last = now
	if over := f.count - freeTries; over >= 0 {
		f.until = now.Add(min(time.Second<<min(over, 10), longestWait))
	}
	return f.count
}

// worked removes the failures of an address.
func (t *tries) worked(from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.from, from)
}
