package drive

import "fmt"

// An ATA command travels inside a SCSI command block: ATA PASS-THROUGH (16), SAT-4 clause 12.2.3. The drive returns its
// registers in the ATA Status Return descriptor of the sense data, SAT-4 clause 12.2.7.
const (
	opPassThrough16 = 0x85
	protocolNonData = 3
	protocolPIOIn   = 4
	protocolPIOOut  = 5
	flagCheckCond   = 1 << 5 // always give the registers back
	flagFromDevice  = 1 << 3
	flagBlocks      = 1 << 2
	lengthInCount   = 2

	cmdIdentify = 0xEC
	cmdSmart    = 0xB0

	cmdCheckPower = 0xE5
	cmdReadLogExt = 0x2F

	smartReadData       = 0xD0
	smartReadThresholds = 0xD1
	smartExecute        = 0xD4
	smartReadLog        = 0xD5
	smartWriteLog       = 0xD6
	smartReturnStatus   = 0xDA

	smartSignature = 0xC24F00 // LBA 23:8 of every SMART command
	smartFailing   = 0x2CF400 // LBA 23:8 of RETURN STATUS when a threshold was exceeded

	flagExtend = 1 // of byte 1: the registers are 48-bit ones
)

// The logs that are read from a drive, by address (ACS-4 table 203).
const (
	LogDirectory        byte = 0x00
	LogErrors           byte = 0x01
	LogExtendedErrors   byte = 0x03
	LogStatistics       byte = 0x04
	LogSelfTest         byte = 0x06
	LogExtendedSelfTest byte = 0x07
	LogSelective        byte = 0x09
	LogSCTStatus        byte = 0xE0
)

// Registers are the ATA registers of one command. Those of a 28-bit command have 8 bits of features and count and 24 of
// address; Extend is true for a 48-bit command, which uses all of them.
type Registers struct {
	Extend   bool
	Features uint16
	Count    uint16
	LBA      uint64
	Device   byte
	Command  byte // the status, on the way back
	Error    byte // only on the way back
}

// The commands of one reading, in the order they are sent.
var (
	IdentifyDevice      = Registers{Command: cmdIdentify, Count: 1}
	SmartReadData       = Registers{Command: cmdSmart, Features: smartReadData, LBA: smartSignature, Count: 1}
	SmartReadThresholds = Registers{Command: cmdSmart, Features: smartReadThresholds, LBA: smartSignature, Count: 1}
	SmartReadSelfTest   = Registers{
		Command:  cmdSmart,
		Features: smartReadLog,
		LBA:      smartSignature | uint64(LogSelfTest),
		Count:    1,
	}
	SmartReturnStatus   = Registers{Command: cmdSmart, Features: smartReturnStatus, LBA: smartSignature}
	SmartWriteSelective = Registers{
		Command:  cmdSmart,
		Features: smartWriteLog,
		LBA:      smartSignature | uint64(LogSelective),
		Count:    1,
	}
	CheckPowerMode = Registers{Command: cmdCheckPower}
)

// Asleep reads the answer to CHECK POWER MODE (ACS-4 7.3.2): in standby the platters do not turn, and most other
// commands would spin them up.
func Asleep(r Registers) bool { return r.Count&0xFF <= 0x01 }

// ReadLog asks for one page of a log: by READ LOG EXT (ACS-4 7.22) from a drive that has general purpose logging, else
// by SMART READ LOG, which always begins at the first page.
func ReadLog(general bool, log byte, page uint16) Registers {
	if !general {
		return Registers{Command: cmdSmart, Features: smartReadLog, LBA: smartSignature | uint64(log), Count: 1}
	}
	return Registers{
		Extend:  true,
		Command: cmdReadLogExt,
		Count:   1,
		LBA:     uint64(log) | uint64(page&0xFF)<<8 | uint64(page>>8)<<32,
	}
}

// StartSelfTest begins a self-test in off-line mode (ACS-3 7.54.5, table 132); the drive keeps serving I/O. ok is false
// for a kind that has no subcommand.
func StartSelfTest(k SelfTestKind) (r Registers, ok bool) {
	for number, kind := range selfTestKinds {
		if kind == k {
			return Registers{Command: cmdSmart, Features: smartExecute, LBA: smartSignature | uint64(number)}, true
		}
	}
	return r, false
}

// StopSelfTest aborts a self-test that runs in off-line mode.
var StopSelfTest = Registers{Command: cmdSmart, Features: smartExecute, LBA: smartSignature | 0x7F}

// EncodePassThrough gives the 16-byte command block; in is true when a page of data comes back.
func EncodePassThrough(r Registers, in bool) []byte {
	cdb := make([]byte, 16)
	cdb[0] = opPassThrough16
	cdb[1] = protocolNonData << 1
	cdb[2] = flagCheckCond
	if in {
		cdb[1] = protocolPIOIn << 1
		cdb[2] = flagFromDevice | flagBlocks | lengthInCount
	}
	cdb[4], cdb[6] = byte(r.Features), byte(r.Count)
	cdb[8], cdb[10], cdb[12] = byte(r.LBA), byte(r.LBA>>8), byte(r.LBA>>16)
	if r.Extend {
		cdb[1] |= flagExtend
		cdb[3], cdb[5] = byte(r.Features>>8), byte(r.Count>>8)
		cdb[7], cdb[9], cdb[11] = byte(r.LBA>>24), byte(r.LBA>>32), byte(r.LBA>>40)
	}
	cdb[13], cdb[14] = r.Device, r.Command
	return cdb
}

// EncodePassThroughOut gives the 16-byte command block of a command that takes a page of data to the drive.
func EncodePassThroughOut(r Registers) []byte {
	cdb := EncodePassThrough(r, true)
	cdb[1] = cdb[1]&flagExtend | protocolPIOOut<<1
	cdb[2] &^= flagFromDevice
	return cdb
}

// Sends reports whether a command block transfers data to the device: an ATA pass-through in the out direction, or SEND
// DIAGNOSTIC.
func Sends(cmd []byte) bool {
	switch {
	case len(cmd) == 16 && cmd[0] == opPassThrough16:
		return cmd[1]>>1&0xF == protocolPIOOut
	}
	return len(cmd) == 6 && cmd[0] == opSendDiagnostic
}

// DecodePassThrough reads a command block back into registers, as a device does.
func DecodePassThrough(cdb []byte) (r Registers, in bool, err error) {
	if len(cdb) != 16 || cdb[0] != opPassThrough16 {
		return r, false, fmt.Errorf("not an ATA PASS-THROUGH (16) command block: %x", cdb)
	}
	r = Registers{
		Extend: cdb[1]&flagExtend != 0, Features: uint16(cdb[4]), Count: uint16(cdb[6]),
		LBA: uint64(cdb[8]) | uint64(cdb[10])<<8 | uint64(cdb[12])<<16, Device: cdb[13], Command: cdb[14],
	}
	if r.Extend {
		r.Features |= uint16(cdb[3]) << 8
		r.Count |= uint16(cdb[5]) << 8
		r.LBA |= uint64(cdb[7])<<24 | uint64(cdb[9])<<32 | uint64(cdb[11])<<40
	}
	return r, cdb[1]>>1&0xF == protocolPIOIn, nil
}

// Descriptor-format sense data (SPC-5 clause 4.4.2) around an ATA Status Return descriptor.
const (
	senseDescriptor   = 0x72
	senseRecovered    = 0x01
	senseAborted      = 0x0B
	ascqATARegisters  = 0x1D
	descriptorATA     = 0x09
	descriptorATASize = 14
	senseHeader       = 8
)

// EncodeSense gives the sense data that carries registers back. A status with the error bit set comes as ABORTED
// COMMAND.
func EncodeSense(r Registers) []byte {
	s := make([]byte, senseHeader+descriptorATASize)
	s[0], s[1], s[3], s[7] = senseDescriptor, senseRecovered, ascqATARegisters, descriptorATASize
	if r.Command&1 != 0 {
		s[1] = senseAborted
	}
	d := s[senseHeader:]
	d[0], d[1] = descriptorATA, descriptorATASize-2
	d[3], d[5] = r.Error, byte(r.Count)
	d[7], d[9], d[11] = byte(r.LBA), byte(r.LBA>>8), byte(r.LBA>>16)
	if r.Extend {
		d[2], d[4] = flagExtend, byte(r.Count>>8)
		d[6], d[8], d[10] = byte(r.LBA>>24), byte(r.LBA>>32), byte(r.LBA>>40)
	}
	d[12], d[13] = r.Device, r.Command
	return s
}

// DecodeSense finds the ATA registers in descriptor-format sense data.
func DecodeSense(s []byte) (Registers, error) {
	var r Registers
	if len(s) < senseHeader || s[0]&0x7F != senseDescriptor {
		return r, fmt.Errorf("sense data is not in descriptor format: %x", s)
	}
	rest := s[senseHeader:min(len(s), senseHeader+int(s[7]))]
	for len(rest) >= 2 {
		size := 2 + int(rest[1])
		if size > len(rest) {
			break
		}
		if d := rest[:size]; d[0] == descriptorATA && size >= descriptorATASize {
			r.Error, r.Count = d[3], uint16(d[5])
			r.LBA = uint64(d[7]) | uint64(d[9])<<8 | uint64(d[11])<<16
			if r.Extend = d[2]&flagExtend != 0; r.Extend {
				r.Count |= uint16(d[4]) << 8
				r.LBA |= uint64(d[6])<<24 | uint64(d[8])<<32 | uint64(d[10])<<40
			}
			r.Device, r.Command = d[12], d[13]
			return r, nil
		}
		rest = rest[size:]
	}
	return r, fmt.Errorf("sense data carries no ATA registers: %x", s)
}

// DecodeReturnStatus reads the answer to SMART RETURN STATUS (ACS-3 7.54.8): failing is the drive's own prediction.
func DecodeReturnStatus(r Registers) (failing bool, err error) {
	switch r.LBA & 0xFFFF00 {
	case smartSignature:
		return false, nil
	case smartFailing:
		return true, nil
	}
	return false, fmt.Errorf("SMART RETURN STATUS answered LBA %06Xh, neither C24Fxxh nor 2CF4xxh", r.LBA)
}

// EncodeReturnStatus gives the registers that answer SMART RETURN STATUS.
func EncodeReturnStatus(failing bool) Registers {
	r := Registers{LBA: smartSignature, Command: 0x50}
	if failing {
		r.LBA = smartFailing
	}
	return r
}
