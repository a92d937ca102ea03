package page

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestDamagedPages: pages that are cut, have false lengths or unexpected content give an error and feed no metric;
// unusual ones are read as far as possible.
func TestDamagedPages(t *testing.T) {
	for name, c := range map[string]struct {
		kind  string
		bytes []byte
		wrong string // empty: nothing is wrong
		field string
	}{
		"a log page that says more than it has": {"scsi-log", []byte{0x0D, 0, 0, 40, 0, 0, 3, 2, 0, 30},
			"it says 40 bytes and has 6", "page code"},
		"a log page of supported pages": {"scsi-log", []byte{0, 0, 0, 3, 0, 0x0D, 0x2F}, "", "supported pages"},
		"a log page that nobody knows": {"scsi-log", []byte{0x3E, 0, 0, 4, 0, 0, 3, 0}, "unknown log " +
			"page 3Eh", "page code"},
		"a parameter that is cut off": {"scsi-log", []byte{0x02, 0, 0, 8, 0, 6, 3, 9, 0, 0, 0, 0},
			"parameter 0006h is cut off", "page"},
		"bytes that are left over": {"scsi-log", []byte{0x02, 0, 0, 7, 0, 6, 3, 1, 5, 0, 0}, "left over",
			"page"},
		"a counter that nobody knows": {"scsi-log", []byte{0x03, 0, 0, 5, 0x80, 0, 3, 1, 5}, "", "parameter 8000h"},
		"a temperature that is too short": {"scsi-log", []byte{0x0D, 0, 0, 5, 0, 0, 3, 1, 30}, "at least 2 are due",
			"page"},
		"a temperature that is not told": {"scsi-log", []byte{0x0D, 0, 0, 6, 0, 0, 3, 2, 0, 0xFF}, "", "temperature"},
		"a VPD page that says more than it has": {"scsi-vpd", []byte{0, 0x80, 0, 9, 'S', '1'}, "it says 9 bytes and has 2",
			"unit serial number"},
		"VPD pages that are supported": {"scsi-vpd", []byte{0, 0, 0, 2, 0, 0x80}, "", "supported pages"},
		"a designator that is cut off": {"scsi-vpd", []byte{0, 0x83, 0, 5, 1, 3, 0, 8, 5}, "designator 1 is cut off",
			"page code"},
		"a designator of text": {"scsi-vpd", []byte{0, 0x83, 0, 8, 2, 1, 0, 4, 'V', 'E', 'L', 'D'}, "", "designator 1"},
		"an extended page that is too short": {"scsi-vpd", []byte{0, 0x86, 0, 2, 0, 0}, "shorter than the standard " +
			"wants", "page code"},
		"block limits that are too short": {"scsi-vpd", []byte{0, 0xB1, 0, 2, 0, 0}, "shorter than the standard " +
			"wants", "page code"},
		"sense that ends early": {"scsi-sense", []byte{0x70, 0, 3, 0, 0, 0, 0, 0}, "ends before its " +
			"additional sense code", "sense key"},
		"fixed sense with an address": {"scsi-sense",
			[]byte{0xF0, 0, 3, 0, 0, 1, 0, 10, 0, 0, 0, 0, 0x11, 0, 0, 0x80, 0x80, 0}, "", "information"},
		"descriptors with an address": {"scsi-sense",
			append([]byte{0x72, 3, 0x11, 0, 0, 0, 0, 12, 0, 10, 0x80, 0}, []byte{0, 0, 0, 0, 0, 0, 1, 0}...), "", "information"},
		"a descriptor that is cut off": {"scsi-sense", []byte{0x72, 3, 0x11, 0, 0, 0, 0, 4, 0, 10, 0, 0},
			"descriptor 00h is cut off", "format"},
		"sense in no format that there is": {"scsi-sense", []byte{0x7F, 0, 0, 0, 0, 0, 0, 0}, "", ""},
		"thresholds of attributes": {"ata-smart-thresholds",
			summed(laid(512, map[int][]byte{0: {16, 0}, 2: {5, 36}, 14: {197, 0}})), "", "attribute 5"},
		"thresholds with a wrong sum": {"ata-smart-thresholds", laid(512, map[int][]byte{2: {5, 36}}),
			"checksum is wrong", "attribute 5"},
		"a self-test log": {"ata-selftest-log",
			summed(laid(512, map[int][]byte{0: {1, 0}, 2: {1, 0, 100, 0}, 508: {1}})), "", "entry 1"},
		"a self-test log with a wrong sum": {"ata-selftest-log",
			laid(512, map[int][]byte{0: {1, 0}, 2: {1, 0, 100, 0}, 508: {1}}), "checksum", "index"},
		"an extended log whose index is too far": {"ata-extended-selftest-log",
			summed(laid(512, map[int][]byte{0: {1}, 2: {200, 0}})),
			"its index says entry 200 of 19", "index"},
	} {
		p, err := Decode(c.kind, c.bytes)
		require.NoError(t, err, name)
		said := strings.Join(p.Wrong, "; ")
		if c.wrong != "" {
			require.Contains(t, said, c.wrong, name)
			require.Empty(t, p.Metrics, "%s: what is rejected feeds nothing", name)
		} else if c.field != "" {
			require.Empty(t, said, name)
		}
		if c.field != "" {
			field(t, p, c.field)
		}
	}
}

// TestRandomPages: every kind of page with random bytes is decoded or refused, each time with the same result.
func TestRandomPages(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for _, k := range kinds {
		for range 300 {
			b := make([]byte, k.least+r.IntN(700))
			for i := range b {
				if r.IntN(3) > 0 {
					b[i] = byte(r.Uint32() & r.Uint32())
				}
			}
			if len(b) > 1 && r.IntN(2) == 0 {
				b[0] = []byte{0x02, 0x03, 0x06, 0x0D, 0x0E, 0x11, 0x15, 0x2F, 0x70, 0x72}[r.IntN(10)]
				b[1] = []byte{0, 0x80, 0x83, 0x86, 0xB1}[r.IntN(5)]
			}
			p, err := Decode(k.Name, b)
			again, err2 := Decode(k.Name, b)
			require.Equal(t, fmt.Sprint(err), fmt.Sprint(err2))
			require.Equal(t, p, again)
			if len(p.Wrong) > 0 {
				require.Empty(t, p.Metrics, "%s: %v", k.Name, p.Wrong)
			}
		}
	}
}
