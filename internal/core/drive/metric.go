package drive

import (
	"fmt"
	"slices"
)

// MetricName is the normalised name of a metric; it carries its unit.
type MetricName string

// MetricKind says how the values of a metric change.
type MetricKind string

// A level goes up and down, a counter only up (going down is a reset), a state is one of few values.
const (
	Level   MetricKind = "level"
	Counter MetricKind = "counter"
	State   MetricKind = "state"
)

// Strength is how much a metric proves about the drive itself.
type Strength string

// Strong evidence can lead to "replace", weak evidence to "watch" at most. Path evidence points to the cable or the bay
// before it points to the drive.
const (
	Strong     Strength = "strong"
	Weak       Strength = "weak"
	Path       Strength = "path"
	Background Strength = "background"
)

// Metric is one entry of the catalogue.
type Metric struct {
	Name     MetricName `json:"name"`
	Unit     string     `json:"unit"`
	Kind     MetricKind `json:"kind"`
	Strength Strength   `json:"strength"`
	Means    string     `json:"means"`     // one plain sentence
	MeansNot string     `json:"means_not"` // and what it does not mean
	// Attribute is the ATA SMART attribute that feeds it; 0 when another source does.
	Attribute byte `json:"attribute,omitempty"`
	value     func(raw uint64) float64
	// From lists the sources other than an attribute, with their pages; the one that is read first comes first.
	From []string `json:"-"`
	// Number stands for the name in packed readings, from 1, without gaps. Stored readings must stay readable: a new
	// metric takes the next number, and a number is never reused.
	Number int `json:"-"`
}

// hostSources are the sources of metrics that the drive itself does not report.
var hostSources = []string{"host I/O statistics", "host kernel", "host reports", "pool"}

// Own reports whether the drive itself reports the metric, and not only its host or its pool.
func (m Metric) Own() bool {
	return m.Attribute != 0 || slices.ContainsFunc(m.From, func(s string) bool { return !slices.Contains(hostSources, s) })
}

func whole(raw uint64) float64    { return float64(raw) }
func low16(raw uint64) float64    { return float64(raw & 0xFFFF) }
func low32(raw uint64) float64    { return float64(raw & 0xFFFFFFFF) }
func lowByte(raw uint64) float64  { return float64(int8(raw)) }
func sectors512(r uint64) float64 { return float64(r) * 512 }

// Catalogue lists every metric, the most important first.
var Catalogue = []Metric{
	{
		Number: 1, Name: "pending_sectors", Unit: "sectors", Kind: Level, Strength: Strong,
		Means:     "Sectors that could not be read and wait to be rewritten or replaced.",
		MeansNot:  "It can fall again when such a sector is written; falling is not healing.",
		Attribute: 197, value: low32,
		From: []string{"ATA device statistics, page 03h"},
	},
	{
		Number: 2, Name: "reallocated_sectors", Unit: "sectors", Kind: Counter, Strength: Strong,
		Means:     "Sectors the drive gave up on and replaced from its own reserve.",
		MeansNot:  "A small number that has not changed for months is a weak sign.",
		Attribute: 5, value: low32,
		From: []string{"ATA device statistics, page 03h"},
	},
	{
		Number: 3, Name: "offline_uncorrectable_sectors", Unit: "sectors", Kind: Level, Strength: Strong,
		Means:     "Sectors found unreadable by the drive's own background scan.",
		MeansNot:  "It says nothing about sectors the scan has not reached.",
		Attribute: 198, value: low32,
	},
	{
		Number: 4, Name: "reported_uncorrectable_errors", Unit: "errors", Kind: Counter, Strength: Strong,
		Means:     "Errors the drive could not correct and passed on to the host.",
		MeansNot:  "Several can stem from one bad spot that was read again and again.",
		Attribute: 187, value: whole,
		From: []string{"ATA device statistics, page 04h"},
	},
	{
		Number: 5, Name: "reallocation_events", Unit: "events", Kind: Counter, Strength: Strong,
		Means:     "Attempts to move a bad sector's data into the reserve, whether or not they succeeded.",
		MeansNot:  "It is not a count of sectors.",
		Attribute: 196, value: low32,
	},
	{
		Number: 6, Name: "link_crc_errors", Unit: "errors", Kind: Counter, Strength: Path,
		Means:     "Transfers between host and drive that arrived damaged and were sent again.",
		MeansNot:  "It accuses the cable, backplane or bay, not the platters, until it follows the drive to another bay.",
		Attribute: 199, value: whole,
		From: []string{"ATA device statistics, page 06h"},
	},
	{
		Number: 7, Name: "read_latency_seconds", Unit: "s", Kind: Level, Strength: Strong,
		Means:    "Mean time a read took since the reading before, as the host saw it.",
		MeansNot: "A busy drive is slow too: compare it with its peers, not with a number.",
		From:     []string{"host I/O statistics"},
	},
	{
		Number: 8, Name: "write_latency_seconds", Unit: "s", Kind: Level, Strength: Strong,
		Means:    "Mean time a write took since the reading before, as the host saw it.",
		MeansNot: "A drive being filled by a recovery is slow without being ill.",
		From:     []string{"host I/O statistics"},
	},
	{
		Number: 9, Name: "temperature_celsius", Unit: "°C", Kind: Level, Strength: Weak,
		Means:     "Temperature inside the drive.",
		MeansNot:  "Warm within its limits does not mean failing.",
		Attribute: 194, value: lowByte,
		From: []string{
			"ATA device statistics, page 05h",
			"ATA SCT status",
			"SCSI log page 0Dh",
			"SCSI log page 2Fh",
			"NVMe health log",
		},
	},
	{
		Number: 32, Name: "temperature_limit_celsius", Unit: "°C", Kind: State, Strength: Background,
		Means:    "The highest operating temperature its maker allows, as the drive reports it.",
		MeansNot: "Staying below it does not guarantee a long life.",
		From:     []string{"ATA device statistics, page 05h", "SCSI log page 0Dh", "NVMe controller data"},
	},
	{
		Number: 10, Name: "command_timeouts", Unit: "commands", Kind: Counter, Strength: Weak,
		Means:     "Commands the drive did not finish in time.",
		MeansNot:  "Power and cabling cause them as often as the drive does.",
		Attribute: 188, value: low16,
	},
	{
		Number: 11, Name: "spin_retries", Unit: "retries", Kind: Counter, Strength: Weak,
		Means:     "Extra attempts the motor needed to reach its speed.",
		MeansNot:  "A weak power supply causes them too.",
		Attribute: 10, value: whole,
		From: []string{"ATA device statistics, page 03h"},
	},
	{
		Number: 12, Name: "spin_up_milliseconds", Unit: "ms", Kind: Level, Strength: Weak,
		Means:     "Time the platters needed to reach their speed.",
		MeansNot:  "It differs between models; only changes mean something.",
		Attribute: 3, value: low16,
	},
	{
		Number: 13, Name: "start_stops", Unit: "cycles", Kind: Counter, Strength: Weak,
		Means:     "How often the platters were started and stopped.",
		MeansNot:  "A high count is wear expected by its maker, not damage.",
		Attribute: 4, value: whole,
		From: []string{"SCSI log page 0Eh"},
	},
	{
		Number: 14, Name: "load_cycles", Unit: "cycles", Kind: Counter, Strength: Weak,
		Means:     "How often the heads were parked and loaded.",
		MeansNot:  "A high count is wear expected by its maker, not damage.",
		Attribute: 193, value: low32,
		From: []string{"ATA device statistics, page 03h", "SCSI log page 0Eh"},
	},
	{
		Number: 36, Name: "internal_data_errors", Unit: "errors", Kind: Counter, Strength: Strong,
		Means:     "Times data changed on its way inside the drive, between its interface and its medium.",
		MeansNot:  "It does not accuse the medium, but the drive that holds it.",
		Attribute: 184, value: low32,
	},
	{
		Number: 37, Name: "link_downshifts", Unit: "downshifts", Kind: Counter, Strength: Path,
		Means:     "Times host and drive agreed on a slower link because the faster one did not work.",
		MeansNot:  "It accuses the cable, backplane or bay before the drive.",
		Attribute: 183, value: low32,
	},
	{
		Number: 38, Name: "shocks", Unit: "shocks", Kind: Counter, Strength: Weak,
		Means:     "Times the drive measured a shock or vibration beyond its limit.",
		MeansNot:  "Its neighbours and the rack cause them.",
		Attribute: 191, value: low32,
	},
	{
		Number: 39, Name: "head_flying_hours", Unit: "h", Kind: Counter, Strength: Background,
		Means:     "Hours the heads were over the platters.",
		MeansNot:  "Age alone never condemns a drive.",
		Attribute: 240, value: low32,
		From: []string{"ATA device statistics, page 03h"},
	},
	{
		Number: 15, Name: "power_cycles", Unit: "cycles", Kind: Counter, Strength: Background,
		Means:     "How often the drive was switched on.",
		MeansNot:  "It says nothing about health.",
		Attribute: 12, value: whole,
		From: []string{"ATA device statistics, page 01h", "NVMe health log"},
	},
	{
		Number: 16, Name: "power_on_hours", Unit: "h", Kind: Counter, Strength: Background,
		Means:     "Hours the drive has been powered.",
		MeansNot:  "Age alone never condemns a drive.",
		Attribute: 9, value: low32,
		From: []string{"ATA device statistics, page 01h", "SCSI log page 15h", "NVMe health log"},
	},
	{
		Number: 17, Name: "bytes_written", Unit: "B", Kind: Counter, Strength: Background,
		Means:     "Data written by hosts over the drive's life.",
		MeansNot:  "It is wear only for solid-state media.",
		Attribute: 241, value: sectors512,
		From: []string{"ATA device statistics, page 01h", "SCSI log page 02h", "NVMe health log"},
	},
	{
		Number: 18, Name: "bytes_read", Unit: "B", Kind: Counter, Strength: Background,
		Means:     "Data read by hosts over the drive's life.",
		MeansNot:  "It says nothing about health.",
		Attribute: 242, value: sectors512,
		From: []string{"ATA device statistics, page 01h", "SCSI log page 03h", "NVMe health log"},
	},
	{
		Number: 19, Name: "grown_defects", Unit: "defects", Kind: Counter, Strength: Strong,
		Means:    "Sectors the drive stopped using since it left its maker.",
		MeansNot: "A small number that has not changed for months is a weak sign.",
		From:     []string{"SCSI READ DEFECT DATA"},
	},
	{
		Number: 20, Name: "uncorrected_read_errors", Unit: "errors", Kind: Counter, Strength: Strong,
		Means:    "Reads the drive could not correct, however often it tried.",
		MeansNot: "Several can stem from one bad spot that was read again and again.",
		From:     []string{"SCSI log page 03h"},
	},
	{
		Number: 21, Name: "uncorrected_write_errors", Unit: "errors", Kind: Counter, Strength: Strong,
		Means:    "Writes the drive could not bring to its medium.",
		MeansNot: "It says nothing about what was written before.",
		From:     []string{"SCSI log page 02h"},
	},
	{
		Number: 33, Name: "background_scan_findings", Unit: "places", Kind: Level, Strength: Strong,
		Means:    "Bad sectors found by the drive's own background scan, as far as its list goes.",
		MeansNot: "The list is short: old entries drop out without being repaired.",
		From:     []string{"SCSI log page 15h"},
	},
	{
		Number: 22, Name: "uncorrected_verify_errors", Unit: "errors", Kind: Counter, Strength: Strong,
		Means:    "Errors when the drive verified sectors, which it could not correct.",
		MeansNot: "It says nothing about sectors it has not verified.",
		From:     []string{"SCSI log page 05h"},
	},
	{
		Number: 23, Name: "media_errors", Unit: "errors", Kind: Counter, Strength: Strong,
		Means:    "Times the controller could not give back data as it was written.",
		MeansNot: "It does not say where.",
		From:     []string{"NVMe health log", "NVMe endurance group log"},
	},
	{
		Number: 24, Name: "spare_available_percent", Unit: "%", Kind: Level, Strength: Strong,
		Means:    "What is left of the cells kept to replace worn ones.",
		MeansNot: "It falls late: nearly all of it can be there until shortly before the end.",
		From:     []string{"NVMe health log", "NVMe endurance group log"},
	},
	{
		Number: 25, Name: "wear_used_percent", Unit: "%", Kind: Level, Strength: Weak,
		Means:    "How much of the endurance its maker rates the drive for has been used.",
		MeansNot: "Beyond 100 % it keeps working, but its maker no longer guarantees it.",
		From: []string{
			"ATA device statistics, page 07h",
			"SCSI log page 11h",
			"NVMe health log",
			"NVMe endurance group log",
		},
	},
	{
		Number: 26, Name: "non_medium_errors", Unit: "errors", Kind: Counter, Strength: Weak,
		Means:    "Errors that had nothing to do with the medium.",
		MeansNot: "Cabling and power cause them too.",
		From:     []string{"SCSI log page 06h"},
	},
	{
		Number: 34, Name: "logged_errors", Unit: "errors", Kind: Counter, Strength: Weak,
		Means:    "Errors of any kind that the drive wrote into its own log.",
		MeansNot: "Commands it did not know count too; this number alone does not condemn a drive.",
		From:     []string{"ATA error log", "NVMe health log"},
	},
	{
		Number: 35, Name: "host_io_errors", Unit: "errors", Kind: Counter, Strength: Weak,
		Means: "Commands to the drive that ended in an error, as its host's kernel counts them, those of a reading " +
			"left out.",
		MeansNot: "Commands that the drive does not know count too; it starts at zero with the agent.",
		From:     []string{"host kernel"},
	},
	{
		Number: 27, Name: "unsafe_shutdowns", Unit: "shutdowns", Kind: Counter, Strength: Background,
		Means:     "Times the power was cut without warning.",
		MeansNot:  "It says nothing about the drive's health.",
		Attribute: 192, value: low32,
		From: []string{"NVMe health log"},
	},
	{
		Number: 28, Name: "bus_drops", Unit: "drops", Kind: Counter, Strength: Strong,
		Means:    "Times the drive left the bus and came back by itself.",
		MeansNot: "A loose connector does the same.",
		From:     []string{"host reports"},
	},
	{
		Number: 29, Name: "pool_read_errors", Unit: "errors", Kind: Counter, Strength: Strong,
		Means:    "Reads from this member that failed as the pool saw them.",
		MeansNot: "A pulled cable makes them as well.",
		From:     []string{"pool"},
	},
	{
		Number: 30, Name: "pool_write_errors", Unit: "errors", Kind: Counter, Strength: Strong,
		Means:    "Writes to this member that failed as the pool saw them.",
		MeansNot: "A pulled cable makes them as well.",
		From:     []string{"pool"},
	},
	{
		Number: 31, Name: "pool_checksum_errors", Unit: "errors", Kind: Counter, Strength: Strong,
		Means:    "Blocks from this member with a wrong checksum.",
		MeansNot: "Memory and cabling can corrupt data too.",
		From:     []string{"pool"},
	},
}

var (
	byName      = map[MetricName]*Metric{}
	byAttribute = map[byte]*Metric{}
)

func init() {
	for i := range Catalogue {
		m := &Catalogue[i]
		byName[m.Name] = m
		if m.Attribute != 0 {
			byAttribute[m.Attribute] = m
		}
	}
}

// MetricByName finds a metric in the catalogue.
func MetricByName(n MetricName) (Metric, bool) {
	if m := byName[n]; m != nil {
		return *m, true
	}
	return Metric{}, false
}

// MetricOf names the metric an attribute feeds; ok is false for an unknown attribute, which is kept as a raw value.
func MetricOf(a Attribute) (name MetricName, value float64, ok bool) {
	m := byAttribute[a.ID]
	if m == nil {
		return "", 0, false
	}
	return m.Name, m.value(a.Raw), true
}

// Metrics gives the metrics that come from attributes.
func Metrics(attributes []Attribute) map[MetricName]float64 {
	out := map[MetricName]float64{}
	for _, a := range attributes {
		if n, v, ok := MetricOf(a); ok && byName[n].Implausible(v) == "" {
			out[n] = v
		}
	}
	return out
}

// Implausible says why a value is impossible for the metric; empty for a possible value. An impossible value is kept as
// unreadable and is not used: a count is never negative, and a field of all ones was not filled.
func (m *Metric) Implausible(v float64) string {
	least, most := 0.0, 1e18
	switch {
	case m.Unit == "°C":
		least, most = -60, 150
	case m.Name == "spare_available_percent":
		most = 100
	case m.Unit == "%":
		most = 255 // the largest value of percent used (NVMe 2.0 figure 207; ACS-4 9.5.9)
	case m.Unit == "h":
		most = 1_000_000 // more than a hundred years
	case m.Unit == "s":
		most = 3600
	case m.Unit == "ms":
		most = 600_000
	case m.Unit == "B":
		most = 1e30 // counts of 128 bits (NVMe 2.0 figure 207)
	default:
		most = 1 << 48
	}
	if m.Unit != "B" && m.Unit != "°C" && m.Unit != "%" && (v == 1<<32-1 || v == 1<<48-1) {
		return fmt.Sprintf("%.0f %s is a field of all ones, not a count", v, m.Unit)
	}
	switch {
	case v != v:
		return "it is not a number"
	case v < least:
		return fmt.Sprintf("%g %s is less than %g", v, m.Unit, least)
	case v > most:
		return fmt.Sprintf("%.17g %s is more than %g", v, m.Unit, most)
	}
	return ""
}

// Implausible gives the reason why a value of a named metric cannot be true, or "", also for an unknown metric.
func Implausible(n MetricName, v float64) string {
	if m := byName[n]; m != nil {
		return m.Implausible(v)
	}
	return ""
}

// Sources lists the sources of the metric in words, the one that is read first at the beginning.
func (m Metric) Sources() []string {
	if m.Attribute == 0 {
		return m.From
	}
	return append([]string{AttributeSource(m.Attribute)}, m.From...)
}

// SourceOf is the source of a value: the one recorded with it, else the only possible source; NoSource if several are
// possible.
func SourceOf(n MetricName, told string) string {
	if told != "" {
		return told
	}
	if m := byName[n]; m != nil && len(m.Sources()) == 1 {
		return m.Sources()[0]
	}
	return NoSource
}

// AttributeSource names the attribute that a metric comes from.
func AttributeSource(id byte) string { return fmt.Sprintf("SMART attribute %d", id) }

// NoSource is the source of a value that was recorded without one.
const NoSource = "source not told"

// Nearest is the metric whose name has the smallest edit distance.
func Nearest(name string) MetricName {
	best, least := Catalogue[0].Name, 1<<20
	for _, m := range Catalogue {
		if d := distance(name, string(m.Name)); d < least {
			best, least = m.Name, d
		}
	}
	return best
}

// distance is how many characters must be changed, added or taken away (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0]++
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			last, row[j+1] = row[j+1], min(row[j+1]+1, row[j]+1, last+cost)
		}
	}
	return row[len(b)]
}

// Names are the names of all metrics.
func Names() []string {
	out := make([]string, len(Catalogue))
	for i, m := range Catalogue {
		out[i] = string(m.Name)
	}
	return out
}
