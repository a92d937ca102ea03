package page

import (
	"fmt"
	"strings"

	"lantern/internal/core/drive"
)

var nvmeKinds = []Kind{
	{"nvme-controller", "identify controller data structure, CNS 01h", "NVMe 2.0 5.17.2.1", 520, false, controller},
	{"nvme-namespace", "identify namespace data structure, CNS 00h", "NVMe 2.0 5.17.2.2", 192, false, namespace},
	{"nvme-health", "SMART / health information log, page 02h", "NVMe 2.0 5.16.1.3", 512, false, health},
	{"nvme-selftest-log", "device self-test log, page 06h", "NVMe 2.0 5.16.1.7", 564, false, nvmeSelfTests},
	{"nvme-endurance-log", "endurance group information log, page 09h", "NVMe 2.0 5.16.1.10", 512, true, endurance},
	{"nvme-error-log", "error information log, page 01h", "NVMe 2.0 5.16.1.2", 64, true, nvmeErrors},
}

func controller(p *Page, b []byte) {
	p.add("serial number", text(b[4:24]))
	p.add("model number", text(b[24:64]))
	p.add("firmware revision", text(b[64:72]))
	v := le.Uint32(b[80:])
	p.add("version", fmt.Sprintf("%d.%d.%d", v>>16, v>>8&0xFF, v&0xFF))
	p.add("device self-test supported", b[256]&(1<<4) != 0)
	p.add(
		"sanitize",
		flags(uint64(le.Uint32(b[328:])&7), map[int]string{0: "crypto erase", 1: "block erase", 2: "overwrite"}),
	)
	p.numbers(
		b,
		false,
		[]slot{
			{name: "warning composite temperature threshold", at: 266, size: 2, unit: "K"},
			{name: "critical composite temperature threshold", at: 268, size: 2, unit: "K"},
			{
				name: "total NVM capacity",
				at:   280,
				size: 16,
				unit: "B",
			},
			{name: "unallocated NVM capacity", at: 296, size: 16, unit: "B"},
			{
				name: "extended device self-test time",
				at:   316,
				size: 2,
				unit: "min",
			},
			{name: "number of namespaces", at: 516, size: 4},
		},
	)
	if t := le.Uint16(b[266:]); t > kelvin { // zero: not reported
		p.feed("temperature_limit_celsius", float64(t)-kelvin)
	}
	if text(b[4:24]) == "" {
		p.wrong("it names no serial number")
	}
}

func namespace(p *Page, b []byte) {
	formats := int(b[25]) + 1
	in := int(b[26] & 0xF)
	if in >= formats {
		p.wrong("it is formatted by entry %d of %d", in, formats)
		return
	}
	block := uint64(1) << (b[128+4*in+2] & 0x3F)
	if b[128+4*in+2] < 9 || b[128+4*in+2] > 20 {
		p.wrong("its blocks are 2^%d bytes", b[128+4*in+2])
	}
	p.add("logical block size", block, "B")
	p.add("metadata size", uint64(le.Uint16(b[128+4*in:])), "B")
	p.numbers(
		b,
		false,
		[]slot{
			{name: "namespace size", at: 0, size: 8, unit: "blocks"},
			{name: "namespace capacity", at: 8, size: 8, unit: "blocks"},
			{name: "namespace utilisation", at: 16, size: 8, unit: "blocks"},
		},
	)
	p.add("capacity", asFloat(le.Uint64(b))*float64(block), "B")
	if id := fmt.Sprintf("%x", b[104:120]); strings.Trim(id, "0") != "" {
		p.add("NGUID", id)
	}
	if id := fmt.Sprintf("%x", b[120:128]); strings.Trim(id, "0") != "" {
		p.add("EUI-64", id)
	}
}

// kelvin is subtracted from a composite temperature to get degrees Celsius.
const kelvin = 273

// dataUnit is what the data units of the health log count: thousands of 512-byte blocks.
const dataUnit = 512_000

func health(p *Page, b []byte) {
	p.add(
		"critical warning",
		flags(
			uint64(b[0]),
			map[int]string{
				0: "spare below threshold",
				1: "temperature",
				2: "reliability degraded",
				3: "read only",
				4: "volatile memory backup failed",
				5: "persistent memory unreliable",
			},
		),
	)
	p.numbers(b, false, []slot{
		{
			"composite temperature",
			1,
			2,
			"K",
			"temperature_celsius",
			1,
			kelvin,
		},
		{"available spare", 3, 1, "%", "spare_available_percent", 0, 0},
		{"available spare threshold", 4, 1, "%", "", 0, 0},
		{
			"percentage used",
			5,
			1,
			"%",
			"wear_used_percent",
			0,
			0,
		},
		{"data units read", 32, 16, "× 512,000 B", "bytes_read", dataUnit, 0},
		{"data units written", 48, 16, "× 512,000 B", "bytes_written", dataUnit, 0},
		{
			"host read commands",
			64,
			16,
			"commands",
			"",
			0,
			0,
		},
		{"host write commands", 80, 16, "commands", "", 0, 0},
		{"controller busy time", 96, 16, "min", "", 0, 0},
		{
			"power cycles",
			112,
			16,
			"cycles",
			"power_cycles",
			0,
			0,
		},
		{"power on hours", 128, 16, "h", "power_on_hours", 0, 0},
		{"unsafe shutdowns", 144, 16, "shutdowns", "unsafe_shutdowns", 0, 0},
		{
			"media and data integrity errors",
			160,
			16,
			"errors",
			"media_errors",
			0,
			0,
		},
		{"number of error information log entries", 176, 16, "entries", "logged_errors", 0, 0},
		{
			"warning composite temperature time",
			192,
			4,
			"min",
			"",
			0,
			0,
		},
		{"critical composite temperature time", 196, 4, "min", "", 0, 0},
	})
	for i := range 8 {
		if t := le.Uint16(b[200+2*i:]); t != 0 {
			p.add(fmt.Sprintf("temperature sensor %d", i+1), uint64(t), "K")
		}
	}
	if t := le.Uint16(b[1:]); t == 0 {
		delete(p.Metrics, "temperature_celsius") // not reported
	}
	if b[3] > 100 {
		p.wrong("it says that %d %% of its spare is available", b[3])
	}
	if b[3] == 0 && b[4] == 0 { // no spare and no threshold: the drive does not count them
		delete(p.Metrics, "spare_available_percent")
	}
}

func nvmeSelfTests(p *Page, b []byte) {
	p.add("current operation", map[byte]string{0: "none", 1: "short", 2: "extended", 14: "vendor specific"}[b[0]&0xF])
	p.add("completion", uint64(b[1]&0x7F), "%")
	results := map[byte]string{
		0: "passed",
		1: "aborted by a command",
		2: "aborted by a reset",
		3: "aborted, namespace removed",
		4: "aborted by a format",
		5: "failed, fatal or unknown",
		6: "failed, segment unknown",
		7: "failed",
		8: "aborted, unknown reason",
		9: "aborted by sanitize",
	}
	for i := range 20 {
		e := b[4+28*i:]
		if e[0]&0xF == 0xF {
			continue // not used
		}
		v := map[string]any{
			"test":           map[byte]string{1: "short", 2: "extended", 14: "vendor specific"}[e[0]>>4],
			"result":         results[e[0]&0xF],
			"power-on hours": le.Uint64(e[4:]),
		}
		if e[2]&2 != 0 {
			v["failing LBA"] = le.Uint64(e[16:])
		}
		if e[0]&0xF == 7 {
			v["segment"] = e[1]
		}
		p.add(fmt.Sprintf("result %d", i+1), v)
		p.Tests = append(p.Tests, drive.NewNVMeSelfTest(e[:28]))
	}
}

func endurance(p *Page, b []byte) {
	p.add(
		"critical warning",
		flags(uint64(b[0]), map[int]string{0: "spare below threshold", 2: "reliability degraded", 3: "read only"}),
	)
	p.numbers(b, false, []slot{
		{
			"available spare",
			3,
			1,
			"%",
			"spare_available_percent",
			0,
			0,
		},
		{"available spare threshold", 4, 1, "%", "", 0, 0},
		{"percentage used", 5, 1, "%", "wear_used_percent", 0, 0},
		{
			"endurance estimate",
			32,
			16,
			"× 10⁹ B",
			"",
			0,
			0,
		},
		{"data units read", 48, 16, "× 10⁹ B", "", 0, 0},
		{"data units written", 64, 16, "× 10⁹ B", "", 0, 0},
		{"media units written", 80, 16, "× 10⁹ B", "", 0, 0},
		{
			"host read commands",
			96,
			16,
			"commands",
			"",
			0,
			0,
		},
		{"host write commands", 112, 16, "commands", "", 0, 0},
		{"media and data integrity errors", 128, 16, "errors", "media_errors", 0, 0},
		{"number of error information log entries", 144, 16, "entries", "", 0, 0},
	})
	if b[3] > 100 {
		p.wrong("it says that %d %% of its spare is available", b[3])
	}
	if b[3] == 0 && b[4] == 0 {
		delete(p.Metrics, "spare_available_percent")
	}
}

func nvmeErrors(p *Page, b []byte) {
	for i := 0; 64*(i+1) <= len(b); i++ {
		e := b[64*i:]
		if le.Uint64(e) == 0 {
			continue // not used
		}
		p.add(
			fmt.Sprintf("entry %d", i+1),
			map[string]any{
				"error count": le.Uint64(e),
				"queue":       le.Uint16(e[8:]),
				"command":     le.Uint16(e[10:]),
				"status":      fmt.Sprintf("%04Xh", le.Uint16(e[12:])>>1),
				"LBA":         le.Uint64(e[16:]),
				"namespace":   le.Uint32(e[24:]),
			},
		)
	}
	if len(b)%64 != 0 {
		p.wrong("%d bytes are left over", len(b)%64)
	}
}
