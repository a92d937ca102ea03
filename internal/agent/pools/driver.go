// Package pools is the seam between the agent and the systems that keep pools. A driver speaks for one kind of them.
package pools

import (
	"context"
	"errors"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// Snapshot is one pool and its recoveries as they were at one moment.
type Snapshot struct {
	Pool       pool.Pool
	Recoveries []recovery.Report
	// Offers is what can be asked of it, Priority what its recoveries get now, where that can be set.
	Offers   []Offer
	Priority recovery.Priority
	// Waits says why a recovery that should run does not, in the pool system's own terms; empty when none waits.
	Waits string
	// Inconsistent is true when it changed while it was read, again and again: what is told may not fit together.
	Inconsistent bool
	// Devices are further devices that are the pool's own, such as those that hold its metadata, by the kernel's names.
	Devices []string
	// Witness is what the members' own metadata say, read apart from the live view; nil where they were not, or could
	// not be, read.
	Witness *Witness
}

// Witness is a second source for a pool's members and states. Differs are its differences from the first.
type Witness struct {
	Source  string
	Differs []string
	// Unread is true when the metadata on some members were not read because their drives are in standby: Differs names
	// them too.
	Unread bool
}

// Blind is a pool of which nobody knows how its members are, nor what moves in it.
func Blind(p pool.Pool) Snapshot {
	return Snapshot{Pool: p.Unknown(), Inconsistent: true}
}

// Offer is one thing that a pool can be asked for.
type Offer string

// What a pool may offer. Scrub, Rebalance, Drain and Grow are tasks.
const (
	OfferJoin      Offer = "join"  // a drive in the place of a member
	OfferAdmit     Offer = "admit" // a drive as a further member
	OfferScrub     Offer = "scrub"
	OfferRebalance Offer = "rebalance"
	OfferDrain     Offer = "drain"
	OfferGrow      Offer = "grow"
	OfferSpare     Offer = "spare" // one of its spares is filled beside a member that still helps
	// a drive is filled beside the member whose place it takes, while that one still helps
	OfferBeside   Offer = "beside"
	OfferRelease  Offer = "release" // a place whose member was drained is forgotten
	OfferRefill   Offer = "refill"  // members that were drained are filled again
	OfferNudge    Offer = "nudge"   // a recovery that waits is made to begin
	OfferStop     Offer = "stop"
	OfferPriority Offer = "priority"
)

// Task is a recovery that can be begun.
type Task struct {
	Kind recovery.Kind
	Slot string // drain: the member that is emptied
	// Slots are all the members that are drained together, or, for a rebalance, filled again; empty for one, or for
	// all.
	Slots []string
	// Below makes a rebalance look only at parts that are used by less than this share, 0 to 1; 0 means at all.
	Below float64
}

// Target is a drive that was just found by its identity: Path is where it is now, and good for this one use only.
type Target struct {
	Path string
	Key  string
	Size drive.Bytes
}

// ErrNotOffered means that this kind of pool has no such thing.
var ErrNotOffered = errors.New("this kind of pool does not offer that")

// Driver is one kind of pool on one host. What a driver can do beside telling is in the interfaces below, each of which
// it may implement or not; a pool that offers nothing is watched, and its swaps have steps by hand. Every method that
// changes something returns, in words, what was observed afterwards; an error means that it was not observed. For a
// pool that the driver does not know the error is ErrNoSuchPool.
type Driver interface {
	// Pools lists what is there now. keys gives the drive behind a device path.
	Pools(ctx context.Context, keys func(path string) string) ([]Snapshot, error)
	// Trust says where the driver's facts come from.
	Trust() Trust
}

// Trust is where a driver's facts come from, and so how far they are believed.
type Trust int

const (
	// TrustKernel is for facts read from the kernel by code of ours.
	TrustKernel Trust = iota
	// TrustProgram is for what another program says: it is compared with what the kernel and the drives' own metadata
	// say, and is not believed about drives that the kernel has in a pool.
	TrustProgram
)

// Joiner makes a drive a member in place of the one at slot, and begins to fill it.
type Joiner interface {
	Join(ctx context.Context, poolID, slot string, t Target) (observed string, err error)
}

// Admitter adds a drive as a further member.
type Admitter interface {
	Admit(ctx context.Context, poolID string, t Target) (observed string, err error)
}

// Beginner starts recoveries.
type Beginner interface {
	Begin(ctx context.Context, poolID string, t Task) (observed string, err error)
}

// Stopper ends what is running, where the pool can bear it.
type Stopper interface {
	Stop(ctx context.Context, poolID string) (observed string, err error)
}

// Releaser makes a pool forget a place whose member carries nothing any more.
type Releaser interface {
	Release(ctx context.Context, poolID, slot string) (observed string, err error)
}

// Nudger makes a recovery begin that waits.
type Nudger interface {
	Nudge(ctx context.Context, poolID string) (observed string, err error)
}

// Prioritiser sets what recoveries get beside the users.
type Prioritiser interface {
	Prioritise(ctx context.Context, poolID string, p recovery.Priority) (observed string, err error)
}

// Addresser says what is at an address, in bytes, of the drive at a path: a file, metadata, free space. It is
// ErrNoSuchPool when the drive is in none of its pools, ErrNotOffered when this kind of pool cannot say.
type Addresser interface {
	WhatIsAt(ctx context.Context, path string, offset uint64) (string, error)
}

// Whole is a driver that can do all that there is to ask for. Drivers that can say so to the compiler.
type Whole interface {
	Driver
	Joiner
	Admitter
	Beginner
	Stopper
	Releaser
	Nudger
	Prioritiser
	Addresser
}

// ErrNoSuchPool means that the driver does not know the pool.
var ErrNoSuchPool = errors.New("no such pool here")
