package swap

import (
	"time"

	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/record"
)

// Situation is the input of the checks, before the start and before every step that lowers the margin.
type Situation struct {
	Plan     State
	Now      time.Time
	Pool     *pool.Pool // nil when nothing is known of it
	PoolSeen time.Time
	// Host is how the host reports.
	Host Known[HostFacts]
	// Recovery is the recovery that runs in the pool now; empty when none runs.
	Recovery Known[string]
	// OtherSwap is the leader of another swap on this pool; OnHost is the pool of another swap on this host. Empty when
	// there is none.
	OtherSwap Known[string]
	OnHost    Known[string]
	// Gravest is the worst other member of the pool; its tail is empty when none is in a bad state.
	Gravest  Known[Grave]
	BayKnown bool
	// Scrub is when the last scrub of the pool ended, and whether it left no errors.
	Scrub Known[ScrubFacts]
	// Testing are the members of the pool that run a self-test now.
	Testing Known[[]string]
	// Matters are open matters of the pool or the host other than the old drive, in words.
	Matters Known[[]string]
	// Neighbours are the other pools that have members on this host.
	Neighbours Known[[]Neighbour]
	// Peers are members on this host that are unexpectedly missing, with their places.
	Peers Known[[]string]
	// Twin is another drive with the same label tail; empty when there is none.
	Twin Known[string]
	// NewVerdict is the verdict of the new drive, NewPast what its counters show about earlier use.
	NewVerdict health.Verdict
	NewPast    []record.Check
	// Seats are the facts about the pools of all places of the drive; the first is that of Pool. Below finds pools that
	// are members of other pools.
	Seats []SeatFacts
	Below pool.Lookup
	// Uses are other things that depend on the drive, besides its pools.
	Uses Known[[]OtherUse]
	// Above are the pools that are built on pools of the drive.
	Above Known[[]*pool.Pool]
	// Stock is a drive in the host that fits and was accepted; empty when there is none.
	Stock string
}

// HostFacts describe the reports of a host: Late is since when they stopped, Skew the difference between its clock and
// ours.
type HostFacts struct {
	Late bool
	Skew time.Duration
}

// Grave is a drive in a bad state.
type Grave struct {
	Tail    string
	Verdict health.Verdict
	// Unknown are the label tails, or the places, of the members that are in use and whose health is not known.
	Unknown []string
}

// ScrubFacts are when a pool was last read through, zero for never, and whether that left nothing unrepaired.
type ScrubFacts struct {
	At    time.Time
	Clean bool
}

// Neighbour is another pool with members on the host of a swap; Recovery is the recovery that runs in it, empty when
// none runs.
type Neighbour struct {
	Pool     *pool.Pool
	Recovery string
}
