package enclosure

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Seat is one bay as a management controller reports it: the Drive resource of Redfish (DMTF DSP8010, Drive and
// PhysicalLocation; the protocol is DSP0266).
type Seat struct {
	URI     string // of the resource
	Chassis string // URI of its chassis; empty if not reported
	Serial  string // of the drive in it; empty for an empty bay
	WWN     string // its NAA identifier as lower-case hexadecimal; empty if not reported
	Bytes   uint64 // its size; 0 if not reported
	Number  int    // number of the bay; -1 if not reported
	Label   string // as printed on the case; empty if not reported
	Absent  bool   // nothing is in it
	Lit     bool
	// Light is the property that switches its light; empty where it has none.
	Light string
}

// The properties that switch the light of a bay; the second one was used before 2020 (DSP8010 2020.3 deprecates it).
const (
	LightActive = "LocationIndicatorActive"
	LightOld    = "IndicatorLED"
)

// Bounds of the data of a controller.
const (
	longestURI  = 512
	longestText = 64
	mostNumber  = 4000
)

type seatDoc struct {
	ID           string   `json:"@odata.id"`
	Serial       string   `json:"SerialNumber"`
	Bytes        *float64 `json:"CapacityBytes"`
	Active       *bool    `json:"LocationIndicatorActive"`
	LED          *string  `json:"IndicatorLED"`
	Location     location `json:"PhysicalLocation"`
	OldLocations []struct {
		Info string `json:"Info"`
	} `json:"Location"`
	Status struct {
		State string `json:"State"`
	} `json:"Status"`
	Identifiers []struct {
		Name   string `json:"DurableName"`
		Format string `json:"DurableNameFormat"`
	} `json:"Identifiers"`
	Links struct {
		Chassis reference `json:"Chassis"`
	} `json:"Links"`
}

type location struct {
	Part struct {
		Number *float64 `json:"LocationOrdinalValue"`
		Label  string   `json:"ServiceLabel"`
	} `json:"PartLocation"`
}

type reference struct {
	ID string `json:"@odata.id"`
}

var trailing = regexp.MustCompile(`(\d{1,4})\D*$`)

// DecodeSeat decodes a Drive resource. Missing properties are left empty; a resource without its own URI, or with one
// on another server, is refused.
func DecodeSeat(doc []byte) (s Seat, err error) {
	var d seatDoc
	if err := json.Unmarshal(doc, &d); err != nil {
		return s, fmt.Errorf("a drive's resource is not JSON as the standard says: %w", err)
	}
	if !LocalURI(d.ID) {
		return s, fmt.Errorf("a drive's resource names itself %.80q", d.ID)
	}
	s = Seat{URI: d.ID, Serial: text(d.Serial), Number: -1, Label: text(d.Location.Part.Label),
		Absent: d.Status.State == "Absent"}
	if LocalURI(d.Links.Chassis.ID) {
		s.Chassis = d.Links.Chassis.ID
	}
	if d.Bytes != nil && *d.Bytes >= 0 && *d.Bytes < math.MaxInt64 {
		s.Bytes = uint64(*d.Bytes)
	}
	s.WWN = d.wwn()
	if len(d.OldLocations) > 0 && s.Label == "" {
		s.Label = text(d.OldLocations[0].Info)
	}
	s.Number = d.number(s.Label)
	switch {
	case d.Active != nil:
		s.Light, s.Lit = LightActive, *d.Active
	case d.LED != nil:
		s.Light, s.Lit = LightOld, *d.LED == "Lit" || *d.LED == "Blinking"
	}
	if s.Absent {
		s.Serial, s.WWN, s.Bytes = "", "", 0
	}
	return s, nil
}

// wwn is the NAA identifier of the drive; empty if no valid one is reported.
func (d seatDoc) wwn() string {
	for _, i := range d.Identifiers {
		name := strings.ToLower(strings.TrimPrefix(strings.ReplaceAll(strings.TrimSpace(i.Name), ":", ""), "0x"))
		if _, err := strconv.ParseUint(name, 16, 64); i.Format == "NAA" && len(name) == 16 && err == nil {
			return name
		}
	}
	return ""
}

// number is the number of the bay: as reported, else the last number in its label, else -1.
func (d seatDoc) number(label string) int {
	if n := d.Location.Part.Number; n != nil && *n == math.Trunc(*n) && *n >= 0 && *n <= mostNumber {
		return int(*n)
	}
	if m := trailing.FindStringSubmatch(label); m != nil {
		if n, err := strconv.Atoi(m[1]); err == nil && n <= mostNumber {
			return n
		}
	}
	return -1
}

// LocalURI reports whether a reference leads to the controller that gave it.
func LocalURI(uri string) bool {
	return strings.HasPrefix(uri, "/redfish/") && len(uri) <= longestURI && !strings.ContainsAny(uri, "\\?#%\r\n\t ") &&
		!strings.Contains(uri, "//") && !strings.Contains(uri, "/../") && !strings.HasSuffix(uri, "/..")
}

// text gives a short text without unprintable characters.
func text(s string) string {
	s = strings.TrimSpace(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7F || r == '\uFFFD' {
			return -1
		}
		return r
	}, s))
	if r := []rune(s); len(r) > longestText {
		s = string(r[:longestText])
	}
	return s
}

// Seated are the seats of one chassis with the numbers of their bays here, from one on.
type Seated struct {
	Section
	Seats map[int]Seat
}

// SeatSections makes a section of each chassis that has bays with numbers. Two bays with the same number get none, as
// they cannot be distinguished. Where a chassis counts from zero, all its numbers are one higher here, and the name of
// each bay is its printed number.
func SeatSections(seats []Seat) (out []Seated) {
	of := map[string][]Seat{}
	for _, s := range seats {
		if s.Number >= 0 {
			of[s.Chassis] = append(of[s.Chassis], s)
		}
	}
	chassis := make([]string, 0, len(of))
	for c := range of {
		chassis = append(chassis, c)
	}
	slices.Sort(chassis)
	taken := map[string]bool{}
	for _, c := range chassis {
		in := of[c]
		slices.SortStableFunc(in, func(a, b Seat) int { return a.Number - b.Number })
		from := 1
		if in[0].Number > 0 {
			from = 0
		}
		one := Seated{Seats: map[int]Seat{}}
		twice := map[int]bool{}
		for _, s := range in {
			n := s.Number + from
			if _, there := one.Seats[n]; there {
				twice[n] = true
			}
			one.Seats[n] = s
		}
		for n := range twice {
			delete(one.Seats, n)
		}
		if len(one.Seats) == 0 {
			continue
		}
		one.Section = seatSection(seatName(c, taken), one.Seats, from)
		out = append(out, one)
	}
	return out
}

// seatSection arranges bays in rows of twelve: a controller does not report their arrangement.
func seatSection(name string, seats map[int]Seat, from int) Section {
	const wide = 12
	numbers := make([]int, 0, len(seats))
	for n := range seats {
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	s := Section{
		Name: name, First: TopLeft, Run: AlongRows, Columns: min(wide, len(numbers)), Named: map[int][2]int{},
		Names: map[int]string{},
	}
	s.Rows = (len(numbers) + wide - 1) / wide
	printed := map[string]bool{}
	for i, n := range numbers {
		s.Named[n] = [2]int{i/wide + 1, i%wide + 1}
		label := seats[n].Label
		if label == "" && from > 0 {
			label = strconv.Itoa(seats[n].Number)
		}
		if label != "" && !printed[label] {
			s.Names[n], printed[label] = label, true
		}
	}
	return s
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// seatName is the name of the section of a chassis: "chassis-" and the last part of its URI.
func seatName(uri string, taken map[string]bool) string {
	last := uri[strings.LastIndex(uri, "/")+1:]
	name := strings.Trim("chassis-"+notName.ReplaceAllString(strings.ToLower(last), "-"), "-")
	if len(name) > 32 {
		name = strings.Trim(name[:32], "-")
	}
	for n := 2; taken[name]; n++ {
		name = strings.Trim(name[:min(len(name), 28)], "-") + "-" + strconv.Itoa(n)
	}
	taken[name] = true
	return name
}

// SeatOf finds the seat of a drive: by its WWN, else by its serial if no other seat has the same. A reported size must
// agree within 1 %: controllers round it.
func SeatOf(seats []Seated, serial, wwn string, bytes uint64) (section string, bay int, ok bool) {
	serial, wwn = strings.ToLower(strings.TrimSpace(serial)), strings.ToLower(strings.TrimPrefix(wwn, "0x"))
	for _, one := range seats {
		for n, s := range one.Seats {
			byName := wwn != "" && s.WWN == wwn
			bySerial := serial != "" && strings.ToLower(s.Serial) == serial && (wwn == "" || s.WWN == "" || s.WWN == wwn)
			if !byName && !bySerial {
				continue
			}
			if s.Bytes != 0 && bytes != 0 && math.Abs(float64(s.Bytes)-float64(bytes)) > 0.01*float64(bytes) {
				return "", 0, false
			}
			if ok {
				return "", 0, false
			}
			section, bay, ok = one.Name, n, true
		}
	}
	return section, bay, ok
}
