// Package drive describes one physical drive: its identity, the catalogue of metrics, and the codecs of the open
// standards that carry them. The codecs decode bytes to values and encode values to bytes.
//
// Sources: ATA Command Set (ACS-4, INCITS 529), SCSI/ATA Translation (SAT-4, INCITS 537).
package drive

import (
	"fmt"
	"strings"
)

// Identity identifies a drive, wherever it is plugged in. A path is never part of it.
type Identity struct {
	// WWN is the world wide name, EUI-64 or NGUID as lower-case hexadecimal without separators; empty if it has none.
	WWN    string `json:"wwn,omitempty"`
	Vendor string `json:"vendor,omitempty"`
	Model  string `json:"model"`
	Serial string `json:"serial"`
}

// Key is the one string by which the drive is known everywhere: its WWN, else vendor, model and serial together. It is
// empty for a drive that reports neither.
func (i Identity) Key() string {
	switch {
	case strings.Trim(i.WWN, "0") != "":
		return "wwn-" + i.WWN
	case i.Serial != "":
		return "vms-" + slug(i.Vendor) + "-" + slug(i.Model) + "-" + slug(i.Serial)
	}
	return ""
}

// Namespace is the identity of a namespace of an NVMe drive. One that has no EUI-64, NGUID or UUID of its own is known
// by the controller's serial; from the second namespace on, the namespace number is part of the key, so that two
// namespaces have two keys.
func (i Identity) Namespace(n int) Identity {
	if strings.Trim(i.WWN, "0") == "" && i.Serial != "" && n > 1 {
		i.Serial = fmt.Sprintf("%s-ns%d", i.Serial, n)
	}
	return i
}

// tailLength is how many characters of the serial a label shows large: what people read and type.
const tailLength = 5

// Tail is the label tail: the last characters of the serial as printed on the drive.
func (i Identity) Tail() string {
	s := strings.TrimSpace(i.Serial)
	if at := strings.LastIndex(s, "-ns"); at > tailLength {
		return s[at-tailLength:] // the number of a namespace is not on the label, but distinguishes it from the others
	}
	if len(s) <= tailLength {
		return s
	}
	return s[len(s)-tailLength:]
}

// TailMatches reports whether t is what this drive's label shows: at least the label tail, at most the whole serial.
// Case and spaces are ignored.
func (i Identity) TailMatches(t string) bool {
	t = strings.ToUpper(strings.Join(strings.Fields(t), ""))
	s := strings.ToUpper(strings.Join(strings.Fields(i.Serial), ""))
	if at := strings.LastIndex(s, "-NS"); at > 0 && !strings.Contains(t, "-NS") {
		s = s[:at] // the label shows the controller's serial
	}
	return len(t) >= min(tailLength, len(s)) && t != "" && strings.HasSuffix(s, t)
}

// Differs explains in words how the identity read back from a device differs from the one an order named (R2), or
// returns "" when they are the same drive.
func (i Identity) Differs(read Identity) string {
	if !keepsR2 || i.Key() != "" && i.Key() == read.Key() && i.Serial == read.Serial {
		return ""
	}
	return fmt.Sprintf("the order names %s, the device answers %s", i.describe(), read.describe())
}

func (i Identity) describe() string {
	name := strings.TrimSpace(i.Model + " serial " + i.Serial)
	if i.WWN != "" {
		name += " (WWN " + i.WWN + ")"
	}
	return name
}

func slug(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '_'
	}, strings.TrimSpace(s))
}

// Bytes is a size or an amount of data.
type Bytes uint64

// Zoning is how the zones of a drive with overlapping tracks must be written (ACS-4, IDENTIFY DEVICE data, word 69,
// ZONED); empty for a drive without zones.
type Zoning string

// The zonings that a drive can report.
const (
	HostAware    Zoning = "host-aware"
	DriveManaged Zoning = "drive-managed"
)

// Medium is what the data is on.
type Medium string

// The media that IDENTIFY DEVICE distinguishes.
const (
	MediumUnknown    Medium = "unknown"
	MediumRotating   Medium = "rotating"
	MediumSolidState Medium = "solid-state"
)

// Description is everything that a drive reports about itself and that does not change between readings.
type Description struct {
	Identity
	Firmware       string
	Capacity       Bytes
	LogicalSector  Bytes
	PhysicalSector Bytes
	Medium         Medium
	RotationRPM    int    // 0 when not rotating or not reported
	FormFactor     string // "3.5 inch", or empty
	Zoned          Zoning
	SMARTSupported bool
	SMARTEnabled   bool
	SelfTests      bool
	GeneralLogs    bool // READ LOG EXT works
}
