package drive

import (
	"encoding/binary"
	"fmt"
	"strings"
)

// Word numbers of the IDENTIFY DEVICE data, ACS-4 clause 7.12.7.
const (
	wordSerial         = 10 // 10 words, ASCII
	wordFirmware       = 23 // 4 words, ASCII
	wordModel          = 27 // 20 words, ASCII
	wordSectors28      = 60
	wordCommandSets82  = 82
	wordCommandSets83  = 83
	wordCommandSets84  = 84
	wordZoned          = 69
	wordEnabled85      = 85
	wordEnabled87      = 87
	wordSectors48      = 100
	wordSectorSize     = 106
	wordWWN            = 108
	wordLogicalSize    = 117
	wordFormFactor     = 168
	wordRotationRate   = 217
	wordIntegrity      = 255
	integritySignature = 0xA5
)

var formFactors = []string{
	"",
	"5.25 inch",
	"3.5 inch",
	"2.5 inch",
	"1.8 inch",
	"under 1.8 inch",
	"mSATA",
	"M.2",
	"MicroSSD",
	"CFast",
}

// DecodeIdentify reads IDENTIFY DEVICE data (ACS-4 7.12.7). A page of another length, with a wrong integrity word, or
// that names no serial is Unreadable.
func DecodeIdentify(page []byte) (Description, error) {
	var d Description
	if len(page) != PageSize {
		return d, unreadable(PageIdentify, page, "%d bytes came, %d were due", len(page), PageSize)
	}
	w := func(n int) uint16 { return binary.LittleEndian.Uint16(page[2*n:]) }
	// The integrity word is valid only when its signature is present (ACS-4 7.12.7.98).
	if byte(w(wordIntegrity)) == integritySignature && sum(page) != 0 {
		return d, unreadable(
			PageIdentify,
			page,
			"integrity word is wrong: the bytes add up to %02Xh instead of 00h",
			sum(page),
		)
	}
	d.Serial = ataString(page, wordSerial, 10)
	d.Firmware = ataString(page, wordFirmware, 4)
	d.Model = ataString(page, wordModel, 20)
	if d.Serial == "" {
		return d, unreadable(PageIdentify, page, "it names no serial number")
	}
	// Words 82 to 84 and 85 to 87 are valid only when bits 15:14 of word 83, 84 and 87 read 01b.
	valid := func(n int) bool { return w(n)>>14 == 0b01 }
	if valid(wordCommandSets83) {
		d.SMARTSupported = w(wordCommandSets82)&1 != 0
	}
	if valid(wordEnabled87) {
		d.SMARTEnabled = w(wordEnabled85)&1 != 0
		if w(wordEnabled87)&(1<<8) != 0 {
			d.WWN = fmt.Sprintf("%04x%04x%04x%04x", w(wordWWN), w(wordWWN+1), w(wordWWN+2), w(wordWWN+3))
		}
	}
	if valid(wordCommandSets84) {
		d.SelfTests = w(wordCommandSets84)&(1<<1) != 0
		d.GeneralLogs = w(wordCommandSets84)&(1<<5) != 0
	}
	d.LogicalSector, d.PhysicalSector = 512, 512
	if s := w(wordSectorSize); s>>14 == 0b01 {
		if s&(1<<12) != 0 {
			d.LogicalSector = 2 * Bytes(uint32(w(wordLogicalSize))|uint32(w(wordLogicalSize+1))<<16)
		}
		d.PhysicalSector = d.LogicalSector
		if s&(1<<13) != 0 {
			d.PhysicalSector = d.LogicalSector << (s & 0xF)
		}
	}
	sectors := uint64(w(wordSectors28)) | uint64(w(wordSectors28+1))<<16
	if valid(wordCommandSets83) && w(wordCommandSets83)&(1<<10) != 0 {
		sectors = binary.LittleEndian.Uint64(page[2*wordSectors48:])
	}
	d.Capacity = Bytes(sectors) * d.LogicalSector
	d.Medium = MediumUnknown
	switch r := w(wordRotationRate); {
	case r == 1:
		d.Medium = MediumSolidState
	case r >= 0x0401 && r <= 0xFFFE:
		d.Medium, d.RotationRPM = MediumRotating, int(r)
	}
	d.Zoned = map[uint16]Zoning{1: HostAware, 2: DriveManaged}[w(wordZoned)&0x3]
	if f := int(w(wordFormFactor) & 0xF); f < len(formFactors) {
		d.FormFactor = formFactors[f]
	}
	return d, nil
}

// EncodeIdentify lays d out as IDENTIFY DEVICE data, integrity word included. Strings longer than their field are cut.
func EncodeIdentify(d Description) []byte {
	page := make([]byte, PageSize)
	set := func(n int, v uint16) { binary.LittleEndian.PutUint16(page[2*n:], v) }
	putATAString(page, wordSerial, 10, d.Serial)
	putATAString(page, wordFirmware, 4, d.Firmware)
	putATAString(page, wordModel, 20, d.Model)
	logical := d.LogicalSector
	if logical == 0 {
		logical = 512
	}
	sectors := uint64(d.Capacity / logical)
	low := min(sectors, 0x0FFFFFFF)
	set(wordSectors28, uint16(low))
	set(wordSectors28+1, uint16(low>>16))
	binary.LittleEndian.PutUint64(page[2*wordSectors48:], sectors)
	bit := func(on bool, n uint) uint16 {
		if on {
			return 1 << n
		}
		return 0
	}
	set(wordCommandSets82, bit(d.SMARTSupported, 0))
	set(wordCommandSets83, 1<<14|1<<10)
	set(wordCommandSets84, 1<<14|bit(d.SelfTests, 1)|bit(d.GeneralLogs, 5)|1)
	set(wordEnabled85, bit(d.SMARTEnabled, 0))
	set(wordEnabled87, 1<<14|bit(d.WWN != "", 8)|bit(d.SelfTests, 1)|bit(d.GeneralLogs, 5))
	size := uint16(1 << 14)
	if logical != 512 {
		size |= 1 << 12
		set(wordLogicalSize, uint16(logical/2))
		set(wordLogicalSize+1, uint16(logical/2>>16))
	}
	if d.PhysicalSector > logical {
		n := uint16(0)
		for logical<<n < d.PhysicalSector {
			n++
		}
		size |= 1<<13 | n
	}
	set(wordSectorSize, size)
	var wwn uint64
	if _, err := fmt.Sscanf(d.WWN, "%x", &wwn); err == nil {
		for i := range 4 {
			set(wordWWN+i, uint16(wwn>>(48-16*i)))
		}
	}
	set(wordZoned, map[Zoning]uint16{HostAware: 1, DriveManaged: 2}[d.Zoned])
	for i, f := range formFactors {
		if f != "" && f == d.FormFactor {
			set(wordFormFactor, uint16(i))
		}
	}
	if d.Medium == MediumSolidState {
		set(wordRotationRate, 1)
	} else {
		set(wordRotationRate, uint16(d.RotationRPM))
	}
	page[2*wordIntegrity] = integritySignature
	seal(page)
	return page
}

// ataString reads an ASCII field: two characters a word, the first in the high byte, padded with spaces (ACS-4 3.4.9).
// Bytes that are not printable ASCII become '?', so that a page of noise never reaches a terminal as it is.
func ataString(page []byte, word, words int) string {
	b := make([]byte, 0, 2*words)
	for i := range words {
		b = append(b, page[2*(word+i)+1], page[2*(word+i)])
	}
	for i, c := range b {
		if c == 0 {
			b[i] = ' '
		} else if c < 0x20 || c > 0x7E {
			b[i] = '?'
		}
	}
	return strings.TrimSpace(string(b))
}

func putATAString(page []byte, word, words int, s string) {
	for i := range 2 * words {
		c := byte(' ')
		if i < len(s) {
			c = s[i]
		}
		page[2*word+(i^1)] = c
	}
}
