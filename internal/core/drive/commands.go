package drive

import "encoding/binary"

// SCSI command blocks (SPC-5 clause 6, SBC-4 clause 5) and NVMe admin commands (NVMe 2.0 clause 5) of a reading.

// Inquiry asks for standard data, or for a page of vital product data when evpd is true.
func Inquiry(evpd bool, page byte, length uint16) []byte {
	b := []byte{0x12, 0, page, 0, 0, 0}
	if evpd {
		b[1] = 1
	}
	binary.BigEndian.PutUint16(b[3:], length)
	return b
}

// ReadCapacity16 asks how large a drive is.
func ReadCapacity16(length uint32) []byte {
	b := make([]byte, 16)
	b[0], b[1] = 0x9E, 0x10
	binary.BigEndian.PutUint32(b[10:], length)
	return b
}

// LogSense asks for the cumulative values of a log page.
func LogSense(page byte, length uint16) []byte {
	b := []byte{0x4D, 0, 0x40 | page, 0, 0, 0, 0, 0, 0, 0}
	binary.BigEndian.PutUint16(b[7:], length)
	return b
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
