package drive

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"
)

// page lays bytes out by hand: offset to bytes. It is the oracle of the decoders, independent of the encoders.
func page(parts map[int][]byte) []byte {
	p := make([]byte, 512)
	for at, b := range parts {
		copy(p[at:], b)
	}
	return p
}

// summed sets the last byte so that all 512 add up to zero, as ACS-3 A.18.2 wants of every SMART page.
func summed(p []byte) []byte {
	var s byte
	for _, b := range p[:511] {
		s += b
	}
	p[511] = byte(256 - int(s))
	return p
}

func word(n int, v uint16) (int, []byte) { return 2 * n, []byte{byte(v), byte(v >> 8)} }

func TestIdentifyByHand(t *testing.T) {
	parts := map[int][]byte{}
	set := func(n int, v uint16) { at, b := word(n, v); parts[at] = b }
	// ACS-4 7.12.7: words 10 to 19 serial, 23 to 26 firmware, 27 to 46 model; each word carries two characters, the
	// first in its high byte.
	parts[20] = []byte("RVZ70U60            ")
	parts[46] = []byte("VA3R    ")
	parts[54] = []byte("EVDLUR NRV-40400                        ")
	set(82, 0x0001)  // SMART supported
	set(83, 0x4400)  // bits 15:14 = 01b, 48-bit addresses
	set(84, 0x4002)  // self-test supported
	set(85, 0x0001)  // SMART enabled
	set(87, 0x4100)  // valid, WWN in words 108 to 111
	set(60, 0xFFFF)  // 28-bit count is full
	set(61, 0x0FFF)  //
	set(100, 0xBEB0) // 7,814,037,168 sectors
	set(101, 0xD1C0) //
	set(102, 0x0001) //
	set(106, 0x6003) // valid, 2^3 logical sectors a physical one
	set(108, 0x5002) // WWN
	set(109, 0xABE7) //
	set(110, 0x0000) //
	set(111, 0x1234) //
	set(168, 0x0002) // 3.5 inch
	set(217, 0x1C20) // 7200 rpm
	parts[510] = []byte{0xA5}
	p := summed(page(parts))

	d, err := DecodeIdentify(p)
	require.NoError(t, err)
	require.Equal(t, Description{
		Identity:       Identity{WWN: "5002abe700001234", Model: "VELDRUN VR4-4000", Serial: "VR7ZU006"},
		Firmware:       "AVR3",
		Capacity:       Bytes(uint64(0x1D1C0BEB0) * 512),
		LogicalSector:  512,
		PhysicalSector: 4096,
		Medium:         MediumRotating,
		RotationRPM:    7200,
		FormFactor:     "3.5 inch",
		SMARTSupported: true,
		SMARTEnabled:   true,
		SelfTests:      true,
	}, d)
	require.Equal(t, "wwn-5002abe700001234", d.Key())

	// Words 82 to 87 say nothing when bits 15:14 are not 01b (ACS-4 7.12.7.45).
	q := append([]byte(nil), p...)
	q[167], q[175], q[169] = 0, 0, 0
	q[510] = 0 // no integrity word: nothing to check
	d, err = DecodeIdentify(q)
	require.NoError(t, err)
	require.False(t, d.SMARTSupported || d.SMARTEnabled || d.SelfTests)
	require.Empty(t, d.WWN)
	require.Equal(t, Bytes(0x0FFFFFFF*512), d.Capacity, "without 48-bit addresses words 60 and 61 count")

	q = append([]byte(nil), p...)
	q[54] ^= 1
	_, err = DecodeIdentify(q)
	var bad *Unreadable
	require.ErrorAs(t, err, &bad)
	require.Contains(t, bad.Why, "integrity word is wrong")
	require.Equal(t, q, bad.Bytes, "the bytes are kept")
	_, err = DecodeIdentify(p[:200])
	require.ErrorContains(t, err, "200 bytes came, 512 were due")
}

func TestSmartDataByHand(t *testing.T) {
	p := summed(page(map[int][]byte{
		0: {0x10, 0},
		// Attribute 197: flags 0012h, value 100, worst 99, raw 38.
		2: {197, 0x12, 0, 100, 99, 38, 0, 0, 0, 0, 0, 0},
		// An empty slot, then 194 with least and most packed beside it: 35 now, 19 least, 44 most.
		26: {194, 0x22, 0, 65, 56, 35, 0, 19, 0, 44, 0, 0},
		// 188 with three counts of 16 bits: 2, 5, 9.
		38: {188, 0x32, 0, 100, 100, 2, 0, 5, 0, 9, 0, 0},
		// 9 with minutes in its upper half: 31557 hours.
		50:  {9, 0x32, 0, 64, 64, 0x45, 0x7B, 0, 0, 0x77, 0x01, 0},
		62:  {250, 0x32, 0, 100, 100, 1, 2, 3, 4, 5, 6, 0}, // an unknown attribute
		363: {0xF3},                                        // running, 30 % left
		367: {0x79}, 370: {0x01},                           // self-tests, error logging
		372: {2, 0xFF},    // short 2 min, extended in words 375
		375: {0xC2, 0x01}, // 450 min
	}))
	s, err := DecodeSmartData(p)
	require.NoError(t, err)
	require.Len(t, s.Attributes, 5)
	require.Equal(t, byte(15), s.SelfTestStatus)
	require.Equal(t, 30, s.SelfTestRemaining)
	require.True(t, s.SelfTests && s.ErrorLog)
	require.Equal(t, 2, s.ShortMinutes)
	require.Equal(t, 450, s.ExtendedMinutes)
	require.Equal(
		t,
		map[MetricName]float64{
			"pending_sectors":     38,
			"temperature_celsius": 35,
			"command_timeouts":    2,
			"power_on_hours":      31557,
		},
		Metrics(s.Attributes),
	)
	_, _, known := MetricOf(s.Attributes[4])
	require.False(t, known, "an unknown attribute is kept raw, and feeds nothing")
	require.Equal(t, uint64(0x060504030201), s.Attributes[4].Raw)

	p[100] ^= 0x40
	_, err = DecodeSmartData(p)
	require.ErrorContains(t, err, "checksum is wrong")
	_, err = DecodeSmartThresholds(p)
	require.ErrorContains(t, err, "checksum is wrong")

	limits, err := DecodeSmartThresholds(summed(page(map[int][]byte{0: {1}, 2: {5, 36}, 14: {197, 0}})))
	require.NoError(t, err)
	require.Equal(t, map[byte]byte{5: 36, 197: 0}, limits)
}

func TestSelfTestLogByHand(t *testing.T) {
	// ACS-3 A.18: 24-byte entries from byte 2, index of the newest at 508. The ring has wrapped: 21 is older than 1.
	entry := func(n int) int { return 2 + 24*(n-1) }
	p := summed(page(map[int][]byte{
		0:         {1},
		entry(1):  {2, 0x70, 0x88, 0x13, 0, 0x98, 0x76, 0x54, 0x32}, // extended, read failure, 5000 h, LBA 32547698h
		entry(21): {1, 0x00, 0x20, 0x13, 0, 0xFF, 0xFF, 0xFF, 0xFF}, // short, passed, 4896 h
		entry(20): {0x81, 0x21, 0x10, 0x13},                         // captive short, interrupted by a reset
		entry(19): {2, 0xF9},                                        // running
		508:       {1},
	}))
	tests, err := DecodeSelfTestLog(p)
	require.NoError(t, err)
	require.Equal(t, []SelfTest{
		{Kind: SelfTestExtended, Result: SelfTestFailed, Hours: 5000, LBA: 0x32547698, Number: 2, Status: 0x70},
		{Kind: SelfTestShort, Result: SelfTestPassed, Hours: 4896, LBA: -1, Number: 1},
		{Kind: SelfTestShort, Result: SelfTestInterrupted, Hours: 4880, LBA: -1, Number: 0x81, Status: 0x21},
		{Kind: SelfTestExtended, Result: SelfTestRunning, Hours: 0, LBA: -1, Number: 2, Status: 0xF9},
	}, tests)
	empty, err := DecodeSelfTestLog(summed(page(map[int][]byte{0: {1}})))
	require.NoError(t, err)
	require.Empty(t, empty, "an index of 0 means that no test was ever run")
	_, err = DecodeSelfTestLog(summed(page(map[int][]byte{0: {1}, 508: {22}})))
	require.ErrorContains(t, err, "entry 22 of 21")
}

func TestPassThrough(t *testing.T) {
	// SAT-4 12.2.3: operation code 85h; protocol PIO data-in; T_DIR, BYT_BLOK and the length in the count field.
	require.Equal(
		t,
		[]byte{0x85, 4 << 1, 0x0E, 0, 0xD5, 0, 1, 0, 0x06, 0, 0x4F, 0, 0xC2, 0, 0xB0, 0},
		EncodePassThrough(SmartReadSelfTest, true),
	)
	// Non-data, CK_COND, so that the registers come back.
	require.Equal(
		t,
		[]byte{0x85, 3 << 1, 0x20, 0, 0xDA, 0, 0, 0, 0, 0, 0x4F, 0, 0xC2, 0, 0xB0, 0},
		EncodePassThrough(SmartReturnStatus, false),
	)
	// READ LOG EXT, log 04h, page 0105h: EXTEND, and the page's two halves in LBA 15:8 and 39:32 (ACS-4 7.22.2).
	ext := EncodePassThrough(ReadLog(true, LogStatistics, 0x105), true)
	require.Equal(t, []byte{0x85, 4<<1 | 1, 0x0E, 0, 0, 0, 1, 0, 0x04, 1, 0x05, 0, 0, 0, 0x2F, 0}, ext)
	r, _, err := DecodePassThrough(ext)
	require.NoError(t, err)
	require.Equal(t, ReadLog(true, LogStatistics, 0x105), r)
	back, err := DecodeSense(EncodeSense(Registers{Extend: true, LBA: 0x665544332211, Count: 0x102, Command: 0x50}))
	require.NoError(t, err)
	require.Equal(t, Registers{Extend: true, LBA: 0x665544332211, Count: 0x102, Command: 0x50}, back)
	require.Equal(t, SmartReadSelfTest, ReadLog(false, LogSelfTest, 0))
	start, ok := StartSelfTest(SelfTestShort)
	require.True(t, ok)
	require.Equal(
		t,
		[]byte{0x85, 3 << 1, 0x20, 0, 0xD4, 0, 0, 0, 0x01, 0, 0x4F, 0, 0xC2, 0, 0xB0, 0},
		EncodePassThrough(start, false),
	)
	_, ok = StartSelfTest(SelfTestOther)
	require.False(t, ok)
	r, in, err := DecodePassThrough(EncodePassThrough(SmartReadData, true))
	require.NoError(t, err)
	require.True(t, in)
	require.Equal(t, SmartReadData, r)

	// SAT-4 12.2.7: descriptor sense, an information descriptor first, then the ATA Status Return descriptor.
	sense := []byte{
		0x72,
		1,
		0,
		0x1D,
		0,
		0,
		0,
		26,
		0,
		10,
		0x80,
		0,
		0,
		0,
		0,
		0,
		0,
		0,
		0,
		0,
		9,
		12,
		0,
		0,
		0,
		0,
		0,
		0,
		0,
		0xF4,
		0,
		0x2C,
		0,
		0x50,
	}
	r, err = DecodeSense(sense)
	require.NoError(t, err)
	failing, err := DecodeReturnStatus(r)
	require.NoError(t, err)
	require.True(t, failing)
	_, err = DecodeReturnStatus(Registers{LBA: 0x123400})
	require.ErrorContains(t, err, "neither C24Fxxh nor 2CF4xxh")
	_, err = DecodeSense([]byte{0x70, 0, 5, 0, 0, 0, 0, 10})
	require.ErrorContains(t, err, "descriptor format")
}

// TestOtherCommands: SCSI and NVMe commands as their standards lay them out.
func TestOtherCommands(t *testing.T) {
	require.Equal(t, []byte{0x12, 1, 0x83, 0x01, 0x00, 0}, Inquiry(true, 0x83, 256))
	require.Equal(t, []byte{0x4D, 0, 0x40 | 0x0D, 0, 0, 0, 0, 0x10, 0, 0}, LogSense(0x0D, 4096))
	require.Equal(t, []byte{0xB7, 0x0B, 0, 0, 0, 0, 0, 0, 0, 8, 0, 0}, ReadDefects(8))
	cmd, ok := SendDiagnostic(SelfTestExtended, false)
	require.True(t, ok)
	require.Equal(t, []byte{0x1D, 2 << 5, 0, 0, 0, 0}, cmd)
	_, ok = SendDiagnostic(SelfTestConveyance, false)
	require.False(t, ok)
	n, ok := NVMeSelfTest(SelfTestShort, false)
	require.True(t, ok)
	require.Equal(t, []byte{0x14, 0xFF, 1}, []byte{n[0], n[4], n[40]})
	log := NVMeLog(0x06, 564)
	require.Equal(t, []byte{0x02, 0x06, 140}, []byte{log[0], log[40], log[42]})

	// SPC-5 table 59: standby by timer, in either format; idle conditions turn on; stopped is asleep, becoming ready is
	// not.
	fixed := func(key, code, qualifier byte) []byte {
		return []byte{0x70, 0, key, 0, 0, 0, 0, 10, 0, 0, 0, 0, code, qualifier, 0, 0, 0, 0}
	}
	for _, asleep := range [][]byte{fixed(0, 0x5E, 0x02), fixed(0, 0x5E, 0x0A), {0x72, 0, 0x5E, 0x04, 0, 0, 0, 0},
		fixed(2, 0x04, 0x02)} {
		require.True(t, StandbySense(asleep), "%x", asleep)
	}
	for _, awake := range [][]byte{fixed(0, 0x5E, 0x01), fixed(0, 0, 0), fixed(2, 0x04, 0x01), {0x72, 0}, nil} {
		require.False(t, StandbySense(awake), "%x", awake)
	}
}

func TestRoundTrips(t *testing.T) {
	d := Description{
		Identity:       Identity{WWN: "502abe7000001234", Model: "OSSFELL OF-8T", Serial: "KH3AB123"},
		Firmware:       "AKH3",
		Capacity:       8001563222016,
		LogicalSector:  4096,
		PhysicalSector: 4096,
		Medium:         MediumSolidState,
		FormFactor:     "2.5 inch",
		SMARTSupported: true,
		SMARTEnabled:   true,
		SelfTests:      true,
		GeneralLogs:    true,
	}
	got, err := DecodeIdentify(EncodeIdentify(d))
	require.NoError(t, err)
	require.Equal(t, d, got)
	s := SmartData{
		Revision: 16,
		Attributes: []Attribute{
			{ID: 5, Flags: 0x33, Value: 100, Worst: 98, Raw: 1<<48 - 1},
			{ID: 197, Value: 1, Raw: 7},
		},
		SelfTestStatus:    4,
		SelfTestRemaining: 60,
		SelfTests:         true,
		ErrorLog:          true,
		ShortMinutes:      2,
		ExtendedMinutes:   700,
	}
	again, err := DecodeSmartData(EncodeSmartData(s))
	require.NoError(t, err)
	require.Equal(t, s, again)
}

func TestIdentity(t *testing.T) {
	a := Identity{Vendor: "kernel", Model: "loop device", Serial: "L28-00012345"}
	require.Equal(t, "vms-kernel-loop_device-l28_00012345", a.Key())
	require.Equal(t, "12345", a.Tail())
	for typed, ok := range map[string]bool{"12345": true, " 123 45": true, "l28-00012345": true, "2345": false,
		"": false, "99999": false} {
		require.Equal(t, ok, a.TailMatches(typed), typed)
	}
	b := a
	require.Empty(t, a.Differs(b))
	b.Serial = "L28-00012346"
	require.Contains(t, a.Differs(b), "the device answers")
	require.Empty(t, Identity{Model: "no serial"}.Key())
	require.Empty(t, Identity{WWN: "0000000000000000", Model: "m"}.Key(), "a WWN of zeros is none")
}

// TestContents: every signature is found where its format keeps it; a device counts as blank only when both ends hold
// nothing but zeros; everything else is something unknown.
func TestContents(t *testing.T) {
	head, tail := make([]byte, HeadSize), make([]byte, TailSize)
	require.Empty(t, Contents(head, tail))
	put := func(b []byte, at int, magic string) []byte {
		out := append([]byte(nil), b...)
		copy(out[at:], magic)
		return out
	}
	for _, s := range signatures {
		for _, at := range s.at {
			require.Contains(t, Contents(put(head, at, s.magic), tail), s.what, "at %d", at)
		}
	}
	require.Equal(
		t,
		[]string{Something},
		Contents(put(head, 510, "\x55\xAA"), tail),
		"a boot record without any partition is not blank",
	)
	mbr := put(put(head, 510, "\x55\xAA"), 450, "\x83")
	require.Equal(t, []string{PartitionTable}, Contents(mbr, tail))
	require.Equal(
		t,
		[]string{PartitionTable},
		Contents(head, put(tail, TailSize-512, "EFI PART")),
		"of a GPT only the backup is left",
	)
	require.Equal(t, []string{PartitionTable}, Contents(head, put(tail, TailSize-4096, "EFI PART")))
	require.Equal(
		t,
		[]string{"fat file system"},
		Contents(put(put(put(head, 510, "\x55\xAA"), 82, "FAT32   "), 450, "\x01"), tail),
		"its boot code is no partition table",
	)
	md := binary.LittleEndian.AppendUint32(nil, 0xA92B4EFC)
	for _, at := range []int{TailSize - 65536, TailSize - 131072, TailSize - 8192, TailSize - 12288 + 4096} {
		require.Equal(t, []string{"md member"}, Contents(head, put(tail, at, string(md))))
	}
	require.Equal(
		t,
		[]string{"md member"},
		Contents(head, put(tail, TailSize-65536, "\xA9\x2B\x4E\xFC")),
		"0.90 of a big-endian host",
	)
	require.Equal(t, []string{"firmware RAID member"}, Contents(head, put(tail, TailSize-512, "\xDE\x11\xDE\x11")))
	require.Equal(
		t,
		[]string{"replicated volume (internal metadata)"},
		Contents(head, put(tail, TailSize-4096+60, "\x83\x74\x02\x6D")),
	)
	require.Len(t, Contents(head, put(tail, TailSize-256<<10+128<<10, "\x0C\xB1\xBA\x00\x00\x00\x00\x00")), 1)
	for at := 0; at < BlankSize; at += 4099 {
		require.NotEmpty(t, Contents(put(head, at, "x"), tail), "a byte at %d", at)
		require.NotEmpty(t, Contents(head, put(tail, at%TailSize, "x")), "a byte at %d of the end", at)
	}
}

// FuzzPages: whatever 512 bytes a drive sends, no decoder fails otherwise than by saying so.
func FuzzPages(f *testing.F) {
	f.Add(EncodeIdentify(Description{Identity: Identity{Model: "M", Serial: "S123456"}, Capacity: 1 << 40}))
	f.Add(EncodeSmartData(SmartData{Attributes: []Attribute{{ID: 197, Raw: 38}}}))
	f.Add(EncodeSelfTestLog([]SelfTest{{Number: 2, Status: 0x70, LBA: 7}}))
	f.Add([]byte("short"))
	f.Fuzz(func(t *testing.T, p []byte) {
		if d, err := DecodeIdentify(p); err == nil {
			require.NotEmpty(t, d.Serial)
			for _, c := range d.Model + d.Serial + d.Firmware {
				require.True(t, c >= 0x20 && c <= 0x7E, "nothing unprintable reaches a terminal")
			}
		}
		if s, err := DecodeSmartData(p); err == nil {
			require.LessOrEqual(t, len(s.Attributes), attributeSlots)
			again, err := DecodeSmartData(EncodeSmartData(s))
			require.NoError(t, err)
			require.Equal(t, s.Attributes, again.Attributes)
		}
		if tests, err := DecodeSelfTestLog(p); err == nil {
			require.LessOrEqual(t, len(tests), selfTestSlots)
		}
		_, _ = DecodeSmartThresholds(p)
	})
}

func FuzzSense(f *testing.F) {
	f.Add(EncodeSense(EncodeReturnStatus(true)))
	f.Add([]byte{0x72, 0, 0, 0, 0, 0, 0, 200, 9, 250})
	f.Fuzz(func(t *testing.T, s []byte) {
		if r, err := DecodeSense(s); err == nil {
			_, _ = DecodeReturnStatus(r)
		}
		_, _, _ = DecodePassThrough(s)
	})
}

func FuzzContents(f *testing.F) {
	f.Add([]byte("LUKS\xBA\xBE"), []byte{})
	f.Fuzz(func(_ *testing.T, head, tail []byte) { Contents(head, tail) })
}
