package page

import (
	"fmt"
	"math/bits"

	"lantern/internal/core/drive"
)

var scsiKinds = []Kind{
	{"scsi-inquiry", "standard INQUIRY data", "SPC-5 6.7.2", 36, false, inquiry},
	{"scsi-vpd", "vital product data: pages 00h, 80h, 83h, B1h, B2h", "SPC-5 7.7, SBC-4 6.6", 4, false, vpd},
	{
		"scsi-log",
		"LOG SENSE: pages 00h, 02h, 03h, 05h, 06h, 0Dh, 0Eh, 10h, 11h, 15h, 2Fh",
		"SPC-5 7.3, SBC-4 6.4",
		4,
		false,
		logPage,
	},
	{"scsi-sense", "sense data, fixed or descriptor format", "SPC-5 4.4", 8, false, sense},
	{"scsi-capacity", "READ CAPACITY (16) parameter data", "SBC-4 5.21.2", 32, false, capacity16},
	{"scsi-defects", "READ DEFECT DATA (12) header: number of grown defects", "SBC-4 5.19", 8, true, defects},
}

var deviceTypes = map[byte]string{
	0x00: "direct access block device",
	0x05: "optical device",
	0x0D: "enclosure services device",
	0x0E: "simplified direct access device",
	0x14: "host managed zoned block device",
}

func inquiry(p *Page, b []byte) {
	p.add("peripheral qualifier", uint64(b[0]>>5))
	p.add("peripheral device type", deviceTypes[b[0]&0x1F])
	p.add("removable medium", b[1]&0x80 != 0)
	p.add("version", uint64(b[2]))
	p.add("response data format", uint64(b[3]&0xF))
	p.add("additional length", uint64(b[4]), "B")
	p.add("vendor identification", text(b[8:16]))
	p.add("product identification", text(b[16:32]))
	p.add("product revision level", text(b[32:36]))
	if b[3]&0xF != 2 {
		p.wrong("its response data format is %d, not 2", b[3]&0xF)
	}
}

var designators = map[byte]string{
	0:  "vendor specific",
	1:  "T10 vendor",
	2:  "EUI-64",
	3:  "NAA",
	4:  "relative target port",
	5:  "target port group",
	6:  "logical unit group",
	8:  "SCSI name",
	10: "UUID",
}

func vpd(p *Page, b []byte) {
	code, size := b[1], int(be.Uint16(b[2:]))
	p.add("page code", fmt.Sprintf("%02Xh", code))
	p.add("page length", size, "B")
	body := b[4:]
	if size > len(body) {
		p.wrong("it says %d bytes and has %d", size, len(body))
		size = len(body)
	}
	body = body[:size]
	short := func(n int) bool {
		if len(body) < n {
			p.wrong("its page is shorter than the standard wants")
			return true
		}
		return false
	}
	switch code {
	case 0x00:
		var list []string
		for _, c := range body {
			list = append(list, fmt.Sprintf("%02Xh", c))
		}
		p.add("supported pages", list)
	case 0x80:
		p.add("unit serial number", text(body))
	case 0x83:
		for n := 1; len(body) >= 4; n++ {
			end := 4 + int(body[3])
			if end > len(body) {
				p.wrong("designator %d is cut off", n)
				return
			}
			kind, value := body[1]&0xF, body[4:end]
			v := map[string]any{
				"type":        designators[kind],
				"association": map[byte]string{0: "logical unit", 1: "target port", 2: "target device"}[body[1]>>4&3],
			}
			if body[0]&0xF == 1 { // binary
				v["value"] = fmt.Sprintf("%x", value)
			} else {
				v["value"] = text(value)
			}
			p.add(fmt.Sprintf("designator %d", n), v)
			body = body[end:]
		}
	case 0x86:
		if short(8) {
			return
		}
		p.add("extended self-test completion time", uint64(be.Uint16(body[6:])), "min")
	case 0xB1:
		if short(5) {
			return
		}
		switch rate := be.Uint16(body); {
		case rate == 1:
			p.add("medium", string(drive.MediumSolidState))
		case rate >= 0x0401 && rate < 0xFFFF:
			p.add("medium", string(drive.MediumRotating))
			p.add("medium rotation rate", uint64(rate), "rpm")
		default:
			p.add("medium", string(drive.MediumUnknown))
		}
		p.add(
			"nominal form factor",
			map[byte]string{1: "5.25 inch", 2: "3.5 inch", 3: "2.5 inch", 4: "1.8 inch", 5: "under 1.8 inch"}[body[3]&0xF],
		)
	case 0xB2:
		if short(4) {
			return
		}
		p.add("threshold exponent", uint64(body[0]))
		p.add("UNMAP supported", body[1]&0x80 != 0)
		p.add("WRITE SAME (16) unmaps", body[1]&0x40 != 0)
		p.add("WRITE SAME (10) unmaps", body[1]&0x20 != 0)
		p.add("provisioning type", map[byte]string{0: "not told", 1: "resource", 2: "thin"}[body[2]&7])
	default:
		p.wrong("unknown page %02Xh of the vital product data", code)
	}
}

// parameter is one parameter of a log page: its code and its value.
type parameter struct {
	code  uint16
	value []byte
}

func (p *Page) parameters(body []byte) (out []parameter) {
	for len(body) >= 4 {
		end := 4 + int(body[3])
		if end > len(body) {
			p.wrong("parameter %04Xh is cut off", be.Uint16(body))
			return out
		}
		out = append(out, parameter{be.Uint16(body), body[4:end]})
		body = body[end:]
	}
	if len(body) > 0 {
		p.wrong("%d bytes are left over", len(body))
	}
	return out
}

// errorCounters are the parameters of pages 02h, 03h and 05h (SPC-5 7.3.8).
var errorCounters = []string{
	"errors corrected without substantial delay",
	"errors corrected with possible delays",
	"total rewrites or rereads",
	"total errors corrected",
	"total times correction algorithm processed",
	"total bytes processed",
	"total uncorrected errors",
}

var counterPages = map[byte]struct {
	title       string
	uncorrected drive.MetricName
	bytes       drive.MetricName
}{
	0x02: {"write error counters", "uncorrected_write_errors", "bytes_written"},
	0x03: {"read error counters", "uncorrected_read_errors", "bytes_read"},
	0x05: {"verify error counters", "uncorrected_verify_errors", ""},
}

func logPage(p *Page, b []byte) {
	code, size := b[0]&0x3F, int(be.Uint16(b[2:]))
	p.add("page code", fmt.Sprintf("%02Xh", code))
	p.add("subpage code", fmt.Sprintf("%02Xh", b[1]))
	p.add("saved", b[0]&0x80 == 0)
	body := b[4:]
	if size > len(body) {
		p.wrong("it says %d bytes and has %d", size, len(body))
		size = len(body)
	}
	body = body[:size]
	if code == 0 {
		var list []string
		for _, c := range body {
			list = append(list, fmt.Sprintf("%02Xh", c&0x3F))
		}
		p.add("supported pages", list)
		return
	}
	decode, known := logPages[code]
	if c, counters := counterPages[code]; counters {
		p.add("page", c.title)
		for _, q := range p.parameters(body) {
			if len(q.value) > 16 || int(q.code) >= len(errorCounters) {
				p.add(fmt.Sprintf("parameter %04Xh", q.code), fmt.Sprintf("%x", q.value))
				continue
			}
			v := number(q.value, true)
			p.add(errorCounters[q.code], v, map[bool]string{true: "B", false: "errors"}[q.code == 5])
			if q.code == 6 {
				p.feed(c.uncorrected, asFloat(v))
			} else if q.code == 5 && c.bytes != "" {
				p.feed(c.bytes, asFloat(v))
			}
		}
		return
	}
	if !known {
		p.wrong("unknown log page %02Xh", code)
		return
	}
	p.add("page", decode.title)
	for _, q := range p.parameters(body) {
		if len(q.value) < decode.least {
			p.wrong("parameter %04Xh has %d bytes, at least %d are due", q.code, len(q.value), decode.least)
			continue
		}
		decode.one(p, q)
	}
}

var logPages = map[byte]struct {
	title string
	least int
	one   func(*Page, parameter)
}{
	0x06: {"non-medium errors", 1, func(p *Page, q parameter) {
		if q.code == 0 && len(q.value) <= 16 {
			v := number(q.value, true)
			p.add("non-medium error count", v, "errors")
			p.feed("non_medium_errors", asFloat(v))
		}
	}},
	0x0D: {"temperature", 2, func(p *Page, q parameter) {
		name := map[uint16]string{0: "temperature", 1: "reference temperature"}[q.code]
		if name == "" {
			return
		}
		if q.value[1] == 0xFF {
			p.add(name, "not told")
			return
		}
		p.add(name, uint64(q.value[1]), "°C")
		p.feed(
			map[uint16]drive.MetricName{0: "temperature_celsius", 1: "temperature_limit_celsius"}[q.code],
			float64(q.value[1]),
		)
	}},
	0x0E: {"start-stop cycle counter", 4, func(p *Page, q parameter) {
		switch q.code {
		case 1, 2:
			p.add(
				map[uint16]string{1: "date of manufacture", 2: "accounting date"}[q.code],
				text(q.value[:4])+" week "+text(q.value[4:]),
			)
		case 3, 4, 5, 6:
			v := float64(be.Uint32(q.value))
			p.add(
				[]string{"specified cycle count over device lifetime", "accumulated " +
					"start-stop cycles", "specified load-unload count over device lifetime", "accumulated " +
					"load-unload cycles"}[q.code-3],
				v,
				"cycles",
			)
			if m := map[uint16]drive.MetricName{4: "start_stops", 6: "load_cycles"}[q.code]; m != "" {
				p.feed(m, v)
			}
		}
	}},
	0x10: {"self-test results", 16, func(p *Page, q parameter) {
		v := q.value
		if be.Uint16(v[2:]) == 0 && v[0] == 0 && be.Uint64(v[4:]) == 0 {
			return // never used
		}
		results := map[byte]string{
			0:  "passed",
			1:  "aborted by SEND DIAGNOSTIC",
			2:  "aborted by other means",
			3:  "could not run",
			4:  "failed, segment unknown",
			5:  "failed, first segment",
			6:  "failed, second segment",
			7:  "failed, another segment",
			15: "running",
		}
		entry := map[string]any{
			"test": map[byte]string{1: "background short", 2: "background " +
				"extended", 5: "foreground short", 6: "foreground extended"}[v[0]>>5],
			"result":         results[v[0]&0xF],
			"power-on hours": be.Uint16(v[2:]),
			"sense":          fmt.Sprintf("%X/%02X/%02X", v[12]&0xF, v[13], v[14]),
		}
		if lba := be.Uint64(v[4:]); lba != ^uint64(0) && v[0]&0xF >= 4 && v[0]&0xF <= 7 {
			entry["failing LBA"] = lba
		}
		p.Tests = append(p.Tests, drive.NewSCSISelfTest(v))
		p.add(fmt.Sprintf("result %d", q.code), entry)
	}},
	0x11: {"solid state media", 4, func(p *Page, q parameter) {
		if q.code == 1 {
			p.add("percentage used endurance indicator", uint64(q.value[3]), "%")
			p.feed("wear_used_percent", float64(q.value[3]))
		}
	}},
	0x15: {"background scan results", 12, func(p *Page, q parameter) {
		v := q.value
		if q.code == 0 {
			p.add("accumulated power on", uint64(be.Uint32(v)), "min")
			p.feed("power_on_hours", float64(be.Uint32(v)/60))
			p.feed("background_scan_findings", 0)
			p.add(
				"background scan status",
				map[byte]string{0: "none active", 1: "medium scan active", 2: "pre-scan active",
					3: "halted, fatal error", 4: "halted, vendor specific", 5: "halted, medium formatted",
					6: "halted, vendor specific cause", 7: "halted, temperature", 8: "waiting for its interval"}[v[5]],
			)
			p.add("background scans performed", uint64(be.Uint16(v[6:])))
			p.add("progress", 100*float64(be.Uint16(v[8:]))/65536, "%")
			return
		}
		if len(v) < 20 {
			p.wrong("parameter %04Xh has %d bytes, at least 20 are due", q.code, len(v))
			return
		}
		p.feed("background_scan_findings", p.Metrics["background_scan_findings"]+1)
		p.add(
			fmt.Sprintf("finding %d", q.code),
			map[string]any{
				"power-on minutes": be.Uint32(v),
				"reassign status":  v[4] >> 4,
				"sense":            fmt.Sprintf("%X/%02X/%02X", v[4]&0xF, v[5], v[6]),
				"LBA":              be.Uint64(v[12:]),
			},
		)
	}},
	0x2F: {"informational exceptions", 3, func(p *Page, q parameter) {
		if q.code != 0 {
			return
		}
		p.add("additional sense", fmt.Sprintf("%02X/%02X", q.value[0], q.value[1]))
		p.add("failure predicted", q.value[0] == 0x5D)
		if q.value[2] != 0xFF {
			p.add("most recent temperature", uint64(q.value[2]), "°C")
			p.feed("temperature_celsius", float64(q.value[2]))
		}
	}},
}

var senseKeys = []string{
	"no sense",
	"recovered error",
	"not ready",
	"medium error",
	"hardware error",
	"illegal request",
	"unit attention",
	"data protect",
	"blank check",
	"vendor specific",
	"copy aborted",
	"aborted command",
	"reserved",
	"volume overflow",
	"miscompare",
	"completed",
}

func sense(p *Page, b []byte) {
	kind := b[0] & 0x7F
	p.add("deferred", kind&1 == 1)
	progress := func(sks []byte) {
		if len(sks) >= 3 && sks[0]&0x80 != 0 {
			p.add("progress", 100*float64(be.Uint16(sks[1:]))/65536, "%")
		}
	}
	switch kind {
	case 0x70, 0x71:
		p.add("format", "fixed")
		p.add("sense key", senseKeys[b[2]&0xF])
		if b[0]&0x80 != 0 {
			p.add("information", uint64(be.Uint32(b[3:])))
		}
		if len(b) < 14 {
			p.wrong("it ends before its additional sense code")
			return
		}
		p.add("additional sense", fmt.Sprintf("%02X/%02X", b[12], b[13]))
		if len(b) >= 18 {
			progress(b[15:18])
		}
	case 0x72, 0x73:
		p.add("format", "descriptor")
		p.add("sense key", senseKeys[b[1]&0xF])
		p.add("additional sense", fmt.Sprintf("%02X/%02X", b[2], b[3]))
		rest := b[8:min(len(b), 8+int(b[7]))]
		for len(rest) >= 2 {
			end := 2 + int(rest[1])
			if end > len(rest) {
				p.wrong("descriptor %02Xh is cut off", rest[0])
				return
			}
			switch d := rest[:end]; {
			case d[0] == 0 && len(d) >= 12:
				p.add("information", be.Uint64(d[4:]))
			case d[0] == 2 && len(d) >= 7:
				progress(d[4:7])
			case d[0] == 9 && len(d) >= 14:
				p.add(
					"ATA registers",
					map[string]any{
						"status": fmt.Sprintf("%02Xh", d[13]),
						"error":  fmt.Sprintf("%02Xh", d[3]),
						"count":  d[5],
						"LBA":    fmt.Sprintf("%02X%02X%02Xh", d[11], d[9], d[7]),
					},
				)
			default:
				p.add(fmt.Sprintf("descriptor %02Xh", d[0]), fmt.Sprintf("%x", d[2:]))
			}
			rest = rest[end:]
		}
	default:
		p.wrong("its response code is %02Xh, none of 70h to 73h", kind)
	}
}

func capacity16(p *Page, b []byte) {
	lba, block := be.Uint64(b), uint64(be.Uint32(b[8:]))
	p.add("last logical block address", lba)
	p.add("logical block length", block, "B")
	if hi, size := bits.Mul64(lba+1, block); hi == 0 && lba != ^uint64(0) {
		p.add("capacity", size, "B")
	} else {
		p.wrong("its size does not fit 64 bits")
	}
	p.add("physical block length", block<<(b[13]&0xF), "B")
	p.add("protection type", map[bool]int{true: int(b[12]>>1&7) + 1}[b[12]&1 != 0])
	p.add("provisioning management", b[14]&0x80 != 0)
}

// defects: their number is the length of the list divided by the size of one descriptor of its format.
func defects(p *Page, b []byte) {
	size := map[byte]uint64{0: 4, 3: 8, 4: 8, 5: 8}[b[1]&7]
	length := uint64(be.Uint32(b[4:]))
	p.add("primary list", b[1]&0x10 != 0)
	p.add("grown list", b[1]&0x08 != 0)
	p.add("format", uint64(b[1]&7))
	p.add("list length", length, "B")
	if size == 0 {
		p.wrong("unknown descriptor format %d", b[1]&7)
		return
	}
	p.add("defects", length/size, "defects")
	if b[1]&0x18 == 0x08 {
		p.feed("grown_defects", float64(length/size))
	}
}
