package page

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
)

// laid lays bytes out by hand, from the standard: offset to bytes.
func laid(size int, parts map[int][]byte) []byte {
	b := make([]byte, size)
	for at, v := range parts {
		copy(b[at:], v)
	}
	return b
}

func field(t *testing.T, p Page, name string) any {
	t.Helper()
	for _, f := range p.Fields {
		if f.Name == name {
			return f.Value
		}
	}
	b, _ := json.MarshalIndent(p, "", " ")
	require.Fail(t, "no field "+name, string(b))
	return nil
}

func good(t *testing.T, kind string, b []byte) Page {
	t.Helper()
	p, err := Decode(kind, b)
	require.NoError(t, err)
	require.Empty(t, p.Wrong)
	_, err = json.Marshal(p)
	require.NoError(t, err)
	return p
}

type metrics = map[drive.MetricName]float64

func TestSCSI(t *testing.T) {
	// SPC-5 6.7.2, table 152.
	p := good(
		t,
		"scsi-inquiry",
		laid(
			36,
			map[int][]byte{
				0:  {0x00, 0x00, 0x07, 0x12, 0x5B},
				8:  []byte("OSSFELL "),
				16: []byte("OF-12T-S        "),
				32: []byte("B7A1"),
			},
		),
	)
	require.Equal(t, "OSSFELL", field(t, p, "vendor identification"))
	require.Equal(t, "direct access block device", field(t, p, "peripheral device type"))

	// SPC-5 7.7.3: a binary NAA designator of the logical unit, then an ASCII vendor one.
	p = good(
		t,
		"scsi-vpd",
		append(
			[]byte{0, 0x83, 0, 24, 0x01, 0x03, 0, 8, 0x50, 0x02, 0xAB, 0xE7, 0, 0, 0x12, 0x34},
			append([]byte{0x02, 0x01, 0, 8}, "OSSFELL "...)...),
	)
	require.Equal(
		t,
		map[string]any{"type": "NAA", "association": "logical unit", "value": "5002abe700001234"},
		field(t, p, "designator 1"),
	)
	require.Equal(
		t,
		"KH3AB123",
		field(t, good(t, "scsi-vpd", append([]byte{0, 0x80, 0, 10}, "KH3AB123  "...)), "unit serial number"),
	)
	p = good(t, "scsi-vpd", laid(64, map[int][]byte{1: {0xB1, 0, 0x3C, 0x1C, 0x20, 0, 0x02}}))
	require.Equal(t, uint64(7200), field(t, p, "medium rotation rate"))
	require.Equal(t, "3.5 inch", field(t, p, "nominal form factor"))
	p = good(t, "scsi-vpd", laid(8, map[int][]byte{1: {0xB2, 0, 4, 0, 0xE0, 2}}))
	require.Equal(t, true, field(t, p, "UNMAP supported"))

	// SBC-4 5.21.2: 2^33 blocks of 512 bytes, eight of them a physical one.
	p = good(
		t,
		"scsi-capacity",
		laid(32, map[int][]byte{3: {1, 0xFF, 0xFF, 0xFF, 0xFF}, 10: {2, 0}, 13: {3}, 14: {0x80}}),
	)
	require.Equal(t, uint64(1<<33*512), field(t, p, "capacity"))
	require.Equal(t, uint64(4096), field(t, p, "physical block length"))

	// SPC-5 7.3.8: read error counters with values of different lengths.
	p = good(
		t,
		"scsi-log",
		[]byte{0x03, 0, 0, 24, 0, 3, 0x02, 2, 0x01, 0x02, 0, 5, 0x02, 8, 0, 0, 0, 1, 0, 0, 0, 0, 0, 6, 0x02, 2, 0, 7},
	)
	require.Equal(t, metrics{"uncorrected_read_errors": 7, "bytes_read": 1 << 32}, p.Metrics)
	require.Equal(t, uint64(258), field(t, p, "total errors corrected"))
	p = good(t, "scsi-log", []byte{0x0D, 0, 0, 12, 0, 0, 3, 2, 0, 38, 0, 1, 3, 2, 0, 0xFF})
	require.Equal(t, metrics{"temperature_celsius": 38}, p.Metrics)
	require.Equal(t, "not told", field(t, p, "reference temperature"))
	p = good(t, "scsi-log", []byte{0x0E, 0, 0, 16, 0, 4, 3, 4, 0, 0, 0, 41, 0, 6, 3, 4, 0, 1, 0, 0})
	require.Equal(t, metrics{"start_stops": 41, "load_cycles": 65536}, p.Metrics)
	require.Equal(
		t,
		metrics{"non_medium_errors": 9},
		good(t, "scsi-log", []byte{0x06, 0, 0, 6, 0, 0, 3, 2, 0, 9}).Metrics,
	)
	require.Equal(
		t,
		metrics{"wear_used_percent": 12},
		good(t, "scsi-log", []byte{0x11, 0, 0, 8, 0, 1, 3, 4, 0, 0, 0, 12}).Metrics,
	)
	// SBC-4 6.4.2: status with 60,000 minutes, and one finding.
	p = good(
		t,
		"scsi-log",
		laid(
			4+16+24,
			map[int][]byte{
				0:  {0x15, 0, 0, 40, 0, 0, 3, 12, 0, 0, 0xEA, 0x60, 0, 8, 0, 3, 0x80, 0},
				20: {0, 1, 3, 20, 0, 0, 0x10, 0, 0x13, 0x11, 0x00},
				36: {0, 0, 0, 0, 0, 0, 0xAB, 0xCD},
			},
		),
	)
	require.Equal(t, metrics{"power_on_hours": 1000, "background_scan_findings": 1}, p.Metrics)
	require.Equal(t, "waiting for its interval", field(t, p, "background scan status"))
	require.Equal(t, uint64(0xABCD), field(t, p, "finding 1").(map[string]any)["LBA"])
	// SPC-5 7.3.20: an extended test that failed in its second segment.
	p = good(
		t,
		"scsi-log",
		laid(
			24,
			map[int][]byte{
				0: {0x10, 0, 0, 20, 0, 1, 3, 16, 0x46, 0, 0x13, 0x88, 0, 0, 0, 0, 0, 0, 0x12, 0x34, 0x03, 0x11, 0x00},
			},
		),
	)
	require.Equal(
		t,
		map[string]any{
			"test":           "background extended",
			"result":         "failed, second segment",
			"power-on hours": uint16(5000),
			"sense":          "3/11/00",
			"failing LBA":    uint64(0x1234),
		},
		field(t, p, "result 1"),
	)
	require.Equal(
		t,
		[]drive.SelfTest{{Kind: "extended", Result: "failed", Hours: 5000, LBA: 0x1234, Number: 2, Status: 6}},
		p.Tests,
	)
	require.Equal(
		t,
		true,
		field(t, good(t, "scsi-log", []byte{0x2F, 0, 0, 8, 0, 0, 3, 4, 0x5D, 0x10, 41, 0}), "failure predicted"),
	)
	require.Equal(t, metrics{"grown_defects": 5}, good(t, "scsi-defects", []byte{0, 0x0D, 0, 0, 0, 0, 0, 40}).Metrics)

	// SPC-5 4.4.3 fixed, with half of a self-test done; 4.4.2 descriptor.
	p = good(t, "scsi-sense", []byte{0xF0, 0, 2, 0, 0, 0, 9, 10, 0, 0, 0, 0, 4, 9, 0, 0x80, 0x80, 0})
	require.Equal(t, "not ready", field(t, p, "sense key"))
	require.Equal(t, 50.0, field(t, p, "progress"))
	p = good(t, "scsi-sense", []byte{0x72, 3, 0x11, 0, 0, 0, 0, 12, 0, 10, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 77})
	require.Equal(t, "medium error", field(t, p, "sense key"))
	require.Equal(t, uint64(77), field(t, p, "information"))
}

func TestNVMe(t *testing.T) {
	// NVMe 2.0 figure 207.
	b := laid(
		512,
		map[int][]byte{
			0:   {0x05, 0x3D, 0x01, 97, 10, 4},
			32:  {0x10, 0x27},
			48:  {0x01},
			112: {33},
			128: {0x45, 0x7B},
			144: {6},
			160: {2},
			176: {9},
			200: {0x40, 0x01},
		},
	)
	p := good(t, "nvme-health", b)
	require.Equal(
		t,
		metrics{
			"temperature_celsius":     44,
			"spare_available_percent": 97,
			"wear_used_percent":       4,
			"bytes_read":              10000 * 512000,
			"bytes_written":           512000,
			"power_cycles":            33,
			"power_on_hours":          31557,
			"unsafe_shutdowns":        6,
			"media_errors":            2,
			"logged_errors":           9,
		},
		p.Metrics,
	)
	require.Equal(t, []string{"spare below threshold", "reliability degraded"}, field(t, p, "critical warning"))
	b[3], b[4] = 0, 0
	require.NotContains(
		t,
		good(t, "nvme-health", b).Metrics,
		drive.MetricName("spare_available_percent"),
		"neither spare nor threshold: it does not tell",
	)
	b[32+9] = 1 // beyond 64 bits
	require.Greater(t, good(t, "nvme-health", b).Metrics["bytes_read"], 1e24)

	p = good(
		t,
		"nvme-controller",
		laid(
			4096,
			map[int][]byte{
				4:   []byte("TW7PL118            "),
				24:  []byte("TARNWICK TN960"),
				64:  []byte("ATN1"),
				80:  {0, 3, 1, 0},
				256: {0x10},
				266: {0x5B, 1},
				280: {0, 0, 0, 0, 0xE0},
				316: {20},
				328: {3},
				516: {1},
			},
		),
	)
	require.Equal(t, "TW7PL118", field(t, p, "serial number"))
	require.Equal(t, "1.3.0", field(t, p, "version"))
	require.Equal(t, metrics{"temperature_limit_celsius": 74}, p.Metrics)
	require.Equal(t, uint64(0xE000000000), field(t, p, "total NVM capacity"))
	require.Equal(t, true, field(t, p, "device self-test supported"))
	p = good(
		t,
		"nvme-namespace",
		laid(
			4096,
			map[int][]byte{
				0:   {0, 0, 1},
				25:  {1, 1},
				120: {0, 2, 0xAB, 0xE7, 0, 0, 0, 9},
				128: {0, 0, 9, 0, 0, 0, 12, 0},
			},
		),
	)
	require.Equal(t, uint64(4096), field(t, p, "logical block size"))
	require.Equal(t, "0002abe700000009", field(t, p, "EUI-64"))
	unused := make([]byte, 564)
	for i := range 20 {
		unused[4+28*i] = 0xF
	}
	copy(unused[4:], []byte{0x27, 3, 2, 0, 0x10, 0x27})
	unused[20] = 0x55
	p = good(t, "nvme-selftest-log", unused)
	require.Equal(
		t,
		map[string]any{
			"test":           "extended",
			"result":         "failed",
			"power-on hours": uint64(10000),
			"failing LBA":    uint64(0x55),
			"segment":        byte(3),
		},
		field(t, p, "result 1"),
	)
	require.Equal(
		t,
		[]drive.SelfTest{{Kind: "extended", Result: "failed", Hours: 10000, LBA: 0x55, Number: 2, Status: 7}},
		p.Tests,
	)
	p = good(t, "nvme-endurance-log", laid(512, map[int][]byte{0: {4, 0, 0, 88, 10, 7}, 32: {0x40}, 128: {3}}))
	require.Equal(t, metrics{"spare_available_percent": 88, "wear_used_percent": 7, "media_errors": 3}, p.Metrics)
	require.Equal(t, []string{"reliability degraded"}, field(t, p, "critical warning"))
	p = good(t, "nvme-error-log", laid(128, map[int][]byte{0: {3}, 8: {1, 0, 7, 0, 0x05, 0x02}, 16: {9}, 24: {1}}))
	require.Equal(t, uint64(9), field(t, p, "entry 1").(map[string]any)["LBA"])
}

// stat is one device statistic: seven bytes of value and the flags, ACS-4 9.5.2.
func stat(flags byte, v ...byte) []byte { return append(append(v, make([]byte, 7-len(v))...), flags) }

func summed(b []byte) []byte {
	var s byte
	for _, c := range b[:511] {
		s += c
	}
	b[511] = -s
	return b
}

func TestATA(t *testing.T) {
	p := good(
		t,
		"ata-device-statistics",
		laid(
			512,
			map[int][]byte{
				0:  {1, 0, 3},
				24: stat(0xC0, 0, 1),
				32: stat(0xC0, 8),
				40: stat(0x80, 5),
				56: stat(0xC0, 38),
				64: stat(0, 9),
			},
		),
	)
	require.Equal(t, metrics{"load_cycles": 256, "reallocated_sectors": 8, "pending_sectors": 38}, p.Metrics)
	require.Equal(t, "not valid", field(t, p, "read recovery attempts"))
	p = good(t, "ata-device-statistics", laid(512, map[int][]byte{0: {1, 0, 5}, 8: stat(0xC0, 0xFC)}))
	require.Equal(t, metrics{"temperature_celsius": -4}, p.Metrics, "temperatures are signed")
	require.Equal(
		t,
		[]int{0, 1, 5},
		field(
			t,
			good(t, "ata-device-statistics", laid(512, map[int][]byte{0: {1}, 8: {3, 0, 1, 5}})),
			"supported pages",
		),
	)

	p = good(t, "ata-sct-status", laid(512, map[int][]byte{0: {3, 0, 1}, 200: {36, 20, 44, 0x80, 57}, 206: {2}}))
	require.Equal(t, metrics{"temperature_celsius": 36}, p.Metrics)
	require.Equal(t, 57, field(t, p, "most temperature ever"))
	require.Equal(t, "not valid", field(t, p, "least temperature ever"))

	// Entry 2 is the newest: extended, read failure, at a 48-bit address.
	p = good(
		t,
		"ata-extended-selftest-log",
		summed(
			laid(512, map[int][]byte{0: {1}, 2: {2}, 4: {1, 0, 0x10}, 30: {2, 0x70, 0x88, 0x13, 0, 1, 2, 3, 4, 5, 6}}),
		),
	)
	require.Equal(t, int64(0x060504030201), field(t, p, "entry 1").(map[string]any)["failing LBA"])
	p = good(
		t,
		"ata-error-log",
		summed(
			laid(
				512,
				map[int][]byte{
					0:          {1, 1},
					2 + 48 + 7: {0x25},
					2 + 61:     {0x40, 0, 0x11, 0x22, 0x33, 0x04, 0x51},
					2 + 87:     {3, 0x88, 0x13},
					452:        {7},
				},
			),
		),
	)
	require.Equal(t, []string{"uncorrectable"}, field(t, p, "error 1").(map[string]any)["error register"])
	require.Equal(t, uint64(0x4332211), field(t, p, "error 1").(map[string]any)["LBA"])

	require.Equal(t, metrics{"logged_errors": 7}, p.Metrics)
	// ACS-4 9.7: four entries of 124 bytes a page, the newest is the second; 48 bits of address in the order of the
	// registers.
	p = good(
		t,
		"ata-extended-error-log",
		summed(
			laid(
				512,
				map[int][]byte{
					0:                   {1, 0, 2},
					4 + 124 + 18*4 + 12: {0x60},
					4 + 124 + 90:        {0, 0x40, 0, 0, 0x11, 0x44, 0x22, 0x55, 0x33, 0x66, 0x40, 0x41},
					4 + 124 + 121:       {3, 0x88, 0x13},
					500:                 {12},
				},
			),
		),
	)
	require.Equal(t, uint64(0x665544332211), field(t, p, "error 1").(map[string]any)["LBA"])
	require.Equal(t, "60h", field(t, p, "error 1").(map[string]any)["command"])
	require.Equal(t, metrics{"logged_errors": 12}, p.Metrics)

	bad := drive.EncodeSmartData(drive.SmartData{Attributes: []drive.Attribute{{ID: 197, Raw: 38}}})
	bad[511] ^= 0x5A
	p, err := Decode("ata-smart-data", bad)
	require.NoError(t, err)
	require.Contains(t, p.Wrong[0], "checksum is wrong")
	require.Empty(t, p.Metrics, "what cannot be believed feeds nothing")
	require.NotNil(t, field(t, p, "attribute 197 (pending_sectors)"), "but it can be studied")
}

// TestSES: a configuration page names the parts of the status page; a status page alone is decoded as far as possible.
func TestSES(t *testing.T) {
	config := append(
		[]byte{0x01, 0, 0, 48, 0, 0, 0, 7, 0x11, 0, 1, 36, 0x50, 0x02, 0xAB, 0xE7, 0, 0, 0, 0x3F},
		"TARNWICKSHELF 24        0107\x04\x01\x00\x00"...)
	status := []byte{0x02, 0x02, 0, 12, 0, 0, 0, 7, 0, 0, 0, 0, 0x02, 0, 80, 0x04}
	p := good(t, "ses", append(append([]byte{}, config...), status...))
	require.Equal(
		t,
		map[string]any{
			"status":         "critical",
			"bytes":          "02005004",
			"temperature °C": 60,
			"says":           []string{"over-temperature warning"},
		},
		field(t, p, "temperature sensor 0"),
	)
	require.Equal(t, []string{"critical"}, field(t, p, "enclosure"))
	require.Equal(
		t,
		"critical",
		field(t, good(t, "ses", status), "element 1, counted with the overall ones").(map[string]any)["status"],
	)
	p, err := Decode("ses", config[:20])
	require.NoError(t, err)
	require.Contains(t, p.Wrong[0], "says 52 bytes")
}

// TestNames: every metric of a page is in the catalogue, and every metric names its sources.
func TestNames(t *testing.T) {
	for _, m := range drive.Catalogue {
		require.NotEmpty(t, m.Sources(), m.Name)
		require.NotEmpty(t, m.Means)
		require.NotEmpty(t, m.MeansNot)
	}
	for _, k := range Kinds() {
		_, err := Decode(k.Name, nil)
		require.ErrorContains(t, err, "too few")
	}
	_, err := Decode("tea-leaves", make([]byte, 512))
	require.ErrorContains(t, err, "unknown kind of page")
}

// FuzzDecode: no page of any kind does more harm than an error, and it feeds only known metrics.
func FuzzDecode(f *testing.F) {
	for i := range kinds {
		f.Add(uint8(i), make([]byte, 600))
	}
	f.Add(uint8(10), []byte{0x15, 0, 0xFF, 0xFF, 0, 0, 3, 255})
	f.Fuzz(func(t *testing.T, n uint8, b []byte) {
		k := kinds[int(n)%len(kinds)]
		p, err := Decode(k.Name, b)
		if err != nil {
			return
		}
		_, err = json.Marshal(p)
		require.NoError(t, err)
		for _, one := range p.Tests {
			require.GreaterOrEqual(t, one.Hours, 0)
		}
		for name, v := range p.Metrics {
			m, known := drive.MetricByName(name)
			require.True(t, known, name)
			require.Empty(t, p.Wrong, "what is wrong feeds nothing")
			require.Empty(t, m.Implausible(v))
			require.Contains(t, m.Sources(), p.Sources[name], "%s from %s", name, k.Name)
		}
	})
}

func TestBytes(t *testing.T) {
	want := []byte{0x70, 0x00, 0x05, 0xAB, 0x00, 0x41, 0x42, 0x43, 0x44, 0x45, 0x46, 0x47, 0x48, 0x49, 0x4A, 0x4B, 0xFF}
	for name, in := range map[string]string{
		"plain":   "700005ab00414243 4445464748494a4b ff",
		"bytes":   "# captured\n70 00 05 ab 00 41 42 43\n44 45 46 47 48 49 4a 4b\n\nff\n",
		"offsets": "0000  70 00 05 ab 00 41 42 43  44 45 46 47 48 49 4a 4b\n0010  ff\n",
		"words and signs": "00000000: 7000 05ab 0041 4243 4445 4647 4849 4a4b  p....ABCDEFGHIJK\n00000010: ff   " +
			"                                    .\n",
		"bars": "00000000  70 00 05 ab 00 41 42 43  44 45 46 47 48 49 4a 4b  " +
			"|p....ABCDEFGHIJK|\n00000010  ff  |.|\n",
		"prefixes": "0x70, 0x00, 0x05, 0xab, 0x00, 0x41, 0x42, 0x43,\r\n0x44, 0x45, 0x46, 0x47, 0x48, " +
			"0x49, 0x4a, 0x4b, 0xff\r\n",
		"binary": string(want),
	} {
		got, err := Bytes([]byte(in))
		require.NoError(t, err, name)
		require.Equal(t, want, got, name)
	}
	_, err := Bytes([]byte("70 00\nnot a dump\n"))
	require.ErrorContains(t, err, "line 2")
	// In the column of characters, hexadecimal digits are not bytes; a star repeats a line.
	r := rand.New(rand.NewPCG(3, 5))
	const signs = "abcdef0123456789 .|"
	for range 300 {
		want := make([]byte, 1+r.IntN(200))
		for i := range want {
			want[i] = signs[r.IntN(len(signs))]
			if r.IntN(3) == 0 {
				want[i] = 0
			}
		}
		if len(want) > 96 {
			copy(want[16:96], make([]byte, 80))
		}
		words, bars := strings.Builder{}, strings.Builder{}
		starred := false
		for at := 0; at < len(want); at += 16 {
			row := want[at:min(at+16, len(want))]
			text := strings.ReplaceAll(string(row), "\x00", ".")
			hexed := ""
			for i, b := range row {
				if i%2 == 0 {
					hexed += " "
				}
				hexed += fmt.Sprintf("%02x", b)
			}
			fmt.Fprintf(&words, "%08x:%-40s  %s\n", at, hexed, text)
			if at > 0 && len(row) == 16 && bytes.Equal(row, want[at-16:at]) {
				if !starred {
					fmt.Fprintf(&bars, "*\n")
				}
				starred = true
				continue
			}
			starred = false
			fmt.Fprintf(&bars, "%08x %-49s  |%s|\n", at, " "+strings.TrimSpace(fmt.Sprintf("% x", row)), text)
		}
		fmt.Fprintf(&bars, "%08x\n", len(want))
		for _, text := range []string{words.String(), bars.String()} {
			got, err := Bytes([]byte(text))
			require.NoError(t, err, text)
			require.Equal(t, want, got, text)
		}
	}
}

// TestRejectedPagesFeedNothing: a page of nothing but zeros or ones, one with a wrong checksum in whichever of its
// pages, one with an impossible field: an error, and no metric, test or warning.
func TestRejectedPagesFeedNothing(t *testing.T) {
	for _, k := range kinds {
		for _, fill := range []byte{0, 0xFF} {
			p, err := Decode(k.Name, bytes.Repeat([]byte{fill}, max(k.least, 1024)))
			require.NoError(t, err)
			require.Empty(t, p.Metrics, k.Name)
			require.Empty(t, p.Tests, k.Name)
			require.Equal(t, fill == 0 && k.blank, len(p.Wrong) == 0, "%s of %02X: %v", k.Name, fill, p.Wrong)
		}
	}
	hot := make([]byte, 512)
	le.PutUint16(hot[1:], 65535)
	hot[3], hot[4], hot[5] = 100, 10, 3
	p, err := Decode("nvme-health", hot)
	require.NoError(t, err)
	require.Contains(t, strings.Join(p.Wrong, ";"), "temperature_celsius: 65262 °C is more than 150")
	require.Empty(t, p.Metrics)
	two := make([]byte, 1024)
	two[0], two[2], two[511], two[600] = 1, 1, 0xFE, 7
	p, err = Decode("ata-extended-selftest-log", two)
	require.NoError(t, err)
	require.Contains(t, strings.Join(p.Wrong, ";"), "page 2: checksum is wrong")
	exceptions := []byte{0x2F, 0, 0, 8, 0, 0, 3, 4, 0, 0, 41, 0}
	p, err = Decode("scsi-log", exceptions)
	require.NoError(t, err)
	require.Empty(t, p.Wrong)
	require.Equal(t, map[drive.MetricName]float64{"temperature_celsius": 41}, p.Metrics)
	id := drive.EncodeIdentify(drive.Description{Identity: drive.Identity{Serial: "S1", Model: "M"}})
	id[100] ^= 4
	p, err = Decode("ata-identify", id)
	require.NoError(t, err)
	require.Contains(t, strings.Join(p.Wrong, ";"), "integrity word is wrong")
}
