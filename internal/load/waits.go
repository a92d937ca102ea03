package load

import (
	"cmp"
	"slices"
	"sync"
	"time"
)

// waits are the waiting times, by what was waited for.
type waits struct {
	mu sync.Mutex
	of map[string]*waited
}

type waited struct {
	took   []time.Duration
	failed int
	last   string // the last error
}

func newWaits() *waits { return &waits{of: map[string]*waited{}} }

func (w *waits) add(what string, took time.Duration, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	one := w.of[what]
	if one == nil {
		one = &waited{}
		w.of[what] = one
	}
	if err != nil {
		one.failed++
		one.last = err.Error()
		return
	}
	one.took = append(one.took, took)
}

// Row is a line of the table: the waiting times of one kind of request.
type Row struct {
	What      string        `json:"what"`
	Count     int           `json:"count"`
	Failed    int           `json:"failed"`
	LastError string        `json:"last_error,omitempty"`
	Median    time.Duration `json:"median_nanoseconds"`
	P99       time.Duration `json:"p99_nanoseconds"`
	Longest   time.Duration `json:"longest_nanoseconds"`
}

// rows are all of them, by name.
func (w *waits) rows() (out []Row) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for what, one := range w.of {
		r := Row{What: what, Count: len(one.took), Failed: one.failed, LastError: one.last}
		slices.Sort(one.took)
		r.Median, r.P99, r.Longest = share(one.took, 0.5), share(one.took, 0.99), share(one.took, 1)
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b Row) int { return cmp.Compare(a.What, b.What) })
	return out
}

// share is the quantile of sorted times.
func share(sorted []time.Duration, of float64) time.Duration {
	if len(sorted) == 0 {
		return 0
	}
	return sorted[min(int(of*float64(len(sorted))), len(sorted)-1)]
}
