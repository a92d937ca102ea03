package drive

import "fmt"

// An ATA command travels inside a SCSI command block: ATA PASS-THROUGH (16), SAT-4 clause 12.2.3. The registers come
// back in the sense data's ATA Status Return descriptor, SAT-4 clause 12.2.7.
const (
	opPassThrough16 = 0x85
	protocolNonData = 3
	protocolPIOIn   = 4
	flagCheckCond   = 1 << 5 // always give the registers back
	flagFromDevice  = 1 << 3
	flagBlocks      = 1 << 2
	lengthInCount   = 2

	cmdIdentify = 0xEC
	cmdSmart    = 0xB0

	cmdCheckPower = 0xE5

	smartReadData       = 0xD0
	smartReadThresholds = 0xD1
	smartReadLog        = 0xD5
	smartReturnStatus   = 0xDA

	smartSignature = 0xC24F00 // LBA 23:8 of every SMART command
	smartFailing   = 0x2CF400 // LBA 23:8 of RETURN STATUS when a threshold was exceeded
	logSelfTest    = 0x06
)

// Registers are the ATA registers of one command, 28-bit form.
type Registers struct {
	Features byte
	Count    byte
	LBA      uint32 // bits 23:0
	Device   byte
	Command  byte // the status, on the way back
	Error    byte // only on the way back
}

// The commands of a reading, in their order.
var (
	IdentifyDevice      = Registers{Command: cmdIdentify, Count: 1}
	SmartReadData       = Registers{Command: cmdSmart, Features: smartReadData, LBA: smartSignature, Count: 1}
	SmartReadThresholds = Registers{Command: cmdSmart, Features: smartReadThresholds, LBA: smartSignature, Count: 1}
	SmartReadSelfTest   = Registers{Command: cmdSmart, Features: smartReadLog, LBA: smartSignature | logSelfTest, Count: 1}
	SmartReturnStatus   = Registers{Command: cmdSmart, Features: smartReturnStatus, LBA: smartSignature}
	CheckPowerMode      = Registers{Command: cmdCheckPower}
)

// Asleep reads the answer to CHECK POWER MODE (ACS-4 7.3.2): in standby the platters stand still, and most other commands
// would set them going.
func Asleep(r Registers) bool { return r.Count == 0x00 || r.Count == 0x01 }

// EncodePassThrough gives the 16-byte command block; in says whether a page of data comes back.
func EncodePassThrough(r Registers, in bool) []byte {
	cdb := make([]byte, 16)
	cdb[0] = opPassThrough16
	cdb[1] = protocolNonData << 1
	cdb[2] = flagCheckCond
	if in {
		cdb[1] = protocolPIOIn << 1
		cdb[2] = flagFromDevice | flagBlocks | lengthInCount
	}
	cdb[4], cdb[6] = r.Features, r.Count
	cdb[8], cdb[10], cdb[12] = byte(r.LBA), byte(r.LBA>>8), byte(r.LBA>>16)
	cdb[13], cdb[14] = r.Device, r.Command
	return cdb
}

// DecodePassThrough reads a command block back into registers, as a device does.
func DecodePassThrough(cdb []byte) (r Registers, in bool, err error) {
	if len(cdb) != 16 || cdb[0] != opPassThrough16 {
		return r, false, fmt.Errorf("not an ATA PASS-THROUGH (16) command block: %x", cdb)
	}
	r = Registers{
		Features: cdb[4], Count: cdb[6], LBA: uint32(cdb[8]) | uint32(cdb[10])<<8 | uint32(cdb[12])<<16,
		Device: cdb[13], Command: cdb[14],
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

// EncodeSense gives the sense data that carries registers back. A status with the error bit set comes as ABORTED COMMAND.
func EncodeSense(r Registers) []byte {
	s := make([]byte, senseHeader+descriptorATASize)
	s[0], s[1], s[3], s[7] = senseDescriptor, senseRecovered, ascqATARegisters, descriptorATASize
	if r.Command&1 != 0 {
		s[1] = senseAborted
	}
	d := s[senseHeader:]
	d[0], d[1] = descriptorATA, descriptorATASize-2
	d[3], d[5] = r.Error, r.Count
	d[7], d[9], d[11] = byte(r.LBA), byte(r.LBA>>8), byte(r.LBA>>16)
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
			r.Error, r.Count = d[3], d[5]
			r.LBA = uint32(d[7]) | uint32(d[9])<<8 | uint32(d[11])<<16
			r.Device, r.Command = d[12], d[13]
			return r, nil
		}
		rest = rest[size:]
	}
	return r, fmt.Errorf("sense data carries no ATA registers: %x", s)
}

// DecodeReturnStatus reads the answer to SMART RETURN STATUS (ACS-3 7.54.8): failing is the drive's own prediction.
func DecodeReturnStatus(r Registers) (failing bool, err error) {
	switch r.LBA &^ 0xFF {
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
