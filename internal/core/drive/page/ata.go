package page

import (
	"errors"
	"fmt"

	"lantern/internal/core/drive"
)

var ataKinds = []Kind{
	{"ata-identify", "IDENTIFY DEVICE data: who the drive is and what it can do", "ACS-4 7.12.7", 512, false, identify},
	{"ata-smart-data", "SMART READ DATA: attributes, self-test status", "ACS-3 7.54.6", 512, false, smartData},
	{"ata-smart-thresholds", "SMART thresholds, one an attribute", "ATA-3 7.6", 512, false, smartThresholds},
	{"ata-selftest-log", "SMART self-test log, log address 06h", "ACS-3 A.18", 512, false, selfTestLog},
	{
		"ata-extended-selftest-log",
		"extended self-test log, log address 07h",
		"ACS-4 9.10",
		512,
		false,
		extendedSelfTestLog,
	},
	{"ata-error-log", "summary SMART error log, log address 01h", "ACS-3 A.16", 512, false, errorLog},
	{
		"ata-extended-error-log",
		"extended comprehensive SMART error log, log address 03h",
		"ACS-4 9.7",
		512,
		false,
		extendedErrorLog,
	},
	{
		"ata-device-statistics",
		"device statistics, log address 04h, one page of it",
		"ACS-4 9.5",
		512,
		false,
		deviceStatistics,
	},
	{
		"ata-sct-status",
		"SCT status, log address E0h: temperatures now, least and most",
		"ACS-4 8.4",
		512,
		false,
		sctStatus,
	},
}

// believe records why a page is not valid.
func (p *Page) believe(err error) bool {
	var bad *drive.Unreadable
	if errors.As(err, &bad) {
		p.wrong("%s", bad.Why)
		return false
	}
	return err == nil
}

// summed checks every page of 512 bytes: all bytes of each add up to zero.
func (p *Page) summed(b []byte) {
	for n := 0; 512*(n+1) <= len(b); n++ {
		var s byte
		for _, c := range b[512*n:][:512] {
			s += c
		}
		where := ""
		if len(b) > 512 {
			where = fmt.Sprintf("page %d: ", n+1)
		}
		if s != 0 {
			p.wrong("%schecksum is wrong: the bytes add up to %02Xh instead of 00h", where, s)
		}
	}
	if rest := len(b) % 512; rest != 0 {
		p.wrong("%d bytes are left over after whole pages of 512", rest)
	}
}

func identify(p *Page, b []byte) {
	d, err := drive.DecodeIdentify(b[:512])
	p.believe(err)
	p.add("serial number", d.Serial)
	p.add("firmware revision", d.Firmware)
	p.add("model number", d.Model)
	p.add("world wide name", d.WWN)
	p.add("capacity", uint64(d.Capacity), "B")
	p.add("logical sector size", uint64(d.LogicalSector), "B")
	p.add("physical sector size", uint64(d.PhysicalSector), "B")
	p.add("medium", string(d.Medium))
	p.add("nominal media rotation rate", d.RotationRPM, "rpm")
	p.add("nominal form factor", d.FormFactor)
	p.add("SMART supported", d.SMARTSupported)
	p.add("SMART enabled", d.SMARTEnabled)
	p.add("self-test supported", d.SelfTests)
	w := func(n int) uint16 { return le.Uint16(b[2*n:]) }
	p.add("general purpose logging supported", d.GeneralLogs)
	p.add("sanitize supported", w(59)&(1<<12) != 0)
	p.add("SCT command transport supported", w(206)&1 != 0)
	p.add("queue depth", int(w(75)&0x1F)+1)
	p.add("integrity word", fmt.Sprintf("%04Xh", w(255)))
}

func smartData(p *Page, b []byte) {
	s, err := drive.DecodeSmartData(b[:512])
	if !p.believe(err) {
		// What can be read is still shown, for study; no metric is taken from it.
		repaired := append([]byte(nil), b[:512]...)
		var sum byte
		for _, c := range repaired[:511] {
			sum += c
		}
		repaired[511] = -sum
		if s, err = drive.DecodeSmartData(repaired); err != nil {
			return
		}
	}
	p.add("revision", s.Revision)
	for _, a := range s.Attributes {
		name, _, known := drive.MetricOf(a)
		what := fmt.Sprintf("attribute %d", a.ID)
		if known {
			what += " (" + string(name) + ")"
		}
		if m, ok := drive.MetricByName(name); ok {
			if _, v, _ := drive.MetricOf(a); m.Implausible(v) != "" {
				what += ", not believed: " + m.Implausible(v)
			}
		}
		p.add(
			what,
			map[string]any{
				"flags":      fmt.Sprintf("%04Xh", a.Flags),
				"prefailure": a.Prefailure(),
				"value":      a.Value,
				"worst":      a.Worst,
				"raw":        a.Raw,
				"raw bytes":  fmt.Sprintf("%012Xh", a.Raw),
			},
		)
	}
	p.add("self-test execution status", s.SelfTestStatus)
	p.add("self-test remaining", s.SelfTestRemaining, "%")
	p.add("self-test implemented", s.SelfTests)
	p.add("error logging supported", s.ErrorLog)
	p.add("offline data collection time", uint64(le.Uint16(b[364:])), "s")
	p.add("short self-test polling time", s.ShortMinutes, "min")
	p.add("extended self-test polling time", s.ExtendedMinutes, "min")
	p.add("conveyance self-test polling time", uint64(b[374]), "min")
	if len(p.Wrong) == 0 {
		for n, v := range drive.Metrics(s.Attributes) {
			p.feed(n, v)
		}
	}
}

func smartThresholds(p *Page, b []byte) {
	p.summed(b)
	for i := range 30 {
		if e := b[2+12*i:]; e[0] != 0 {
			p.add(fmt.Sprintf("attribute %d", e[0]), uint64(e[1]))
		}
	}
}

func (p *Page) selfTests(tests []drive.SelfTest) {
	p.Tests = tests
	for i, t := range tests {
		v := map[string]any{
			"test":           string(t.Kind),
			"result":         string(t.Result),
			"power-on hours": t.Hours,
			"status byte":    fmt.Sprintf("%02Xh", t.Status),
		}
		if t.LBA >= 0 {
			v["failing LBA"] = t.LBA
		}
		p.add(fmt.Sprintf("entry %d", i+1), v)
	}
}

func selfTestLog(p *Page, b []byte) {
	tests, err := drive.DecodeSelfTestLog(b[:512])
	p.believe(err)
	p.add("revision", uint64(le.Uint16(b)))
	p.add("index", uint64(b[508]))
	p.selfTests(tests)
}

// extendedSelfTestLog: pages of 512 bytes, 19 entries of 26 bytes each from byte 4; the index of the newest in bytes 2
// and 3 of the first.
func extendedSelfTestLog(p *Page, b []byte) {
	p.summed(b)
	index := int(le.Uint16(b[2:]))
	pages := len(b) / 512
	p.add("version", uint64(b[0]))
	p.add("index", index)
	if index > 19*pages {
		p.wrong("its index says entry %d of %d", index, 19*pages)
		return
	}
	var tests []drive.SelfTest
	for n := 0; n < 19*pages && index > 0; n++ {
		i := (index - 1 - n + 19*pages) % (19 * pages)
		e := b[512*(i/19)+4+26*(i%19):]
		if e[0] == 0 && e[1] == 0 && le.Uint16(e[2:]) == 0 {
			continue
		}
		t := drive.NewSelfTest(e[0], e[1], int(le.Uint16(e[2:])))
		lba := uint64(le.Uint32(e[5:])) | uint64(le.Uint16(e[9:]))<<32
		if t.Result == drive.SelfTestFailed && lba != 1<<48-1 {
			t.LBA = int64(lba)
		}
		tests = append(tests, t)
	}
	p.selfTests(tests)
}

var (
	errorBits   = map[int]string{2: "aborted", 4: "address not found", 6: "uncorrectable", 7: "interface CRC"}
	errorStates = map[byte]string{
		0: "unknown",
		1: "sleep",
		2: "standby",
		3: "active or idle",
		4: "executing a self-test",
	}
)

// extendedErrorLog: pages of 512 bytes, four entries of 124 bytes each from byte 4: five commands of 18 bytes, then 34
// bytes of the error itself.
func extendedErrorLog(p *Page, b []byte) {
	p.summed(b)
	index, entries := int(le.Uint16(b[2:])), 4*(len(b)/512)
	p.add("version", uint64(b[0]))
	p.add("index", index)
	p.add("device error count", uint64(le.Uint16(b[500:])), "errors")
	if len(p.Wrong) == 0 {
		p.feed("logged_errors", float64(le.Uint16(b[500:])))
	}
	for n := 0; n < entries && index > 0; n++ {
		i := index - 1 - n
		if i < 0 || i >= entries {
			continue // on a page that was not captured, or round the end
		}
		e := b[512*(i/4)+4+124*(i%4):]
		command, bad := e[18*4:], e[90:]
		if le.Uint16(bad[32:]) == 0 && bad[1] == 0 && bad[11] == 0 {
			continue
		}
		p.add(
			fmt.Sprintf("error %d", n+1),
			map[string]any{
				"error register": flags(uint64(bad[1]), errorBits),
				"status":         fmt.Sprintf("%02Xh", bad[11]),
				"LBA": uint64(
					bad[4],
				) | uint64(
					bad[6],
				)<<8 | uint64(
					bad[8],
				)<<16 | uint64(
					bad[5],
				)<<24 | uint64(
					bad[7],
				)<<32 | uint64(
					bad[9],
				)<<40,
				"command": fmt.Sprintf(
					"%02Xh",
					command[12],
				),
				"state":          errorStates[bad[31]&0xF],
				"power-on hours": le.Uint16(bad[32:]),
			},
		)
	}
}

func errorLog(p *Page, b []byte) {
	p.summed(b)
	p.add("version", uint64(b[0]))
	p.add("index", uint64(b[1]))
	p.add("device error count", uint64(le.Uint16(b[452:])), "errors")
	if len(p.Wrong) == 0 {
		p.feed("logged_errors", float64(le.Uint16(b[452:])))
	}
	if b[1] > 5 {
		p.wrong("its index says entry %d of 5", b[1])
		return
	}
	for n := range 5 {
		if b[1] == 0 {
			break
		}
		i := (int(b[1]) - 1 - n + 5) % 5
		e := b[2+90*i:]
		if le.Uint16(e[88:]) == 0 && e[61] == 0 && e[67] == 0 {
			continue
		}
		p.add(fmt.Sprintf("error %d", n+1), map[string]any{
			"error register": flags(uint64(e[61]), errorBits),
			"status": fmt.Sprintf(
				"%02Xh",
				e[67],
			),
			"LBA": uint64(e[63]) | uint64(e[64])<<8 | uint64(e[65])<<16 | uint64(e[66]&0xF)<<24,
			"command": fmt.Sprintf(
				"%02Xh",
				e[12*4+7],
			),
			"state":          errorStates[e[87]&0xF],
			"power-on hours": le.Uint16(e[88:]),
		})
	}
}

// statistic is one of the device statistics: eight bytes; the last one holds the flags that say whether the value is
// valid.
type statistic struct {
	name  string
	at    int
	size  int
	unit  string
	feeds drive.MetricName
	scale float64
}

var statisticPages = map[byte]struct {
	title string
	of    []statistic
}{
	1: {
		"general statistics",
		[]statistic{
			{"lifetime power-on resets", 8, 4, "resets", "power_cycles", 1},
			{"power-on hours", 16, 4, "h", "power_on_hours", 1},
			{"logical sectors written", 24, 6, "sectors", "bytes_written", 512},
			{
				"number of write commands",
				32,
				6,
				"commands",
				"",
				0,
			},
			{"logical sectors read", 40, 6, "sectors", "bytes_read", 512},
			{"number of read commands", 48, 6, "commands", "", 0},
		},
	},
	3: {
		"rotating media statistics",
		[]statistic{
			{"spindle motor power-on hours", 8, 4, "h", "", 0},
			{"head flying hours", 16, 4, "h", "head_flying_hours", 1},
			{"head load events", 24, 4, "events", "load_cycles", 1},
			{
				"reallocated logical sectors",
				32,
				4,
				"sectors",
				"reallocated_sectors",
				1,
			},
			{"read recovery attempts", 40, 4, "attempts", "", 0},
			{"mechanical start failures", 48, 4, "failures", "spin_retries", 1},
			{
				"reallocation candidate logical sectors",
				56,
				4,
				"sectors",
				"pending_sectors",
				1,
			},
			{"high priority unload events", 64, 4, "events", "", 0},
		},
	},
	4: {
		"general errors statistics",
		[]statistic{
			{"reported uncorrectable errors", 8, 4, "errors", "reported_uncorrectable_errors", 1},
			{"resets between command acceptance and completion", 16, 4, "resets", "", 0},
		},
	},
	5: {
		"temperature statistics",
		[]statistic{
			{"current temperature", 8, 1, "°C", "temperature_celsius", 1},
			{"average short term temperature", 16, 1, "°C", "", 0},
			{"average long term temperature", 24, 1, "°C", "", 0},
			{
				"highest temperature",
				32,
				1,
				"°C",
				"",
				0,
			},
			{"lowest temperature", 40, 1, "°C", "", 0},
			{"time in over-temperature", 80, 4, "min", "", 0},
			{"specified maximum operating temperature", 88, 1, "°C", "temperature_limit_celsius", 1},
			{"specified minimum operating temperature", 104, 1, "°C", "", 0},
		},
	},
	6: {
		"transport statistics",
		[]statistic{
			{"number of hardware resets", 8, 4, "resets", "", 0},
			{"number of ASR events", 16, 4, "events", "", 0},
			{"number of interface CRC errors", 24, 4, "errors", "link_crc_errors", 1},
		},
	},
	7: {
		"solid state device statistics",
		[]statistic{{"percentage used endurance indicator", 8, 1, "%", "wear_used_percent", 1}},
	},
}

func deviceStatistics(p *Page, b []byte) {
	nth := b[2]
	p.add("revision", uint64(le.Uint16(b)))
	p.add("page number", uint64(nth))
	if nth == 0 {
		var list []int
		for i := range min(int(b[8]), 200) {
			list = append(list, int(b[9+i]))
		}
		p.add("supported pages", list)
		return
	}
	sp, known := statisticPages[nth]
	if !known {
		p.wrong("unknown page %02Xh of the device statistics", nth)
		return
	}
	p.add("page", sp.title)
	for _, s := range sp.of {
		valid := b[s.at+7]
		if valid&0x80 == 0 {
			continue // not supported
		}
		if valid&0x40 == 0 {
			p.add(s.name, "not valid")
			continue
		}
		v := asFloat(number(b[s.at:s.at+s.size], false))
		if s.unit == "°C" {
			v = float64(int8(b[s.at]))
		}
		p.add(s.name, v, s.unit)
		if s.feeds != "" {
			p.feed(s.feeds, v*s.scale)
		}
	}
}

func sctStatus(p *Page, b []byte) {
	p.numbers(
		b,
		false,
		[]slot{
			{name: "format version", at: 0, size: 2},
			{name: "SCT version", at: 2, size: 2},
			{name: "status flags", at: 6, size: 4},
			{name: "device state", at: 10, size: 1},
			{name: "extended status code", at: 14, size: 2},
		},
	)
	for _, t := range []struct {
		name string
		at   int
	}{{"current temperature", 200}, {"least temperature of this power cycle", 201}, {"most temperature of this " +
		"power cycle", 202}, {"least temperature ever", 203}, {"most temperature ever", 204}} {
		if b[t.at] == 0x80 {
			p.add(t.name, "not valid")
			continue
		}
		p.add(t.name, int(int8(b[t.at])), "°C")
		if t.at == 200 {
			p.feed("temperature_celsius", float64(int8(b[t.at])))
		}
	}
	p.numbers(
		b,
		false,
		[]slot{
			{name: "over limit count", at: 206, size: 4, unit: "samples"},
			{name: "under limit count", at: 210, size: 4, unit: "samples"},
		},
	)
	if v := le.Uint16(b); v != 2 && v != 3 {
		p.wrong("its format version is %d, not 2 or 3", v)
	}
}
