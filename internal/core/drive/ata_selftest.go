package drive

import "encoding/binary"

// Layout of the SMART self-test log, log address 06h, ACS-3 annex A.18.
const (
	selfTestSlots   = 21
	selfTestSize    = 24
	selfTestStart   = 2
	offSelfTestLast = 508
)

// SelfTestKind is which test was run.
type SelfTestKind string

// The kinds of self-test, by the subcommand that starts them (ACS-3 table 132).
const (
	SelfTestShort      SelfTestKind = "short"
	SelfTestExtended   SelfTestKind = "extended"
	SelfTestConveyance SelfTestKind = "conveyance"
	SelfTestSelective  SelfTestKind = "selective"
	SelfTestOther      SelfTestKind = "other"
)

// SelfTestResult is how a test ended.
type SelfTestResult string

// The results that matter. An aborted or interrupted test says nothing about the drive.
const (
	SelfTestPassed      SelfTestResult = "passed"
	SelfTestAborted     SelfTestResult = "aborted"
	SelfTestInterrupted SelfTestResult = "interrupted"
	SelfTestNotRun      SelfTestResult = "could not run"
	SelfTestFailed      SelfTestResult = "failed"
	SelfTestRunning     SelfTestResult = "running"
	SelfTestReserved    SelfTestResult = "reserved"
)

// SelfTest is one entry of the drive's own log of self-tests.
type SelfTest struct {
	Kind   SelfTestKind   `json:"kind"`
	Result SelfTestResult `json:"result"`
	// Hours is the drive's power-on hours when the test ended. It is 16 bits wide and starts again after 65,535.
	Hours int `json:"hours"`
	// LBA is the first address that failed; -1 when none failed, or when the drive does not report it.
	LBA int64 `json:"lba"`
	// Number and Status are the raw bytes.
	Number byte `json:"number"`
	Status byte `json:"status"`
}

var selfTestKinds = map[byte]SelfTestKind{
	1: SelfTestShort, 2: SelfTestExtended, 3: SelfTestConveyance, 4: SelfTestSelective,
}

var selfTestResults = [16]SelfTestResult{
	SelfTestPassed, SelfTestAborted, SelfTestInterrupted, SelfTestNotRun,
	SelfTestFailed, SelfTestFailed, SelfTestFailed, SelfTestFailed, SelfTestFailed,
	SelfTestReserved, SelfTestReserved, SelfTestReserved, SelfTestReserved, SelfTestReserved, SelfTestReserved,
	SelfTestRunning,
}

// NewSelfTest makes an entry of the number and status bytes that every ATA log of self-tests has (ACS-3 tables 132 and
// 134). They do not include the address that failed.
func NewSelfTest(number, status byte, hours int) SelfTest {
	// Bit 7 distinguishes captive from off-line mode; the test itself is the same.
	t := SelfTest{
		Number: number,
		Status: status,
		Hours:  hours,
		LBA:    -1,
		Result: selfTestResults[status>>4],
		Kind:   selfTestKinds[number&0x7F],
	}
	if t.Kind == "" {
		t.Kind = SelfTestOther
	}
	return t
}

// EncodeSelective lays out the selective self-test log (ACS-3 A.17) that asks for one span, from its first to its last
// address; the rest of the drive is not scanned afterwards.
func EncodeSelective(first, last uint64) []byte {
	page := make([]byte, PageSize)
	page[0] = 1
	binary.LittleEndian.PutUint64(page[2:], first)
	binary.LittleEndian.PutUint64(page[10:], last)
	seal(page)
	return page
}

// DecodeSelective reads the first span back.
func DecodeSelective(page []byte) (first, last uint64, err error) {
	if err := checkPage(PageSelective, page); err != nil {
		return 0, 0, err
	}
	return binary.LittleEndian.Uint64(page[2:]), binary.LittleEndian.Uint64(page[10:]), nil
}

// NewSCSISelfTest makes an entry of one parameter of the self-test results log page (SPC-5 7.3.20): 16 bytes, the codes
// in the first of them.
func NewSCSISelfTest(v []byte) SelfTest {
	code, result := v[0]>>5, v[0]&0xF
	t := SelfTest{Number: code, Status: result, Hours: int(binary.BigEndian.Uint16(v[2:])), LBA: -1,
		Kind: map[byte]SelfTestKind{1: SelfTestShort, 2: SelfTestExtended, 5: SelfTestShort, 6: SelfTestExtended}[code]}
	if t.Kind == "" {
		t.Kind = SelfTestOther
	}
	switch {
	case result == 0:
		t.Result = SelfTestPassed
	case result <= 2:
		t.Result = SelfTestAborted
	case result == 3:
		t.Result = SelfTestNotRun
	case result <= 7:
		t.Result = SelfTestFailed
		if lba := binary.BigEndian.Uint64(v[4:]); lba < 1<<63 {
			t.LBA = int64(lba)
		}
	case result == 15:
		t.Result = SelfTestRunning
	default:
		t.Result = SelfTestReserved
	}
	return t
}

// NewNVMeSelfTest makes an entry of one result of the device self-test log (NVMe 2.0 figure 209): 28 bytes.
func NewNVMeSelfTest(e []byte) SelfTest {
	code, result := e[0]>>4, e[0]&0xF
	t := SelfTest{Number: code, Status: result, Hours: int(binary.LittleEndian.Uint64(e[4:]) & (1<<53 - 1)), LBA: -1,
		Kind: map[byte]SelfTestKind{1: SelfTestShort, 2: SelfTestExtended}[code]}
	if t.Kind == "" {
		t.Kind = SelfTestOther
	}
	switch result {
	case 0:
		t.Result = SelfTestPassed
	case 2:
		t.Result = SelfTestInterrupted
	case 1, 3, 4, 8, 9:
		t.Result = SelfTestAborted
	case 5, 6, 7:
		t.Result = SelfTestFailed
		if lba := binary.LittleEndian.Uint64(e[16:]); e[2]&2 != 0 && lba < 1<<63 {
			t.LBA = int64(lba)
		}
	default:
		t.Result = SelfTestReserved
	}
	return t
}

// DecodeSelfTestLog reads the SMART self-test log, the newest entry first.
func DecodeSelfTestLog(page []byte) ([]SelfTest, error) {
	if err := checkPage(PageSelfTestLog, page); err != nil {
		return nil, err
	}
	last := int(page[offSelfTestLast])
	if last > selfTestSlots {
		return nil, unreadable(PageSelfTestLog, page, "its index says entry %d of %d", last, selfTestSlots)
	}
	var tests []SelfTest
	for n := range selfTestSlots {
		if last == 0 {
			break // no test has been run
		}
		slot := (last - 1 - n + selfTestSlots) % selfTestSlots
		e := page[selfTestStart+slot*selfTestSize:][:selfTestSize]
		if e[0] == 0 && e[1] == 0 && e[2] == 0 && e[3] == 0 {
			continue
		}
		t := NewSelfTest(e[0], e[1], int(binary.LittleEndian.Uint16(e[2:])))
		if lba := binary.LittleEndian.Uint32(e[5:]); t.Result == SelfTestFailed && lba != 0xFFFFFFFF {
			t.LBA = int64(lba)
		}
		tests = append(tests, t)
	}
	return tests, nil
}

// EncodeSelfTestLog lays out tests, the newest first, as the log. Only the newest 21 entries are kept, as on a drive.
func EncodeSelfTestLog(tests []SelfTest) []byte {
	page := make([]byte, PageSize)
	page[0] = 1
	tests = tests[:min(len(tests), selfTestSlots)]
	for n, t := range tests {
		e := page[selfTestStart+(len(tests)-1-n)*selfTestSize:]
		e[0], e[1] = t.Number, t.Status
		binary.LittleEndian.PutUint16(e[2:], uint16(t.Hours))
		lba := uint32(0xFFFFFFFF)
		if t.LBA >= 0 {
			lba = uint32(t.LBA)
		}
		binary.LittleEndian.PutUint32(e[5:], lba)
	}
	page[offSelfTestLast] = byte(len(tests))
	seal(page)
	return page
}
