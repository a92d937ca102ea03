package drive

import "fmt"

// MetricName is the normalised name of a metric; it carries its unit.
type MetricName string

// MetricKind says how a metric moves.
type MetricKind string

// A level goes up and down, a counter only up (going down is a reset), a state is one of few values.
const (
	Level   MetricKind = "level"
	Counter MetricKind = "counter"
	State   MetricKind = "state"
)

// Strength is how much a metric proves about the drive itself.
type Strength string

// Strong evidence can lead to replace, weak evidence to watch at most. Path evidence accuses the cable or the bay
// before it accuses the drive.
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
}

func whole(raw uint64) float64    { return float64(raw) }
func low16(raw uint64) float64    { return float64(raw & 0xFFFF) }
func low32(raw uint64) float64    { return float64(raw & 0xFFFFFFFF) }
func lowByte(raw uint64) float64  { return float64(int8(raw)) }
func sectors512(r uint64) float64 { return float64(r) * 512 }

// Catalogue is every metric, those that matter first.
var Catalogue = []Metric{
	{"pending_sectors", "sectors", Level, Strong,
		"Sectors that could not be read and wait to be rewritten or replaced.",
		"It can fall again when such a sector is written; falling is not healing.", 197, low32},
	{"reallocated_sectors", "sectors", Counter, Strong,
		"Sectors the drive gave up on and replaced from its own reserve.",
		"A small number that has stood still for months says little about tomorrow.", 5, low32},
	{"offline_uncorrectable_sectors", "sectors", Level, Strong,
		"Sectors found unreadable by the drive's own background scan.",
		"It says nothing about sectors the scan has not reached.", 198, low32},
	{"reported_uncorrectable_errors", "errors", Counter, Strong,
		"Errors the drive could not correct and passed on to the host.",
		"Several can stem from one bad spot that was read again and again.", 187, whole},
	{"reallocation_events", "events", Counter, Strong,
		"Attempts to move a bad sector's data into the reserve, whether or not they succeeded.",
		"It is not a count of sectors.", 196, low32},
	{
		"link_crc_errors",
		"errors",
		Counter,
		Path,
		"Transfers between host and drive that arrived damaged and were sent again.",
		"It accuses the cable, backplane or bay, not the platters, until it follows the drive to another bay.",
		199,
		whole,
	},
	{"read_latency_seconds", "s", Level, Strong,
		"Mean time a read took since the reading before, as the host saw it.",
		"A busy drive is slow too: compare it with its peers, not with a number.", 0, nil},
	{"write_latency_seconds", "s", Level, Strong,
		"Mean time a write took since the reading before, as the host saw it.",
		"A drive being filled by a recovery is slow without being ill.", 0, nil},
	{"temperature_celsius", "°C", Level, Weak,
		"Temperature inside the drive.",
		"Warm within its limits does not mean failing.", 194, lowByte},
	{"temperature_limit_celsius", "°C", State, Background,
		"The warmest its maker allows while it runs, as the drive itself says.",
		"Staying below it does not make a drive last.", 0, nil},
	{"command_timeouts", "commands", Counter, Weak,
		"Commands the drive did not finish in time.",
		"Power and cabling cause them as often as the drive does.", 188, low16},
	{"spin_retries", "retries", Counter, Weak,
		"Extra attempts the motor needed to reach its speed.",
		"A weak power supply causes them too.", 10, whole},
	{"spin_up_milliseconds", "ms", Level, Weak,
		"Time the platters needed to reach their speed.",
		"It differs between models; only its change tells something.", 3, low16},
	{"start_stops", "cycles", Counter, Weak,
		"How often the platters were started and stopped.",
		"A high count is wear expected by its maker, not damage.", 4, whole},
	{"load_cycles", "cycles", Counter, Weak,
		"How often the heads were parked and loaded.",
		"A high count is wear expected by its maker, not damage.", 193, low32},
	{"internal_data_errors", "errors", Counter, Strong,
		"Times data changed on its way inside the drive, between its interface and its medium.",
		"It does not accuse the medium, but the drive that holds it.", 184, low32},
	{"link_downshifts", "downshifts", Counter, Path,
		"Times host and drive agreed on a slower link because the faster one did not work.",
		"It accuses the cable, backplane or bay before the drive.", 183, low32},
	{"shocks", "shocks", Counter, Weak,
		"Times the drive felt a blow or a vibration beyond what it expects.",
		"Its neighbours and the rack cause them.", 191, low32},
	{"head_flying_hours", "h", Counter, Background,
		"Hours the heads were over the platters.",
		"Age alone never condemns a drive.", 240, low32},
	{"power_cycles", "cycles", Counter, Background,
		"How often the drive was switched on.",
		"It says nothing about health.", 12, whole},
	{"power_on_hours", "h", Counter, Background,
		"Hours the drive has been powered.",
		"Age alone never condemns a drive.", 9, low32},
	{"bytes_written", "B", Counter, Background,
		"Data written by hosts over the drive's life.",
		"It is wear only for solid-state media.", 241, sectors512},
	{"bytes_read", "B", Counter, Background,
		"Data read by hosts over the drive's life.",
		"It says nothing about health.", 242, sectors512},
	{"grown_defects", "defects", Counter, Strong,
		"Places the drive gave up on since it left its maker.",
		"A small number that has stood still for months says little about tomorrow.", 0, nil},
	{"uncorrected_read_errors", "errors", Counter, Strong,
		"Reads the drive could not correct, however often it tried.",
		"Several can stem from one bad spot that was read again and again.", 0, nil},
	{"uncorrected_write_errors", "errors", Counter, Strong,
		"Writes the drive could not bring to its medium.",
		"It says nothing about what was written before.", 0, nil},
	{"background_scan_findings", "places", Level, Strong,
		"Places that the drive found bad while it scanned its medium by itself, as far as its list reaches.",
		"The list is short: old places fall off it without being healed.", 0, nil},
	{"uncorrected_verify_errors", "errors", Counter, Strong,
		"Places that could not be read back when the drive checked itself.",
		"It says nothing about places it has not checked.", 0, nil},
	{"media_errors", "errors", Counter, Strong,
		"Times the controller could not give back data as it was written.",
		"It does not say where.", 0, nil},
	{"spare_available_percent", "%", Level, Strong,
		"What is left of the cells kept to replace worn ones.",
		"It falls late: nearly all of it can be there until shortly before the end.", 0, nil},
	{"wear_used_percent", "%", Level, Weak,
		"How much of the endurance its maker rates the drive for has been used.",
		"Beyond 100 % it goes on working, without its maker's word for it.", 0, nil},
	{"non_medium_errors", "errors", Counter, Weak,
		"Errors that had nothing to do with the medium.",
		"Cabling and power cause them too.", 0, nil},
	{"logged_errors", "errors", Counter, Weak,
		"Errors of any kind that the drive wrote into its own log.",
		"Commands it did not know count as well; it takes another number to condemn a drive.", 0, nil},
	{"host_io_errors", "errors", Counter, Weak,
		"Commands to the drive that ended in an error, as its host's kernel counts them, those of a reading left out.",
		"Commands that the drive does not know count as well; it begins anew when the agent starts.", 0, nil},
	{"unsafe_shutdowns", "shutdowns", Counter, Background,
		"Times the power went without a word before.",
		"It says nothing about the drive's health.", 192, low32},
	{"bus_drops", "drops", Counter, Strong,
		"Times the drive left the bus and came back by itself.",
		"A loose connector does the same.", 0, nil},
	{"pool_read_errors", "errors", Counter, Strong,
		"Reads from this member that failed as the pool saw them.",
		"A pulled cable makes them as well.", 0, nil},
	{"pool_write_errors", "errors", Counter, Strong,
		"Writes to this member that failed as the pool saw them.",
		"A pulled cable makes them as well.", 0, nil},
	{"pool_checksum_errors", "errors", Counter, Strong,
		"Blocks this member returned whose checksum was wrong.",
		"Memory and cabling can corrupt data too.", 0, nil},
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

// MetricOf names the metric an attribute feeds; ok is false for an attribute nobody here knows, which is kept raw.
func MetricOf(a Attribute) (name MetricName, value float64, ok bool) {
	m := byAttribute[a.ID]
	if m == nil {
		return "", 0, false
	}
	return m.Name, m.value(a.Raw), true
}

// Metrics gives the metrics that attributes feed.
func Metrics(attributes []Attribute) map[MetricName]float64 {
	out := map[MetricName]float64{}
	for _, a := range attributes {
		if n, v, ok := MetricOf(a); ok && byName[n].Implausible(v) == "" {
			out[n] = v
		}
	}
	return out
}

// others names, by metric, what feeds it beside an ATA attribute.
var others = map[MetricName][]string{
	"pending_sectors":               {"ATA device statistics, page 03h"},
	"reallocated_sectors":           {"ATA device statistics, page 03h"},
	"reported_uncorrectable_errors": {"ATA device statistics, page 04h"},
	"link_crc_errors":               {"ATA device statistics, page 06h"},
	"temperature_celsius": {
		"ATA device statistics, page 05h",
		"ATA SCT status",
		"SCSI log page 0Dh",
		"SCSI log page 2Fh",
		"NVMe health log",
	},
	"start_stops":               {"SCSI log page 0Eh"},
	"load_cycles":               {"ATA device statistics, page 03h", "SCSI log page 0Eh"},
	"spin_retries":              {"ATA device statistics, page 03h"},
	"power_cycles":              {"ATA device statistics, page 01h", "NVMe health log"},
	"power_on_hours":            {"ATA device statistics, page 01h", "SCSI log page 15h", "NVMe health log"},
	"bytes_written":             {"ATA device statistics, page 01h", "SCSI log page 02h", "NVMe health log"},
	"bytes_read":                {"ATA device statistics, page 01h", "SCSI log page 03h", "NVMe health log"},
	"grown_defects":             {"SCSI READ DEFECT DATA"},
	"uncorrected_read_errors":   {"SCSI log page 03h"},
	"uncorrected_write_errors":  {"SCSI log page 02h"},
	"uncorrected_verify_errors": {"SCSI log page 05h"},
	"non_medium_errors":         {"SCSI log page 06h"},
	"media_errors":              {"NVMe health log", "NVMe endurance group log"},
	"spare_available_percent":   {"NVMe health log", "NVMe endurance group log"},
	"wear_used_percent": {
		"ATA device statistics, page 07h",
		"SCSI log page 11h",
		"NVMe health log",
		"NVMe endurance group log",
	},
	"unsafe_shutdowns":          {"NVMe health log"},
	"head_flying_hours":         {"ATA device statistics, page 03h"},
	"temperature_limit_celsius": {"ATA device statistics, page 05h", "SCSI log page 0Dh", "NVMe controller data"},
	"background_scan_findings":  {"SCSI log page 15h"},
	"logged_errors":             {"ATA error log", "NVMe health log"},
	"host_io_errors":            {"host kernel"},
	"bus_drops":                 {"host reports"},
	"read_latency_seconds":      {"host I/O statistics"},
	"write_latency_seconds":     {"host I/O statistics"},
	"pool_read_errors":          {"pool"},
	"pool_write_errors":         {"pool"},
	"pool_checksum_errors":      {"pool"},
}

// Implausible says why a value cannot be one of the metric, whatever a device says; empty for one that can. Such a
// value is kept as unreadable and feeds nothing: no count is negative, and a field of all ones is one that was not
// filled.
func (m Metric) Implausible(v float64) string {
	least, most := 0.0, 1e18
	switch {
	case m.Unit == "°C":
		least, most = -60, 150
	case m.Name == "spare_available_percent":
		most = 100
	case m.Unit == "%":
		most = 255 // percent used is told up to here (NVMe 2.0 figure 207; ACS-4 9.5.9)
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

// Sources says what feeds the metric, in words, the one that is read first at the beginning.
func (m Metric) Sources() []string {
	if m.Attribute == 0 {
		return others[m.Name]
	}
	return append([]string{AttributeSource(m.Attribute)}, others[m.Name]...)
}

// SourceOf is what a value was read from: what was told of it, else the only source that there is; NoSource where there
// are several.
func SourceOf(n MetricName, told string) string {
	if told != "" {
		return told
	}
	if m := byName[n]; m != nil && len(m.Sources()) == 1 {
		return m.Sources()[0]
	}
	return NoSource
}

// AttributeSource names the attribute that feeds a metric.
func AttributeSource(id byte) string { return fmt.Sprintf("SMART attribute %d", id) }

// NoSource is said of a value of which nobody told what it was read from.
const NoSource = "source not told"

// Nearest is the metric whose name takes the fewest changes to reach.
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
