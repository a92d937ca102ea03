package drive

import "encoding/binary"

// Layout of the SMART pages. READ DATA is ACS-3 clause 7.54.6; the attribute and threshold tables within it are those
// of ATA-3 (X3T10/2008D clause 7.6), which drives still answer.
const (
	attributeSlots   = 30
	attributeSize    = 12
	attributeStart   = 2
	offAutoStatus    = 362
	offSelfTest      = 363
	offCapability    = 367
	offErrorLogging  = 370
	offShortMinutes  = 372
	offLongMinutes   = 373
	offConveyance    = 374
	offLongMinutes16 = 375
)

// Attribute is one SMART attribute as the drive reports it, with its threshold.
type Attribute struct {
	ID        byte   `json:"id"`
	Flags     uint16 `json:"flags"`
	Value     byte   `json:"value"`     // normalised by the maker; falls towards Threshold
	Worst     byte   `json:"worst"`     // least Value ever
	Threshold byte   `json:"threshold"` // 0 when none was reported
	Raw       uint64 `json:"raw"`       // 48 bits, meaning by ID
}

// Prefailure is bit 0 of the flags: falling below the threshold predicts failure rather than the end of rated life.
func (a Attribute) Prefailure() bool { return a.Flags&1 != 0 }

// SmartData is the SMART READ DATA page.
type SmartData struct {
	Revision   uint16
	Attributes []Attribute
	// SelfTestStatus is the high half of byte 363 (ACS-3 table 134): 0 done, 1 aborted by host, 2 interrupted by reset,
	// 3 fatal, 4 to 7 failed, 15 running.
	SelfTestStatus byte
	// SelfTestRemaining is the remaining part of a running self-test, in percent.
	SelfTestRemaining int
	// SelfTests and ErrorLog are true when the drive supports them (ACS-3 tables 136 and 138): some drives report it
	// only here.
	SelfTests, ErrorLog bool
	// Conveyance and Selective are true when the drive supports these kinds of test (ACS-3 table 137).
	Conveyance, Selective bool
	// The drive's own estimates.
	ShortMinutes, ExtendedMinutes, ConveyanceMinutes int
}

// DecodeSmartData reads a SMART READ DATA page (command B0h, feature D0h).
func DecodeSmartData(page []byte) (SmartData, error) {
	var s SmartData
	if err := checkPage(PageSmartData, page); err != nil {
		return s, err
	}
	s.Revision = binary.LittleEndian.Uint16(page)
	for i := range attributeSlots {
		e := page[attributeStart+i*attributeSize:][:attributeSize]
		if e[0] == 0 {
			continue
		}
		var raw [8]byte
		copy(raw[:6], e[5:11])
		s.Attributes = append(s.Attributes, Attribute{
			ID: e[0], Flags: binary.LittleEndian.Uint16(e[1:]), Value: e[3], Worst: e[4],
			Raw: binary.LittleEndian.Uint64(raw[:]),
		})
	}
	s.SelfTestStatus = page[offSelfTest] >> 4
	s.SelfTestRemaining = int(page[offSelfTest]&0xF) * 10
	s.SelfTests = page[offCapability]&(1<<4) != 0
	s.Conveyance = page[offCapability]&(1<<5) != 0
	s.Selective = page[offCapability]&(1<<6) != 0
	s.ConveyanceMinutes = int(page[offConveyance])
	s.ErrorLog = page[offErrorLogging]&1 != 0
	s.ShortMinutes = int(page[offShortMinutes])
	s.ExtendedMinutes = int(page[offLongMinutes])
	if s.ExtendedMinutes == 0xFF {
		s.ExtendedMinutes = int(binary.LittleEndian.Uint16(page[offLongMinutes16:]))
	}
	return s, nil
}

// EncodeSmartData lays s out as a SMART READ DATA page; attributes beyond the thirtieth are left out.
func EncodeSmartData(s SmartData) []byte {
	page := make([]byte, PageSize)
	binary.LittleEndian.PutUint16(page, s.Revision)
	for i, a := range s.Attributes[:min(len(s.Attributes), attributeSlots)] {
		e := page[attributeStart+i*attributeSize:]
		e[0], e[3], e[4] = a.ID, a.Value, a.Worst
		binary.LittleEndian.PutUint16(e[1:], a.Flags)
		var raw [8]byte
		binary.LittleEndian.PutUint64(raw[:], a.Raw)
		copy(e[5:11], raw[:6])
	}
	page[offSelfTest] = s.SelfTestStatus<<4 | byte(s.SelfTestRemaining/10)&0xF
	for bit, has := range map[int]bool{4: s.SelfTests, 5: s.Conveyance, 6: s.Selective} {
		if has {
			page[offCapability] |= 1 << bit
		}
	}
	page[offConveyance] = byte(s.ConveyanceMinutes)
	if s.ErrorLog {
		page[offErrorLogging] |= 1
	}
	page[offShortMinutes] = byte(s.ShortMinutes)
	if s.ExtendedMinutes < 0xFF {
		page[offLongMinutes] = byte(s.ExtendedMinutes)
	} else {
		page[offLongMinutes] = 0xFF
		binary.LittleEndian.PutUint16(page[offLongMinutes16:], uint16(s.ExtendedMinutes))
	}
	seal(page)
	return page
}

// SelfTestMinutes are the kinds of self-test that the drive has, with its own estimates.
func (s SmartData) SelfTestMinutes() map[SelfTestKind]int {
	out := map[SelfTestKind]int{}
	for kind, one := range map[SelfTestKind]struct {
		has     bool
		minutes int
	}{SelfTestShort: {s.SelfTests, s.ShortMinutes}, SelfTestExtended: {s.SelfTests, s.ExtendedMinutes},
		SelfTestConveyance: {s.Conveyance, s.ConveyanceMinutes}, SelfTestSelective: {s.Selective, 0}} {
		if one.has {
			out[kind] = one.minutes
		}
	}
	return out
}

// DecodeSmartThresholds reads a SMART thresholds page (command B0h, feature D1h) as thresholds by attribute.
func DecodeSmartThresholds(page []byte) (map[byte]byte, error) {
	if err := checkPage(PageSmartThresholds, page); err != nil {
		return nil, err
	}
	t := map[byte]byte{}
	for i := range attributeSlots {
		if e := page[attributeStart+i*attributeSize:]; e[0] != 0 {
			t[e[0]] = e[1]
		}
	}
	return t, nil
}

// EncodeSmartThresholds lays out the thresholds of attributes, in their order.
func EncodeSmartThresholds(attributes []Attribute) []byte {
	page := make([]byte, PageSize)
	page[0] = 1
	for i, a := range attributes[:min(len(attributes), attributeSlots)] {
		e := page[attributeStart+i*attributeSize:]
		e[0], e[1] = a.ID, a.Threshold
	}
	seal(page)
	return page
}
