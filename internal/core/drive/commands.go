package drive

import "encoding/binary"

// SCSI command blocks (SPC-5 clause 6, SBC-4 clause 5) and NVMe admin commands (NVMe 2.0 clause 5) of a reading.

// Inquiry requests standard data, or a page of vital product data when evpd is true.
func Inquiry(evpd bool, page byte, length uint16) []byte {
	b := []byte{0x12, 0, page, 0, 0, 0}
	if evpd {
		b[1] = 1
	}
	binary.BigEndian.PutUint16(b[3:], length)
	return b
}

// ReadCapacity16 requests the capacity of a drive.
func ReadCapacity16(length uint32) []byte {
	b := make([]byte, 16)
	b[0], b[1] = 0x9E, 0x10
	binary.BigEndian.PutUint32(b[10:], length)
	return b
}

// LogSense requests the cumulative values of a log page.
func LogSense(page byte, length uint16) []byte {
	b := []byte{0x4D, 0, 0x40 | page, 0, 0, 0, 0, 0, 0, 0}
	binary.BigEndian.PutUint16(b[7:], length)
	return b
}

// ReadDefects requests the header of the list of grown defects, in long block format (SBC-4 5.19).
func ReadDefects(length uint32) []byte {
	b := make([]byte, 12)
	b[0], b[1] = 0xB7, 0x08|0x03
	binary.BigEndian.PutUint32(b[6:], length)
	return b
}

// RequestSense requests the state of a drive: progress of a self-test, or whether it is in standby (SPC-5 6.39).
func RequestSense(length byte) []byte { return []byte{0x03, 0, 0, 0, length, 0} }

const opSendDiagnostic = 0x1D

// SendDiagnostic begins a self-test in the background, or stops it (SPC-5 6.42, table 280). ok is false for a kind that
// has no code.
func SendDiagnostic(k SelfTestKind, stop bool) (cmd []byte, ok bool) {
	code, ok := map[SelfTestKind]byte{SelfTestShort: 1, SelfTestExtended: 2}[k]
	if stop {
		code, ok = 4, true
	}
	return []byte{opSendDiagnostic, code << 5, 0, 0, 0, 0}, ok
}

// StandbySense reads the answer to REQUEST SENSE: whether the drive is in standby or stopped, so that most other
// commands would spin it up (SPC-5 table 59: additional sense 5Eh; SBC-4 4.20).
func StandbySense(b []byte) bool {
	var key, code, qualifier byte
	switch {
	case len(b) >= 14 && b[0]&0x7F <= 0x71:
		key, code, qualifier = b[2]&0xF, b[12], b[13]
	case len(b) >= 4 && b[0]&0x7F >= 0x72:
		key, code, qualifier = b[1]&0xF, b[2], b[3]
	}
	const notReady = 2
	switch code {
	case 0x5E: // low power; the other qualifiers are idle conditions, in which the platters still turn
		return qualifier == 0x02 || qualifier == 0x04 || qualifier == 0x09 || qualifier == 0x0A
	case 0x04:
		return key == notReady && qualifier == 0x02 // stopped: it waits for a command to start
	}
	return false
}

// NVMeCommandSize is the length of an NVMe submission queue entry; a command block of this length is one.
const NVMeCommandSize = 64

func nvme(opcode byte, namespace, cdw10 uint32) []byte {
	b := make([]byte, NVMeCommandSize)
	b[0] = opcode
	binary.LittleEndian.PutUint32(b[4:], namespace)
	binary.LittleEndian.PutUint32(b[40:], cdw10)
	return b
}

// NVMeIdentify asks for an identify data structure: 0 of a namespace, 1 of the controller. Both have 4,096 bytes.
func NVMeIdentify(structure byte, namespace uint32) []byte {
	return nvme(0x06, namespace, uint32(structure))
}

// NVMeLog asks for the first length bytes, a multiple of four, of a log page of the controller.
func NVMeLog(page byte, length int) []byte {
	return nvme(0x02, 0xFFFFFFFF, uint32(page)|uint32(length/4-1)<<16)
}

// NVMeSelfTest begins a device self-test on all namespaces, or stops it (NVMe 2.0 5.9). ok is false for a kind that has
// no code.
func NVMeSelfTest(k SelfTestKind, stop bool) (cmd []byte, ok bool) {
	code, ok := map[SelfTestKind]uint32{SelfTestShort: 1, SelfTestExtended: 2}[k]
	if stop {
		code, ok = 0xF, true
	}
	return nvme(0x14, 0xFFFFFFFF, code), ok
}
