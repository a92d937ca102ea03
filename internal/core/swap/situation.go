package swap

import (
	"time"

	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/record"
)

// Situation is what the checks look at, before the start and before every step that lowers margin.
type Situation struct {
	Plan     State
	Now      time.Time
	Pool     *pool.Pool // nil when nothing is known of it
	PoolSeen time.Time
	// Host is how the host reports.
	Host Known[HostFacts]
	// Recovery is what moves in the pool now; empty when nothing does.
	Recovery Known[string]
	// OtherSwap is who leads another swap on this pool; OnHost another on this host, of which pool. Empty when there is
	// none.
	OtherSwap Known[string]
	OnHost    Known[string]
	// Gravest is another member of the pool in a bad state; its tail is empty when there is none.
	Gravest  Known[Grave]
	BayKnown bool
	// Scrub is when the pool was last read through, and whether that left nothing.
	Scrub Known[ScrubFacts]
	// Testing are the members of the pool that run a self-test now.
	Testing Known[[]string]
	// Matters are what there is to tell of the pool or the host now that is not about the old drive, in words.
	Matters Known[[]string]
	// Neighbours are the other pools that have members on this host.
	Neighbours Known[[]Neighbour]
	// Peers are members of pools on this host that are missing though they should not be, with their places.
	Peers Known[[]string]
	// Twin is another drive that tells the same label tail; empty when there is none.
	Twin Known[string]
	// NewVerdict is that of the new drive, NewPast what its counters say of its past.
	NewVerdict health.Verdict
	NewPast    []record.Check
	// Seats are what is known of the pools of all places of the drive; the first is Pool's. Below finds pools that
	// members of them are.
	Seats []SeatFacts
	Below pool.Lookup
	// Uses are what else depends on the drive, beside its pools.
	Uses Known[[]OtherUse]
	// Above are the pools that are on pools of the drive.
	Above Known[[]*pool.Pool]
	// Stock is a drive in the host that fits and was accepted; empty when there is none.
	Stock string
}

// HostFacts are how a host reports: Late when its reports stopped coming, Skew how far its clock is from ours.
type HostFacts struct {
	Late bool
	Skew time.Duration
}

// Grave is a drive in a bad state.
type Grave struct {
	Tail    string
	Verdict health.Verdict
}

// ScrubFacts are when a pool was last read through, zero for never, and whether that left nothing unrepaired.
type ScrubFacts struct {
	At    time.Time
	Clean bool
}

// Neighbour is another pool with members on the host of a swap, and what moves in it; Recovery is empty when nothing
// does.
type Neighbour struct {
	Pool     *pool.Pool
	Recovery string
}
