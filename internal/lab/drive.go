package lab

import (
	"errors"
	"fmt"
	"hash/fnv"
	"math"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

// Drive is one simulated drive. Its answers depend only on its description, its seed, its faults and the time, so they
// are reproducible.
type Drive struct {
	Desc   drive.Description `json:"desc"`
	Stays  []Stay            `json:"stays"` // its places, in order of time
	Born   time.Time         `json:"born"`  // when its power-on hours began
	Faults []Fault           `json:"faults,omitempty"`
	Holds  []string          `json:"holds,omitempty"`
	Slow   float64           `json:"slow,omitempty"` // factor on its latency after SlowAt
	// Strain is the additional latency of its users from recoveries so far, in milliseconds.
	Strain float64   `json:"strain,omitempty"`
	SlowAt time.Time `json:"slow_at,omitzero"`
	Runs   []Run     `json:"runs,omitempty"`  // ordered self-tests
	Shelf  bool      `json:"shelf,omitempty"` // came from the shelf while the lab ran
	Tested time.Time `json:"tested,omitzero"` // until then it was tested weekly by somebody else
	// The hour (UTC) of its nightly backup; 0: none
	Backup int       `json:"backup,omitempty"`
	Span   [2]uint64 `json:"span,omitzero"` // of its selective test
	// Unused is the number of hours that it ran before use, at the factory.
	Unused float64 `json:"unused,omitempty"`
	// Written are the patterns on its surface, stretch by stretch.
	Written map[int64]uint64 `json:"written,omitempty"`
	blinked time.Time        // real time: when its activity light last flashed
}

// Run is a self-test that somebody started; Stopped is zero when nobody stopped it.
type Run struct {
	Number  byte      `json:"number"`
	From    time.Time `json:"from"`
	Until   time.Time `json:"until"`
	Stopped time.Time `json:"stopped,omitzero"`
}

// testMinutes are a drive's own estimates: its whole surface at 155 MB/s, or half an hour where nothing turns.
func (d *Drive) testMinutes() drive.SmartData {
	s := drive.SmartData{
		SelfTests:         true,
		Conveyance:        d.Desc.Medium == drive.MediumRotating,
		Selective:         d.Desc.Medium == drive.MediumRotating,
		ShortMinutes:      2,
		ExtendedMinutes:   30,
		ConveyanceMinutes: 5,
	}
	if d.Desc.Medium == drive.MediumRotating {
		s.ExtendedMinutes = int(d.Desc.Capacity / 155e6 / 60)
	}
	return s
}

// testTakes is the real duration of a test: an extended one up to a sixth longer than the drive's estimate, a selective
// one in proportion to its span.
func (d *Drive) testTakes(number byte) time.Duration {
	s := d.testMinutes()
	extended := time.Duration(float64(s.ExtendedMinutes) * (1 + d.seed("unhurried")/6) * float64(time.Minute))
	switch number {
	case 1:
		return time.Duration(s.ShortMinutes) * time.Minute
	case 2:
		return extended
	case 3:
		return time.Duration(s.ConveyanceMinutes) * time.Minute
	case 4:
		return time.Duration(
			float64(
				extended,
			) * float64(
				d.Span[1]-d.Span[0]+1,
			) * float64(
				d.Desc.LogicalSector,
			) / float64(
				d.Desc.Capacity,
			),
		)
	}
	return 0
}

// running is the self-test that runs at t, and its remaining percentage.
func (d *Drive) running(t time.Time) (left int, ok bool) {
	if len(d.Runs) == 0 {
		return 0, false
	}
	r := d.Runs[len(d.Runs)-1]
	if !r.Stopped.IsZero() || t.Before(r.From) || !t.Before(r.Until) {
		return 0, false
	}
	return 10 * int(math.Ceil(10*r.Until.Sub(t).Seconds()/r.Until.Sub(r.From).Seconds())), true
}

// selfTest executes SMART EXECUTE OFFLINE IMMEDIATE.
func (d *Drive) selfTest(number byte, t time.Time) bool {
	const stop = 0x7F
	_, running := d.running(t)
	if running { // another test ends the one before (ACS-3 7.54.5)
		d.Runs[len(d.Runs)-1].Stopped = t
	}
	if takes := d.testTakes(number); takes > 0 {
		d.Runs = append(d.Runs, Run{Number: number, From: t, Until: t.Add(takes)})
		return true
	}
	return number == stop
}

// Stay is a time in a bay; To is zero while it lasts.
type Stay struct {
	Host    string    `json:"host"`
	Section string    `json:"section"`
	Bay     int       `json:"bay"`
	From    time.Time `json:"from"`
	To      time.Time `json:"to,omitzero"`
}

// FaultKind is the kind of a fault.
type FaultKind string

// The kinds of faults.
const (
	FaultAttribute  FaultKind = "attribute" // its raw value grows by PerDay from From on, in steps of whole numbers
	FaultFailedTest FaultKind = "failed-test"
	FaultWeakSpot   FaultKind = "weak-spot"    // data at its LBA reads back wrong
	FaultDamaged    FaultKind = "damaged-page" // its SMART data page has a wrong checksum
	FaultCourse     FaultKind = "course"       // its raw value went as its Course, and grows by PerDay after that
	FaultFailing    FaultKind = "failing"      // it predicts its own failure
)

// Fault is one of them.
type Fault struct {
	Kind      FaultKind `json:"kind"`
	Attribute byte      `json:"attribute,omitempty"`
	PerDay    float64   `json:"per_day,omitempty"`
	Start     float64   `json:"start,omitempty"` // the value before From
	LBA       int64     `json:"lba,omitempty"`
	From      time.Time `json:"from"`
	// Course is what an attribute was, from another drive's past.
	Course history.Series `json:"course,omitempty"`
}

// raw is the value of its attribute at t.
func (f Fault) raw(t time.Time) float64 {
	v, from := f.Start, f.From
	if n := len(f.Course); n > 0 {
		v, from = f.Course[0].Value, f.Course[n-1].At()
		if p, ok := f.Course.At(t); ok {
			v = p.Value
		}
	}
	if t.After(from) {
		v += math.Floor(t.Sub(from).Hours() / 24 * f.PerDay)
	}
	return v
}

func (d *Drive) key() string { return d.Desc.Key() }

// at is the stay that covers t.
func (d *Drive) at(t time.Time) (Stay, bool) {
	for _, s := range d.Stays {
		if !t.Before(s.From) && (s.To.IsZero() || t.Before(s.To)) {
			return s, true
		}
	}
	return Stay{}, false
}

// seed is a number of the drive's own between 0 and 1, another for each name.
func (d *Drive) seed(name string) float64 {
	h := fnv.New64a()
	fmt.Fprint(h, d.Desc.Serial, name)
	return float64(h.Sum64()%100_003) / 100_003
}

func (d *Drive) hours(t time.Time) float64 { return math.Max(0, t.Sub(d.Born).Hours()) }

// attributes at t, in the order in which a drive lists them.
func (d *Drive) attributes(t time.Time) []drive.Attribute {
	h := d.hours(t)
	day := 2 * math.Pi * float64(t.Hour()*60+t.Minute()) / 1440
	temp := 29 + 6*d.seed("temp") + 2*math.Sin(day)
	cycles := math.Floor(20 + 15*d.seed("cycles"))
	used := math.Max(0, h-d.Unused)
	if d.Unused > 0 {
		cycles = 3
	}
	raw := map[byte]float64{
		5:   0,
		9:   math.Floor(h),
		12:  cycles,
		187: 0,
		188: 0,
		192: math.Floor(cycles / 4),
		194: math.Round(temp),
		196: 0,
		197: 0,
		198: 0,
		199: 0,
		241: math.Floor(
			used * 3600 * (9e6 + 4e6*d.seed("w")) / 512,
		),
		242: math.Floor(used * 3600 * (21e6 + 9e6*d.seed("r")) / 512),
	}
	if d.Desc.Medium == drive.MediumRotating {
		raw[183], raw[184], raw[191], raw[240] = 0, 0, math.Floor(4*d.seed("shocks")), math.Floor(h*0.98)
		raw[3], raw[4], raw[10], raw[193] = 420+math.Floor(
			90*d.seed("spin"),
		), cycles+4, 0, math.Floor(
			h*(0.3+0.4*d.seed("load")),
		)
	}
	for _, f := range d.Faults {
		switch f.Kind {
		case FaultAttribute, FaultCourse:
			raw[f.Attribute] = f.raw(t)
		}
	}
	var out []drive.Attribute
	for id := range 256 {
		v, ok := raw[byte(id)]
		if !ok {
			continue
		}
		a := drive.Attribute{ID: byte(id), Flags: 0x32, Value: 100, Worst: 100, Raw: uint64(v)}
		switch id {
		case 5, 10, 3:
			a.Flags, a.Threshold = 0x33, 36
			a.Value = byte(math.Max(1, 100-v/50))
			a.Worst = a.Value
		case 194:
			a.Value, a.Worst = byte(100-v), byte(100-v-6)
			a.Raw = uint64(v) | 19<<16 | uint64(v+6)<<32 // with the least and greatest value, as many drives pack them
		}
		out = append(out, a)
	}
	return out
}

// tests is its log at t, the newest first: a short test each week and an extended one each month, until the lab began;
// then the ordered ones.
func (d *Drive) tests(t time.Time) []drive.SelfTest {
	now := t
	if t.After(d.Tested) {
		t = d.Tested
	}
	h := int(d.hours(t))
	offset := int(d.seed("test") * 160)
	var out []drive.SelfTest
	for n := 0; n < 12; n++ {
		at := h - offset - n*168
		if at < 1 {
			break
		}
		one := drive.SelfTest{Number: 1, Hours: at & 0xFFFF, LBA: -1}
		if n%4 == 3 {
			one.Number = 2
		}
		out = append(out, one)
	}
	for _, f := range d.Faults {
		if f.Kind == FaultFailedTest && !now.Before(f.From) {
			failed := drive.SelfTest{Number: 2, Status: 0x70, Hours: int(d.hours(f.From)) & 0xFFFF, LBA: f.LBA}
			first := failed
			first.Hours = int(d.hours(f.From.Add(-26*time.Hour))) & 0xFFFF
			out = append([]drive.SelfTest{failed, first}, out...)
		}
	}
	for _, r := range d.Runs {
		if r.From.After(now) {
			continue
		}
		one := drive.SelfTest{Number: r.Number, Hours: int(d.hours(r.Until)) & 0xFFFF, LBA: -1}
		switch {
		case !r.Stopped.IsZero():
			one.Status, one.Hours = 0x19, int(d.hours(r.Stopped))&0xFFFF
		case now.Before(r.Until):
			continue
		default:
			for _, f := range d.Faults {
				if f.Kind == FaultFailedTest && r.Number == 2 && !r.From.Before(f.From) {
					one.Status, one.LBA = 0x70, f.LBA
				}
			}
		}
		out = append([]drive.SelfTest{one}, out...)
	}
	return out
}

// ails reports whether it has a fault of a kind at t.
func (d *Drive) ails(kind FaultKind, t time.Time) bool {
	for _, f := range d.Faults {
		if f.Kind == kind && !t.Before(f.From) {
			return true
		}
	}
	return false
}

// readsEach is the number of reads a second by users.
const readsEach = 4

// strain adds the users' latency from a recovery that takes a share of the drive's time.
func (d *Drive) strain(share float64, dt time.Duration) {
	ms := 8.0
	if d.Desc.Medium == drive.MediumSolidState {
		ms = 0.3
	}
	d.Strain += dt.Seconds() * readsEach * ms * share * share
}

// stat is its line of I/O statistics at t, in the form of the kernel's /sys/block/*/stat.
func (d *Drive) stat(t time.Time) string {
	ms := 6 + 3*d.seed("latency")
	if d.Desc.Medium == drive.MediumSolidState {
		ms = 0.2 + 0.2*d.seed("latency")
	}
	seconds := t.Sub(d.Born).Seconds()
	reads := seconds * readsEach
	ticks := reads*ms + d.Strain
	if d.Slow > 1 && t.After(d.SlowAt) {
		ticks += t.Sub(d.SlowAt).Seconds() * 4 * ms * (d.Slow - 1)
	}
	return fmt.Sprintf(
		"%.0f 0 %.0f %.0f %.0f 0 %.0f %.0f 0 %.0f %.0f",
		reads,
		reads*256,
		ticks,
		reads/3,
		reads*80,
		reads/3*ms*0.8,
		ticks+d.busy(t)*1000,
		ticks,
	)
}

// busy is the number of seconds in which users kept it busy until t: a twentieth of the time at night, a quarter in the
// early afternoon, and most of the two hours of a backup, if it has one.
func (d *Drive) busy(t time.Time) float64 {
	const day = 86400.0
	from := d.Born.Sub(d.Born.Truncate(24 * time.Hour)).Seconds()
	to := from + t.Sub(d.Born).Seconds()
	// The integral of 0.15 + 0.1 cos, with its peak at two in the afternoon.
	wave := func(x float64) float64 { return 0.15*x + 0.1*day/(2*math.Pi)*math.Sin(2*math.Pi*(x/day-14.0/24)) }
	out := wave(to) - wave(from)
	if d.Backup > 0 {
		hours := func(x float64) float64 { // of backup, in seconds, up to x
			whole, part := math.Modf(x / day)
			return 2*3600*whole + math.Min(2*3600, math.Max(0, part*day-float64(d.Backup)*3600))
		}
		out += 0.6 * (hours(to) - hours(from))
	}
	return out
}

var errGone = errors.New("no device answers there any more")

// warmest is what the makes that keep statistics allow, in degrees Celsius.
const warmest = 60

// statistics is a page of the device statistics log (ACS-4 9.5): which there are, the temperatures, or the wear.
func (d *Drive) statistics(nth int, t time.Time) []byte {
	page := make([]byte, drive.PageSize)
	page[0], page[2] = 1, byte(nth)
	const valid = 0xC0
	switch nth {
	case 0:
		copy(page[8:], []byte{2, 0, 5})
		if d.Desc.Medium == drive.MediumSolidState {
			copy(page[8:], []byte{3, 0, 5, 7})
		}
	case 5:
		for _, a := range d.attributes(t) {
			if a.ID == 194 {
				page[8], page[15] = byte(a.Raw), valid
			}
		}
		page[88], page[95] = warmest, valid
	case 7:
		// It is rated for some thousand full writes.
		const writes, perHour = 3000, 3600 * 9e6
		page[8], page[15] = byte(math.Min(255, 100*d.hours(t)*perHour/float64(d.Desc.Capacity)/writes)), valid
	}
	return page
}
