// Package agent runs on a storage host: it finds drives, reads them, sends reports to the service, and carries out its
// orders.
package agent

import (
	"context"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/partition"
	"lantern/internal/core/stack"
)

// Machine is the agent's interface to its host: the Linux kernel's, or the lab's.
type Machine interface {
	// Drives are the present drives.
	Drives(ctx context.Context) ([]Found, error)
	// Changes gets a value when drives may have appeared or vanished; nil when the machine cannot signal this, and is
	// examined at intervals.
	Changes(ctx context.Context) <-chan struct{}
	// Enclosures are their layouts and the bays that are lit, by section.
	Enclosures(ctx context.Context) ([]Enclosure, error)
	// Boxes are the enclosures with SES.
	Boxes(ctx context.Context) ([]BoxFound, error)
	// Light switches one bay's light and returns its state afterwards.
	Light(ctx context.Context, section string, bay int, on bool) (lit bool, err error)
}

// Stacked is a machine that knows its graph of block devices. Other machines have only drives.
type Stacked interface {
	Stack() (stack.Graph, error)
	// Contents reads the content of a device now; read is false when that failed.
	Contents(device string) (holds []string, read bool)
}

// Timed is a machine that knows the time since its boot, independent of its clock. boot is the id of that boot.
type Timed interface {
	Uptime() (boot string, since time.Duration)
}

// Enclosure is a layout and its lit bays.
type Enclosure struct {
	Layout enclosure.Layout
	Lit    map[string][]int
}

// Found is a drive at a path, before it was identified.
type Found struct {
	Path string
	// Mark changes whenever another device may sit at Path, so that an identity once read can be remembered by both.
	Mark    string
	Section string
	Bay     int
	// Adapter is its adapter: only a few drives behind one are asked at a time. Names are its stable names on the host,
	// besides its path.
	Adapter string
	Names   []string
	// Transport sends commands to it; nil when it accepts none, and then Known and Blind are set.
	Transport Transport
	Protocol  Protocol
	Known     drive.Description
	Blind     string
	// Port is its port, constant for a bay with any drive; empty when unknown. Read reads directly, past all caches;
	// nil when that is impossible.
	Port string
	// Address is its SAS address as hexadecimal: an enclosure reports it for its slots.
	Address string
	Read    func(at int64, b []byte) error
	// Locate switches the light that belongs to it according to its host, and returns its state afterwards; nil if
	// there is none.
	Locate func(on bool) (lit bool, err error)
	// Surface opens it exclusively, to be written from end to end; nil when that is impossible.
	Surface func() (Surface, error)
	// ReadOnly is true when the kernel allows no writes.
	ReadOnly bool
	// Partition creates the partitions of another drive on it, and describes what was observed then; nil when that is
	// impossible.
	Partition func(t partition.Table) (observed string, err error)
	// Pin prevents its path from being reused for another device until release is called, and examines the present
	// device; nil where paths are never reused.
	Pin func() (now Found, release func(), err error)
	// Holds says what is on it, found by signature, read-only. Only when Looked is true does an empty list mean
	// blank.
	Holds  []string
	Looked bool
	// Layout is its partition table; nil if none was found.
	Layout *partition.Table
	// Namespace is the number of an NVMe namespace; 0 for everything else.
	Namespace int
	// Nameless says why it has no identity; empty if it has one, or while it is being identified.
	Nameless string
	// Stat is its line of I/O statistics, as in /sys/block/*/stat; empty if it has none. Failures is the host's count
	// of commands to it that ended in an error; nil without such a count.
	Stat     string
	Failures func() (n int64, ok bool)
}

func (f Found) failures() (int64, bool) {
	if f.Failures == nil {
		return 0, false
	}
	return f.Failures()
}

// Transport sends one command block to a drive: data comes back, or is sent if drive.Sends is true for the command;
// sense data is returned. An error means that the command was not executed. Implemented by SG_IO on Linux and by the
// lab's drives.
type Transport interface {
	Execute(ctx context.Context, cdb, data []byte) (sense []byte, err error)
}
