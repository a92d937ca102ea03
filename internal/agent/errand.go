package agent

import (
	"sync"
	"time"
)

// errand is a request to a drive, which may take long or never end. out must be read only when it has ended.
type errand[T any] struct {
	done chan struct{} // closed when the drive answered
	over chan struct{} // closed then, or when it is no longer waited for
	out  T
}

func (e *errand[T]) ended() bool {
	select {
	case <-e.done:
		return true
	default:
		return false
	}
}

// lanes limit the number of drives behind one adapter that are asked at a time. A drive that takes longer than patience
// gives its lane to others, and continues without it.
type lanes struct {
	width    int
	patience time.Duration
	mu       sync.Mutex
	of       map[string]chan struct{}
}

func (l *lanes) lane(adapter string) chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	c := l.of[adapter]
	if c == nil {
		if l.of == nil {
			l.of = map[string]chan struct{}{}
		}
		c = make(chan struct{}, l.width)
		l.of[adapter] = c
	}
	return c
}

// send starts an errand to a drive behind an adapter.
func send[T any](l *lanes, adapter string, f func() T) *errand[T] {
	e := &errand[T]{done: make(chan struct{}), over: make(chan struct{})}
	lane := l.lane(adapter)
	go func() {
		lane <- struct{}{}
		var once sync.Once
		leave := func() { once.Do(func() { close(e.over); <-lane }) }
		timer := time.AfterFunc(l.patience, leave)
		e.out = f()
		close(e.done)
		timer.Stop()
		leave()
	}()
	return e
}
