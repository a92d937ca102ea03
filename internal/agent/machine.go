// Package agent runs on a storage host: it finds drives, reads them, tells the service, and obeys its orders.
package agent

import (
	"context"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/partition"
	"lantern/internal/core/stack"
)

// Machine is the host as the agent meets it: the Linux kernel's, or the lab's.
type Machine interface {
	// Drives are those that are there now.
	Drives(ctx context.Context) ([]Found, error)
	// Changes has something to receive when drives may have come or gone; nil when the machine cannot tell, and is
	// looked at now and then.
	Changes(ctx context.Context) <-chan struct{}
	// Enclosures are their layouts and the bays that are lit, by section.
	Enclosures(ctx context.Context) ([]Enclosure, error)
	// Boxes are the enclosures that speak for themselves.
	Boxes(ctx context.Context) ([]BoxFound, error)
	// Light switches one bay's light and gives back what it then shows.
	Light(ctx context.Context, section string, bay int, on bool) (lit bool, err error)
}

// Stacked is a machine that can tell what is on its drives, device on device. One that cannot has drives only.
type Stacked interface {
	Stack() (stack.Graph, error)
	// Contents reads what is on a device now; read is false when it could not be.
	Contents(device string) (holds []string, read bool)
}

// Timed is a machine that counts the time since it was started, whatever its clock is set to. boot names that run of
// it.
type Timed interface {
	Uptime() (boot string, since time.Duration)
}

// Enclosure is a layout and its lit bays.
type Enclosure struct {
	Layout enclosure.Layout
	Lit    map[string][]int
}

// Found is a drive at a path, before it was asked who it is.
type Found struct {
	Path string
	// Mark changes whenever another device may sit at Path, so that an identity once read can be remembered by both.
	Mark    string
	Section string
	Bay     int
	// Adapter is what it hangs on: drives behind one are asked few at a time. Names are the stable ones that the host
	// gives it, beside its path.
	Adapter string
	Names   []string
	// Transport carries commands to it; nil when it takes none, and then Known and Blind are set.
	Transport Transport
	Protocol  Protocol
	Known     drive.Description
	Blind     string
	// Port is what it hangs on, the same for a bay whatever drive is in it; empty when the host cannot say. Read reads
	// directly, past all caches; nil when that cannot be.
	Port string
	// Address is its SAS address as hexadecimal: by it, an enclosure knows what is in its slots.
	Address string
	Read    func(at int64, b []byte) error
	// Locate switches the light that its host knows to belong to it, and gives back what that then shows; nil if there
	// is none.
	Locate func(on bool) (lit bool, err error)
	// Surface opens it to be written from end to end, for itself alone; nil when that cannot be.
	Surface func() (Surface, error)
	// ReadOnly is true of one that the kernel lets nobody write to.
	ReadOnly bool
	// Partition gives it the partitions of another drive, and says what was observed then; nil when that cannot be.
	Partition func(t partition.Table) (observed string, err error)
	// Pin keeps its path from passing to another device until release is called, and looks at what is there now; nil
	// where paths do not pass on.
	Pin func() (now Found, release func(), err error)
	// Holds says what is on it, found by signature, read-only. Only when Looked is true does an empty list mean
	// blank.
	Holds  []string
	Looked bool
	// Layout is its partition table; nil if none was found.
	Layout *partition.Table
	// Namespace is the number of an NVMe namespace; 0 for everything else.
	Namespace int
	// Nameless says why it has no identity; empty for one that has, or that is still asked.
	Nameless string
	// Stat is its line of I/O statistics, as in /sys/block/*/stat; empty if it has none. Failures counts commands to it
	// that ended in an error, as its host does now; nil if nobody counts.
	Stat     string
	Failures func() (n int64, ok bool)
}

func (f Found) failures() (int64, bool) {
	if f.Failures == nil {
		return 0, false
	}
	return f.Failures()
}

// Transport carries one command block to a drive: data comes back, or is taken there when drive.Sends says so of the
// command; sense data is returned. An error means that the command was not carried out. Implemented by SG_IO on Linux
// and by the lab's drives.
type Transport interface {
	Execute(ctx context.Context, cdb, data []byte) (sense []byte, err error)
}
