package fleet

import (
	"time"
)

// Work is what swaps are under way, for those that they concern.
type Work interface {
	// askedOut says whether a drive is out because a swap asked for it, askedDown the same of a host; not for too long
	// yet.
	AskedOut(key string, now time.Time) bool
	AskedDown(host string, now time.Time) bool
	// swapIn says who leads the swap that was begun in a pool, onHost whether any is open on a host.
	SwapIn(poolID string) (lead string, begun bool)
	OnHost(host string) bool
	// promised says to the swap of which old drive another was promised, if not to that with the given id; waitsIn who
	// leads the swap that waits for a drive to be confirmed.
	Promised(key, id string) string
	WaitsIn(key string) (lead string, waits bool)
	// Concerns says whether an open swap takes a drive out or brings it in.
	Concerns(key string) bool
	// leads says what a person leads, and what to do about it; empty when nothing.
	Leads(person string) error
}
