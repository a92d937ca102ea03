package fleet

import (
	"fmt"
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
	"lantern/internal/wire"
	"time"
)

type Host struct {
	store.Host
	LastReport api.Report
	Quiet      bool
	Taken      []string      // ids of its newest reports
	Skew       time.Duration // how far its clock was behind ours in the newest report
}

// Work is what swaps are under way, for those that they concern.
type Work interface {
	// askedOut says whether a drive is out because a swap asked for it, askedDown the same of a host; not for too long yet.
	AskedOut(key string, now time.Time) bool
	AskedDown(host string, now time.Time) bool
	// swapIn says who leads the swap that was begun in a pool, onHost whether any is open on a host.
	SwapIn(poolID string) (lead string, begun bool)
	OnHost(host string) bool
	// promised says to the swap of which old drive another was promised, if not to that with the given id; waitsIn who leads the swap that
	// waits for a drive to be confirmed.
	Promised(key, id string) string
	WaitsIn(key string) (lead string, waits bool)
	// leads says what a person leads, and what to do about it; empty when nothing.
	Leads(person string) error
}

// Drive is one drive as it is remembered.
type Drive struct {
	Facts
	Record  history.Record
	Version int // changes with everything that a finding can depend on
	Loose   int // readings that were not folded yet
	Thinned time.Time
	// standing is what was found and not cleared yet; standingKept is when it was written down.
	Standing     []health.Standing
	StandingKept time.Time
	// busy is the share of the last minutes in which it did I/O, as of busyAt.
	Busy   float64
	busyAt time.Time
	// stalled is since when its self-test makes no progress, zero while it does.
	Stalled time.Time
}

// Facts are what is kept of a drive as JSON.
type Facts struct {
	Desc    drive.Description `json:"desc"`
	Host    string            `json:"host"`
	Section string            `json:"section"`
	Bay     int               `json:"bay"`
	How     enclosure.How     `json:"how,omitempty"` // how its bay is known
	Path    string            `json:"path"`
	Present bool              `json:"present"`
	FirstAt time.Time         `json:"first_at"`
	SeenAt  time.Time         `json:"seen_at"`
	Holds   []string          `json:"holds"`
	Blind   string            `json:"blind"`
	// Looked says that both its ends were read, so that Holds is all that lies there; Uses is what depends on it, and Told that its
	// agent can tell of that; Paths are the ways to it where there are several; Layout its partition table.
	Looked   bool               `json:"looked,omitempty"`
	Uses     []api.Use          `json:"uses,omitempty"`
	Told     bool               `json:"uses_told,omitempty"`
	Paths    []api.DrivePath    `json:"paths,omitempty"`
	Layout   api.PartitionTable `json:"layout,omitzero"`
	Reading  api.Reading        `json:"reading"`  // the newest, its metrics left out
	Replaced bool               `json:"replaced"` // by a swap: that it is gone is no fault
	Names    []string           `json:"names,omitempty"`
	Stays    []health.Stay      `json:"stays,omitempty"`     // the bays it was in, in order of time
	BadLinks []string           `json:"bad_links,omitempty"` // the bays in which its link was bad
	// Stock says that it is kept to replace others, StockNote what people wrote to that; Accepted how its newest test before
	// it is trusted ended.
	Stock     bool     `json:"stock,omitempty"`
	StockNote string   `json:"stock_note,omitempty"`
	Accepted  Accepted `json:"accepted,omitzero"`
	// Past is the gravest that was found of it: it is not stock again before it has passed the test of a new drive.
	Past Past `json:"past,omitzero"`
	// Failed is where its newest failed self-test stopped, and what its pool says lies there.
	Failed *api.FailedAt `json:"failed,omitempty"`
	// Took is how long its newest tests of each kind took from order to end, the newest first.
	Took map[string][]time.Duration `json:"took,omitempty"`
	// Life is what its counters had counted when they began anew; nil when it must be made out from all readings.
	Life map[drive.MetricName]history.Life `json:"life"`
}

type Pool struct {
	pool.Pool
	Reporter string // the host whose report it is from
	At       time.Time
	Running  []string // ids of recoveries that are running or paused
	Offers   []string // what can be asked of it
	Priority string
	Torn     bool   // it changed while it was read, again and again
	Waits    string // why a recovery that should run does not
	// unseen is since when its host reports and does not report it any more, zero while it does; wrong says what of its report cannot
	// be; witness is the second account of its members.
	Unseen  time.Time
	Wrong   string
	Witness api.Witness
	// drives are the keys of the drives that have a place in it.
	drives map[string]bool
}

func (s *State) BadLink(key string, d *Drive, bay string) {
	if s.BadLinks[bay] == nil {
		s.BadLinks[bay] = map[string]string{}
	}
	s.BadLinks[bay][key] = d.Tail()
}

// Know puts a drive among those that are remembered.
func (s *State) Know(key string, d *Drive) {
	s.Drives[key] = d
	s.Batches[Batch(d)] = append(s.Batches[Batch(d)], key)
}

func (d *Drive) Row() *store.Drive {
	return &store.Drive{Key: d.Desc.Key(), Doc: ledger.Document(d.Facts)}
}

func (d *Drive) Tail() string { return d.Desc.Tail() }

func (d *Drive) BayName() string {
	if d.Section == "" {
		return ""
	}
	return fmt.Sprintf("%s/%s/%d", d.Host, d.Section, d.Bay)
}

// TakePool puts a reported pool into memory. A place whose drive is not named keeps the one that was last seen there.
func (s *State) TakePool(from string, at time.Time, p api.PoolReport) {
	before := s.Pools[p.Id]
	if before == nil || before.Name != p.Name {
		s.TwinNames = nil
	}
	if before != nil && before.At.After(at) {
		return
	}
	next := &Pool{Pool: wire.ToPool(p), Reporter: from, At: at, Offers: p.Offers, Priority: p.Priority, Torn: p.Inconsistent, Waits: p.Waits, Unseen: p.NotSeenSince, Witness: p.Witness, drives: map[string]bool{}}
	next.Watched = next.Watched || len(p.Offers) == 0
	if err := next.Check(); err != nil {
		next.Wrong = err.Error()
	}
	next.Everyone(func(_ string, m *pool.Member) {
		if m.Drive == "" && before != nil && m.State != pool.Out {
			was, _, _ := before.Slot(m.Slot)
			m.Drive = was.Drive
		}
		for _, key := range append([]string{m.Drive}, m.Drives...) {
			next.drives[key] = true
		}
	})
	for _, r := range p.Recoveries {
		if r.Id != "" && next.Unseen.IsZero() && (r.State == string(recovery.Running) || r.State == string(recovery.Paused)) {
			next.Running = append(next.Running, r.Id)
		}
	}
	s.Pools[p.Id] = next
}
