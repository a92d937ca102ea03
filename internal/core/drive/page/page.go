// Package page decodes captured pages of any drive, field by field, for every protocol: each field of the standard with
// its unit, the metrics that come from it, and what is not valid. No drive is accessed here, so a page that was kept as
// unreadable can be studied elsewhere.
//
// Sources: ACS-4 (INCITS 529), SAT-4, SPC-5 (INCITS 502), SBC-4 (INCITS 506), SES-3 (INCITS 518), NVM Express Base
// Specification 2.0. Each decoder names its clause.
package page

import (
	"encoding/binary"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"lantern/internal/core/drive"
)

// Field is one field as the standard names it.
type Field struct {
	Name  string `json:"name"`
	Value any    `json:"value"` // a number, a string, a bool or a list of these
	Unit  string `json:"unit,omitempty"`
}

// Page is a decoded page.
type Page struct {
	Kind    string                       `json:"kind"`
	Clause  string                       `json:"clause"`
	Bytes   int                          `json:"bytes"`
	Fields  []Field                      `json:"fields"`
	Metrics map[drive.MetricName]float64 `json:"metrics"`
	// Sources names the source of each of the metrics, as drive.Metric.Sources lists it.
	Sources map[drive.MetricName]string `json:"sources,omitempty"`
	// Tests are the entries of a log of self-tests, the newest first.
	Tests []drive.SelfTest `json:"tests,omitempty"`
	// Wrong lists what is not valid; empty for a page that conforms to the standard. No metric is taken from a page
	// with anything wrong: its fields are there for study.
	Wrong []string `json:"wrong"`
}

// Kind is one kind of page that can be decoded.
type Kind struct {
	Name   string `json:"name"`
	Says   string `json:"says"` // what it is, in words
	Clause string `json:"clause"`
	least  int    // the least number of bytes that can be decoded
	blank  bool   // a page of zeros is valid: it has no entries
	decode func(*Page, []byte)
}

var kinds = slices.Concat(ataKinds, scsiKinds, nvmeKinds, sesKinds)

// Kinds lists them.
func Kinds() []Kind { return slices.Clone(kinds) }

// Decode decodes b. It fails only for an unknown kind or a page that is too short; everything else that is wrong is
// listed in the page.
func Decode(kind string, b []byte) (Page, error) {
	for _, k := range kinds {
		if k.Name != kind {
			continue
		}
		p := Page{
			Kind:    k.Name,
			Clause:  k.Clause,
			Bytes:   len(b),
			Fields:  []Field{},
			Metrics: map[drive.MetricName]float64{},
			Wrong:   []string{},
		}
		if len(b) < k.least {
			return p, fmt.Errorf("%d bytes are too few for %s, which has at least %d", len(b), kind, k.least)
		}
		why := drive.Blank(b)
		if why != "" && !(b[0] == 0 && k.blank) {
			p.wrong("%s", why)
			return p, nil
		}
		k.decode(&p, b)
		for _, n := range slices.Sorted(maps.Keys(p.Metrics)) {
			m, _ := drive.MetricByName(n)
			if why := m.Implausible(p.Metrics[n]); why != "" {
				p.wrong("%s: %s", n, why)
			}
		}
		if len(p.Wrong) > 0 || why != "" {
			clear(p.Metrics)
			p.Tests = nil
		}
		p.Sources = p.sources()
		return p, nil
	}
	return Page{}, fmt.Errorf("unknown kind of page %q", kind)
}

// sources names the page as the metrics' catalogue does.
func (p *Page) sources() map[drive.MetricName]string {
	if len(p.Metrics) == 0 {
		return nil
	}
	words := map[string]string{"ata-error-log": "ATA error log", "ata-extended-error-log": "ATA error log",
		"ata-sct-status": "ATA SCT status", "nvme-health": "NVMe health log",
		"nvme-endurance-log": "NVMe endurance group log", "nvme-controller": "NVMe controller data",
		"scsi-defects": "SCSI READ DEFECT DATA"}[p.Kind]
	for _, f := range p.Fields {
		switch {
		case p.Kind == "ata-device-statistics" && f.Name == "page number":
			words = fmt.Sprintf("ATA device statistics, page %02Xh", f.Value)
		case p.Kind == "scsi-log" && f.Name == "page code":
			words = fmt.Sprintf("SCSI log page %v", f.Value)
		}
	}
	out := make(map[drive.MetricName]string, len(p.Metrics))
	for n := range p.Metrics {
		if out[n] = words; p.Kind == "ata-smart-data" {
			m, _ := drive.MetricByName(n)
			out[n] = drive.AttributeSource(m.Attribute)
		}
	}
	return out
}

func (p *Page) add(name string, value any, unit ...string) {
	p.Fields = append(p.Fields, Field{Name: name, Value: value, Unit: strings.Join(unit, "")})
}

func (p *Page) wrong(format string, args ...any) {
	p.Wrong = append(p.Wrong, fmt.Sprintf(format, args...))
}

// feed takes a value as a metric of the catalogue.
func (p *Page) feed(m drive.MetricName, v float64) { p.Metrics[m] = v }

// slot is one number at a fixed offset: most pages consist of these.
type slot struct {
	name  string
	at    int
	size  int // bytes
	unit  string
	feeds drive.MetricName
	scale float64 // to the metric's unit; 0 means 1
	less  float64 // subtracted before scaling
}

// numbers adds the slots that lie within b; big is true for big-endian numbers.
func (p *Page) numbers(b []byte, big bool, slots []slot) {
	for _, s := range slots {
		if s.at+s.size > len(b) {
			continue
		}
		v := number(b[s.at:s.at+s.size], big)
		p.add(s.name, v, s.unit)
		if s.feeds != "" {
			f := asFloat(v) - s.less
			if s.scale != 0 {
				f *= s.scale
			}
			p.feed(s.feeds, f)
		}
	}
}

// number reads up to 16 bytes; a number that does not fit 64 bits is given as a float.
func number(b []byte, big bool) any {
	var hi, lo uint64
	for i := range b {
		c := b[len(b)-1-i]
		if big {
			c = b[i]
		}
		hi = hi<<8 | lo>>56
		lo = lo<<8 | uint64(c)
	}
	if hi == 0 {
		return lo
	}
	return float64(hi)*math.Pow(2, 64) + float64(lo)
}

func asFloat(v any) float64 {
	switch n := v.(type) {
	case uint64:
		return float64(n)
	case float64:
		return n
	}
	return math.NaN()
}

// text reads ASCII padded with spaces; what cannot be printed becomes '?'.
func text(b []byte) string {
	out := make([]byte, len(b))
	for i, c := range b {
		switch {
		case c == 0:
			out[i] = ' '
		case c < 0x20 || c > 0x7E:
			out[i] = '?'
		default:
			out[i] = c
		}
	}
	return strings.TrimSpace(string(out))
}

// flags names the bits that are set.
func flags(v uint64, names map[int]string) []string {
	out := []string{}
	for i := range 64 {
		if v&(1<<i) != 0 {
			if names[i] == "" {
				out = append(out, fmt.Sprintf("bit %d", i))
			} else {
				out = append(out, names[i])
			}
		}
	}
	return out
}

var be = binary.BigEndian
var le = binary.LittleEndian
