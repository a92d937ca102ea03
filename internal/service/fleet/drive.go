package fleet

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/accept"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// Accepted is how a drive's newest acceptance ended.
type Accepted struct {
	ID    string    `json:"id"`
	State string    `json:"state"`
	At    time.Time `json:"at"`
	Says  string    `json:"says"`
}

// Words describes it; empty for a drive that has not passed.
func (a Accepted) Words() string {
	if a.State != string(accept.Passed) {
		return ""
	}
	return fmt.Sprintf("accepted by test on %s: %s", a.At.UTC().Format("2006-01-02"), a.Says)
}

// Counts are a drive's newest counters.
func Counts(d *Drive) accept.Counts {
	out := accept.Counts{At: d.Reading.At, Values: map[drive.MetricName]float64{}}
	for _, n := range slices.Sorted(maps.Keys(d.Record)) {
		if p, ok := d.Record[n].Last(); ok {
			out.Values[n] = p.Value
		}
	}
	return out
}

// ByPlace puts drives in order of their bays.
func ByPlace(a, b *Drive) int {
	if c := cmp.Compare(a.Host, b.Host); c != 0 {
		return c
	}
	if c := cmp.Compare(a.Section, b.Section); c != 0 {
		return c
	}
	if c := cmp.Compare(a.Bay, b.Bay); c != 0 {
		return c
	}
	return cmp.Compare(a.Key(), b.Key())
}

// Matches reports whether the inventory record of a drive contains q.
func (d *Drive) Matches(q, poolName string) bool {
	q = strings.ToUpper(strings.TrimSpace(q))
	if q == "" {
		return true
	}
	for _, s := range []string{d.Desc.Serial, d.Desc.WWN, d.Desc.Model, d.BayName(), poolName, d.Host} {
		if strings.Contains(strings.ToUpper(s), q) {
			return true
		}
	}
	return false
}

// Past is earlier evidence against a drive: a finding that called for its replacement, or a swap that removed it. It
// stays with the drive's identity even if there are no findings now.
type Past struct {
	At   time.Time `json:"at"`
	Says string    `json:"says"`
}

// Remember records the newest evidence against a drive; changed is true when it must be written.
func (d *Drive) Remember(p Past) (changed bool) {
	changed = p.Says != d.Past.Says || p.At.Sub(d.Past.At) > time.Hour
	if changed {
		d.Past = p
	}
	return changed
}

// Distrust says why a drive must pass an acceptance test before it may replace another; empty without evidence against
// it, or when it has passed one since.
func (s *State) Distrust(d *Drive) string {
	if d.Past.At.IsZero() || d.Accepted.State == string(accept.Passed) && d.Accepted.At.After(d.Past.At) {
		return ""
	}
	return fmt.Sprintf(
		"%s on %s and has passed no acceptance test since",
		d.Past.Says,
		d.Past.At.UTC().Format("2006-01-02"),
	)
}

// TestHours are the power-on hours of a log entry. ATA logs write 16 bits of them; the number of overflows follows from
// the drive's present hours.
func TestHours(logged int, now float64) float64 {
	const wrap = 1 << 16
	h := float64(logged)
	for h+wrap <= now {
		h += wrap
	}
	return h
}

// Drive is the state of one drive in memory.
type Drive struct {
	Facts
	// key and index are set when the drive becomes known. version changes with everything that a finding can depend on;
	// changed is true while the drive is in index.changed, marked while it is in index.marked.
	key     string
	index   *index
	version int
	changed bool

	marked bool
	listed listed

	Record history.Record
	Loose  int // readings that are not in a block yet
	// Saved is the end of its record in the store, in Unix milliseconds; 0 when there is none.
	Saved   int64
	Thinned time.Time
	// standing are its open findings; standingKept is when they were written.
	Standing     []health.Standing
	StandingKept time.Time
	// busy is the share of the last minutes in which it did I/O, at busyAt.
	Busy   float64
	busyAt time.Time
	// Claims are the reports of it by other hosts, by host, while it belongs to Host.
	Claims map[string]*Claim
	// stalled is since when its self-test makes no progress; zero while it does.
	Stalled time.Time
}

// Facts are the stored facts of a drive, as JSON.
type Facts struct {
	Desc    drive.Description `json:"desc"`
	Host    string            `json:"host"`
	Section string            `json:"section"`
	Bay     int               `json:"bay"`
	How     enclosure.How     `json:"how,omitempty"` // how its bay is known
	Path    string            `json:"path"`
	Present bool              `json:"present"`
	Held    []Hold            `json:"held,omitempty"` // which hosts it belonged to, in order of time
	FirstAt time.Time         `json:"first_at"`
	SeenAt  time.Time         `json:"seen_at"`
	Holds   []string          `json:"holds"`
	Blind   string            `json:"blind"`
	// Looked is true when both its ends were read, so that Holds is complete; Uses is what depends on it, valid when
	// Told; Paths are the paths to it where there are several; Layout is its partition table.
	Looked   bool               `json:"looked,omitempty"`
	Uses     []api.Use          `json:"uses,omitempty"`
	Told     bool               `json:"uses_told,omitempty"`
	Paths    []api.DrivePath    `json:"paths,omitempty"`
	Layout   api.PartitionTable `json:"layout,omitzero"`
	Reading  api.Reading        `json:"reading"`  // the newest, without its metrics
	Replaced bool               `json:"replaced"` // by a swap: its absence is no fault
	Names    []string           `json:"names,omitempty"`
	Stays    []health.Stay      `json:"stays,omitempty"`     // the bays it was in, in order of time
	BadLinks []string           `json:"bad_links,omitempty"` // bays in which it had link errors
	// Stock is true when it is kept to replace others, StockNote is the note about that; Accepted is the result of its
	// newest acceptance test.
	Stock     bool     `json:"stock,omitempty"`
	StockNote string   `json:"stock_note,omitempty"`
	Accepted  Accepted `json:"accepted,omitzero"`
	// Before are earlier identities that a person merged into this drive.
	Before []drive.Identity `json:"before,omitempty"`
	// Past is the worst evidence against it: it cannot be stock again before it has passed an acceptance test.
	Past Past `json:"past,omitzero"`
	// Failed is the address at which its newest failed self-test stopped, and what its pool stores there.
	Failed *api.FailedAt `json:"failed,omitempty"`
	// Took are the durations of its newest tests of each kind from order to end, the newest first.
	Took map[string][]time.Duration `json:"took,omitempty"`
	// Life is the sum of its counters' values before resets; nil when it must be computed from all readings.
	Life map[drive.MetricName]history.Life `json:"life"`
}

// Version changes with everything that a finding can depend on.
func (d *Drive) Version() int { return d.version }

// Touch records that something changed on which a finding can depend.
func (d *Drive) Touch() {
	d.version++
	if d.index != nil {
		d.index.mark(d)
	}
	if !d.changed && d.index != nil {
		d.changed = true
		d.index.changed = append(d.index.changed, d)
	}
}

// Key is its identity's key.
func (d *Drive) Key() string {
	if d.key != "" {
		return d.key
	}
	return d.Desc.Key()
}

func (d *Drive) Row() *store.Drive {
	return &store.Drive{Key: d.Key(), Doc: ledger.Document(d.Facts)}
}

func (d *Drive) Tail() string { return d.Desc.Tail() }

func (d *Drive) BayName() string {
	if d.Section == "" {
		return ""
	}
	return d.Host + "/" + d.Section + "/" + strconv.Itoa(d.Bay)
}

func PlaceWords(d *Drive) string {
	if d.Section == "" {
		return d.Host + ", without a bay"
	}
	return "bay " + d.BayName()
}

// Believable returns a reading without impossible values. They are added to its unreadable pages, in order of their
// names.
func Believable(rd api.Reading) api.Reading {
	type value struct{ name, why string }
	var impossible []value
	for n, v := range rd.Metrics {
		if why := drive.Implausible(drive.MetricName(n), v); why != "" {
			impossible = append(impossible, value{n, why})
		}
	}
	if len(impossible) == 0 {
		return rd
	}
	slices.SortFunc(impossible, func(a, b value) int { return cmp.Compare(a.name, b.name) })
	rd.Metrics, rd.Unreadable = maps.Clone(rd.Metrics), slices.Clone(rd.Unreadable)
	for _, x := range impossible {
		rd.Unreadable = append(rd.Unreadable, api.BadPage{Kind: "value", Why: x.name + ": " + x.why,
			Bytes: []byte(strconv.FormatFloat(rd.Metrics[x.name], 'g', -1, 64))})
		delete(rd.Metrics, x.name)
	}
	return rd
}

// Stay records the place of a drive, if it differs from the previous one.
func (d *Drive) Stay(host, section string, bay int, at time.Time) {
	if section == "" {
		return
	}
	place := health.Stay{Bay: host + "/" + section + "/" + strconv.Itoa(bay), From: at}
	n := len(d.Stays)
	if n > 0 && d.Stays[n-1].Bay == place.Bay {
		return
	}
	if n > 0 {
		d.Stays[n-1].To = at
	}
	const most = 100
	d.Stays = append(d.Stays[max(0, n+1-most):], place)
}

// LastTest is the newest test of a kind that ended by itself, passed or failed.
type LastTest struct {
	At     time.Time
	About  bool
	Result string
}

func (s *State) LastTests(d *Drive) map[drive.SelfTestKind]LastTest {
	out := map[drive.SelfTestKind]LastTest{}
	hours := d.Record["power_on_hours"]
	now, _ := hours.Last()
	for _, t := range d.Reading.Tests {
		kind := drive.SelfTestKind(t.Kind)
		if _, known := out[kind]; known ||
			t.Result != string(drive.SelfTestPassed) && t.Result != string(drive.SelfTestFailed) {
			continue
		}
		at, about := hours.Reached(TestHours(t.Hours, now.Value))
		out[kind] = LastTest{at, about, t.Result}
	}
	return out
}

// busyAverage is the time over which a drive's I/O is averaged.
const busyAverage = 5 * time.Minute

// Feel updates the average of how busy a drive is over some minutes, since the previous report.
func (d *Drive) Feel(busy float64, at time.Time) {
	if span := at.Sub(d.busyAt); d.busyAt.IsZero() || span >= busyAverage {
		d.Busy = busy
	} else if span > 0 {
		d.Busy += (busy - d.Busy) * float64(span) / float64(busyAverage)
	}
	d.busyAt = at
}

// Source is the source of the newest value of a metric.
func (d *Drive) Source(n drive.MetricName) string {
	return drive.SourceOf(n, d.Reading.Sources[string(n)])
}
