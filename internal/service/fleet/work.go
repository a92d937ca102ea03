package fleet

import (
	"time"
)

// Work gives other packages access to the swaps under way.
type Work interface {
	// askedOut reports whether a drive is out because a swap asked for it, within the time allowed; askedDown the same
	// for a host.
	AskedOut(key string, now time.Time) bool
	AskedDown(host string, now time.Time) bool
	// swapIn gives the leader of the swap that was begun in a pool, onHost whether any is open on a host.
	SwapIn(poolID string) (lead string, begun bool)
	OnHost(host string) bool
	// promised gives the old drive of the swap that a drive is reserved for, except the swap with the given id; waitsIn
	// the leader of the swap that waits for a drive to be confirmed.
	Promised(key, id string) string
	WaitsIn(key string) (lead string, waits bool)
	// Concerns reports whether an open swap takes a drive out or brings it in.
	Concerns(key string) bool
	// leads describes what a person leads, and what to do about it; empty when nothing.
	Leads(person string) error
}
