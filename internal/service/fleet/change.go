package fleet

import (
	"fmt"
	"reflect"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/history"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// Change is one report on its way through the stages: the state before it, its content, and the changes. Each stage
// uses the results of earlier ones, and adds to the batch.
type Change struct {
	Batch  *store.Batch
	Host   *Host
	Report api.Report
	// Live is true for a report that is newer than the known state. Of any other report only the readings are used.
	Live bool
	// First is true for the host's first report, Back for the first one after it had stopped reporting.
	First, Back bool
	Drives      []DriveChange
	// keys of drives that were not in the host's previous report, and of drives that are no longer in it
	Came, Gone []string
	Pools      []api.PoolReport // as reported; Report.Pools has those as well that are missing from it
	Vanished   []string         // ids of pools that are missing since this report
}

// DriveChange is one drive in a report.
type DriveChange struct {
	*Drive
	Key  string
	Says *api.DriveReport
	// SeenBefore is when it was seen before this report; Dropped is true where it left its bus since then and came back
	// by itself.
	SeenBefore time.Time
	Dropped    bool
	// Newest is true where the report has a reading that is the drive's newest now.
	Newest bool
	Keep   bool // whether its facts must be written
}

// dropFor is the longest absence after which a drive counts as back by itself; a person takes longer.
const dropFor = 10 * time.Minute

// TakeDrives is the first stage: which drives are reported, and where they are.
func (s *State) TakeDrives(c *Change) {
	disputed(s).sift(c)
	c.Drives = make([]DriveChange, 0, len(c.Report.Drives))
	for i := range c.Report.Drives {
		r := &c.Report.Drives[i]
		desc := wire.ToDescription(*r)
		key := desc.Key()
		if key == "" {
			continue
		}
		d := s.Drives[key]
		x := DriveChange{Key: key, Says: r}
		if d == nil {
			d = &Drive{
				Record: history.Record{},
				Facts:  Facts{FirstAt: c.Report.At, Desc: desc, Life: map[drive.MetricName]history.Life{}},
			}
			s.Know(key, d)
			x.Keep = true
		}
		x.Drive, x.SeenBefore = d, d.SeenAt
		x.Dropped = c.Live && s.dropped(c, d, *r)
		if c.Report.At.Before(d.FirstAt) {
			d.FirstAt, x.Keep = c.Report.At, true
		}
		if s.takeFacts(c, d, desc, *r) {
			x.Keep = true
		}
		d.Touch()
		c.Drives = append(c.Drives, x)
	}
}

// takeFacts records what a report says about a drive besides its reading; changed is true when it must be written.
func (s *State) takeFacts(c *Change, d *Drive, desc drive.Description, r api.DriveReport) (changed bool) {
	at, from := c.Report.At, c.Host.Name
	if !c.Live && d.Host != "" {
		changed = d.SeenAt.Before(at)
		if changed {
			d.SeenAt = at
		}
		return changed
	}
	section, bay, how := s.Placed(from, r, desc.Key())
	d.hold(from, at)
	changed = !d.Present || d.Desc != desc || d.Host != from || d.Section != section || d.Bay != bay || d.How != how ||
		d.Path != r.Path || d.Blind != r.Blind ||
		!slices.Equal(d.Holds, r.Holds) ||
		!slices.Equal(d.Names, r.Names)
	d.Desc, d.Host, d.Section, d.Bay, d.How, d.Path, d.Blind, d.Holds = desc, from, section, bay, how, r.Path,
		r.Blind, r.Holds
	d.Present, d.SeenAt, d.Names = c.Live, at, r.Names
	if !c.Live {
		return changed
	}
	d.Stay(from, section, bay, at)
	paths := PathsSince(d.Paths, r, at)
	changed = changed || d.Looked != r.Looked || !reflect.DeepEqual(d.Uses, r.Uses) ||
		!reflect.DeepEqual(d.Layout, r.Layout) ||
		len(paths) != len(d.Paths)
	d.Looked, d.Uses, d.Told, d.Paths = r.Looked, r.Uses, r.Looked || len(r.Uses) > 0, paths
	d.Layout = r.Layout
	d.Feel(r.Busy, at)
	return changed
}

// dropped reports whether a drive that reports again had left the bus and came back to where it was by itself. While a
// swap waits for a drive to be pulled, a person works on that host.
func (s *State) dropped(c *Change, d *Drive, r api.DriveReport) bool {
	section, bay, _ := s.Placed(c.Host.Name, r, d.Key())
	if d.Present || d.SeenAt.IsZero() || d.Host != c.Host.Name || d.Section != section || d.Bay != bay ||
		c.Report.At.Sub(d.SeenAt) > dropFor {
		return false
	}
	return !s.Work.OnHost(c.Host.Name)
}

// KeepDrives writes the facts of changed drives.
func (s *State) KeepDrives(c *Change) {
	for _, x := range c.Drives {
		if x.Keep {
			c.Batch.Put(x.Row())
		}
	}
}

// TakeHost records what a report says about its host, and finds which drives appeared and vanished.
func (s *State) TakeHost(c *Change) {
	h, r := c.Host, &c.Report
	was, is := map[string]bool{}, map[string]bool{}
	for _, d := range h.LastReport.Drives {
		was[wire.ToIdentity(d.Identity).Key()] = true
	}
	for _, x := range c.Drives {
		is[x.Key] = true
	}
	c.Came, c.Gone = missing(is, was), missing(was, is)
	c.First, c.Back = h.SeenAt.IsZero(), h.Quiet
	c.Batch.Undo = append(c.Batch.Undo, func() { h.Quiet = c.Back })
	h.SeenAt, h.Interval, h.Quiet = r.At, r.IntervalSeconds, false
	h.Follow(r)
	h.Heard = true
	c.Pools = slices.Clone(r.Pools)
	c.Vanished = s.Unreported(h.Name, r.At, h.LastReport.Pools, r)
	if !lasts(r, &h.LastReport) {
		h.LastReport = withoutReadings(*r)
		h.Report = ledger.Document(h.LastReport)
	}
	h.Host.Beside = ledger.Document(h.besides(c.Drives, r.Pools))
	row := h.Host
	c.Batch.Put(&row)
	if c.First || c.Back {
		s.AddEvent(c.Batch, api.EventKindHost, h.Name, h.Name+" reports")
	}
	for _, key := range c.Gone {
		if d := s.Drives[key]; d != nil && d.Host == h.Name {
			d.Present, d.Busy = false, 0
			d.Touch()
			c.Batch.Put(d.Row())
			s.AddEvent(c.Batch, api.EventKindDrive, key, fmt.Sprintf("%s left %s", d.Tail(), PlaceWords(d)))
		}
	}
	disputed(s).adopt(c, c.Gone)
	for _, key := range c.Came {
		if !c.First {
			d := s.Drives[key]
			s.AddEvent(c.Batch, api.EventKindDrive, key, fmt.Sprintf("%s came to %s", d.Tail(), PlaceWords(d)))
		}
	}
}

// TakePools records the pools of a report.
func (s *State) TakePools(c *Change) {
	for _, p := range c.Report.Pools {
		s.TakePool(c.Host.Name, c.Report.At, p)
	}
	disputed(s).takeClaims(c)
	for _, id := range c.Vanished {
		s.AddEvent(c.Batch, api.EventKindPool, id, s.Pools[id].Name+" is not reported by "+c.Host.Name+" any more")
	}
}

// missing gives the keys that are in one set and not in the other, sorted.
func missing(of, in map[string]bool) (keys []string) {
	for key := range of {
		if !in[key] && key != "" {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys
}
