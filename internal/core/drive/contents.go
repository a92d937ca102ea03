package drive

import (
	"bytes"
	"encoding/binary"
	"slices"
)

// HeadSize and TailSize are how many bytes of the beginning and end of a device Contents wants to see. BlankSize of
// them, at each end, must be zero for a device to count as blank. Beyond that, only signatures are searched for.
const (
	HeadSize  = 1<<20 + 1<<16
	TailSize  = 1 << 20
	BlankSize = 1 << 20
)

// PartitionTable is the finding of a GPT or an MBR with partitions; Something is the finding of bytes without a known
// signature; TestPattern is the finding of the pattern of an unfinished surface test.
const (
	PartitionTable = "partition table"
	Something      = "something unknown (it is not blank)"
	TestPattern    = "pattern of a surface test"
	// NotReadable starts the finding for a device that could not be read at all.
	NotReadable = "something that cannot be read"
)

// Mirror is where btrfs keeps the second copy of its super block (BTRFS_SUPER_MIRROR_SHIFT of fs/btrfs/disk-io.h).
const Mirror = 64 << 20

// signature identifies one format: magic bytes at an offset from the beginning.
type signature struct {
	what  string
	at    []int
	magic string
}

// signatures by offset from the beginning of a device. Sources: UEFI 2.10 clause 5; linux/btrfs_tree.h; fs/ext4/ext4.h;
// fs/xfs/libxfs/xfs_format.h and xfs_log_format.h (XLOG_HEADER_MAGIC_NUM); linux/swap.h; LUKS on-disk formats 1 and 2;
// the LVM2 label, in any of the first four sectors; linux/bcache.h and fs/bcachefs/bcachefs_format.h; fs/f2fs,
// fs/nilfs2, fs/jfs, fs/gfs2 (gfs2_ondisk.h), fs/ocfs2 (ocfs2_fs.h), fs/udf (ECMA-167 2/9), ISO 9660 (ECMA-119 8.1),
// Microsoft's exFAT and FAT specifications, fs/ntfs3, fs/hfsplus, fs/erofs, fs/squashfs; dm-integrity.c,
// dm-cache-metadata.c, dm-thin-metadata.c, dm-verity (verity superblock); dm-vdo (encodings.c, geometry block).
var signatures = []signature{
	{"btrfs", []int{0x10040}, "_BHRfS_M"},
	{"ext file system", []int{0x438}, "\x53\xEF"},
	{"xfs file system", []int{0}, "XFSB"},
	{"xfs external log", []int{0}, "\xFE\xED\xBA\xBE"},
	{"exfat file system", []int{3}, "EXFAT   "},
	{"ntfs file system", []int{3}, "NTFS    "},
	{"encrypted ntfs file system", []int{3}, "-FVE-FS-"},
	{"fat file system", []int{54}, "FAT12   "},
	{"fat file system", []int{54}, "FAT16   "},
	{"fat file system", []int{82}, "FAT32   "},
	{"swap area", []int{4086}, "SWAPSPACE2"},
	{"swap area", []int{4086}, "SWAP-SPACE"},
	{"image of a suspended system", []int{4086}, "S1SUSPEND"},
	{"encrypted volume", []int{0}, "LUKS\xBA\xBE"},
	{"encrypted volume", []int{0x4000, 0x8000, 0x10000, 0x20000, 0x40000, 0x80000}, "SKUL\xBA\xBE"},
	{"logical volume member", []int{0, 512, 1024, 1536}, "LABELONE"},
	{"cache set member", []int{4096 + 24}, "\xC6\x85\x73\xF6\x4E\x1A\x45\xCA\x82\x65\xF5\x7F\x48\xBA\x6D\x81"},
	{"multi-device file system", []int{4096 + 24}, "\xC6\x85\x73\xF6\x66\xCE\x90\xA9\xD9\x6A\x60\xCF\x80\x3D\xF7\xEF"},
	{"deduplicating volume", []int{0}, "dmvdo001"},
	{"object-store device label", []int{0}, "bluestore block device\n"},
	{"virtual-machine file system", []int{0x100000}, "\x0D\xD0\x01\xC0"},
	{"cluster file system", []int{0x10000}, "\x01\x16\x19\x70"},
	{"cluster file system", []int{1024, 2048, 4096, 8192}, "OCFSV2"},
	{"f2fs file system", []int{1024}, "\x10\x20\xF5\xF2"},
	{"nilfs file system", []int{1024 + 6}, "\x34\x34"},
	{"jfs file system", []int{0x8000}, "JFS1"},
	{"reiser file system", []int{0x10000 + 52, 0x2000 + 52}, "ReIsEr"},
	{"hfs file system", []int{1024}, "H+\x00\x04"},
	{"hfs file system", []int{1024}, "HX\x00\x05"},
	{"container of file systems", []int{32}, "NXSB"},
	{"optical file system", []int{0x8001}, "CD001"},
	{"optical file system", []int{0x8001, 0x8801, 0x9001}, "BEA01"},
	{"squashed file system", []int{0}, "hsqs"},
	{"erofs file system", []int{1024}, "\xE2\xE1\xF5\xE0"},
	{"integrity volume", []int{0}, "integrt\x00"},
	{"verity hash tree", []int{0}, "verity\x00\x00"},
	{"metadata of a thin pool", []int{32}, "\xC2\x56\x9C\x01\x00\x00\x00\x00"},
	{"metadata of a cache", []int{32}, "\xFA\x81\x5D\x00\x00\x00\x00\x00"},
}

// bootable file systems have the boot record signature in their first sector, without any partition.
var bootable = map[string]bool{
	"exfat file system":          true,
	"ntfs file system":           true,
	"fat file system":            true,
	"encrypted ntfs file system": true,
}

// Contents describes what is on a device, from its first and last bytes; nothing is written. head has up to HeadSize
// bytes, tail up to TailSize. An empty answer means that both ends were read and hold nothing but zeros: anything else
// without a known signature is Something (R3, R7).
func Contents(head, tail []byte) []string {
	var out []string
	add := func(ok bool, what string) {
		if !ok {
			return
		}
		if !slices.Contains(out, what) {
			out = append(out, what)
		}
	}
	boot := false
	for _, s := range signatures {
		for _, off := range s.at {
			if hasMagic(head, off, s.magic) {
				add(true, s.what)
				boot = boot || bootable[s.what]
			}
		}
	}
	if partitioned(head, tail, boot) {
		out = append([]string{PartitionTable}, out...)
	}
	add(uberblock(head) || uberblock(tail), "pool member (of a system that is not known here)")
	add(member(head, tail), "md member")
	add(firmware(tail), "firmware RAID member")
	add(replicated(tail), "replicated volume (internal metadata)")
	if len(out) == 0 && !(zero(head[:min(len(head), BlankSize)]) && zero(tail)) {
		out = append(out, Something)
	}
	return out
}

// hasMagic reports whether the magic bytes of a format are at an offset; false if they would reach past the end.
func hasMagic(b []byte, off int, magic string) bool {
	return off >= 0 && off+len(magic) <= len(b) && string(b[off:off+len(magic)]) == magic
}

// partitioned reports whether there is a partition table: a GPT or its backup (UEFI 2.10, 5.3.2), or an MBR, unless its
// sector is the boot sector of a file system.
func partitioned(head, tail []byte, boot bool) bool {
	const gpt = "EFI PART"
	return hasMagic(head, 512, gpt) || hasMagic(head, 4096, gpt) ||
		hasMagic(tail, len(tail)-512, gpt) || hasMagic(tail, len(tail)-4096, gpt) ||
		!boot && len(head) >= 512 && hasMagic(head, 510, "\x55\xAA") && partitions(head)
}

// member looks for md superblocks: 1.1 and 1.2 at the beginning, 1.0 and 0.90 in the last 128 KiB (linux/raid/md_p.h).
// Version 0.90 is written in the byte order of its host.
func member(head, tail []byte) bool {
	le := binary.LittleEndian.AppendUint32(nil, 0xA92B4EFC)
	be := binary.BigEndian.AppendUint32(nil, 0xA92B4EFC)
	has := func(b []byte, off int) bool {
		return off >= 0 && off+4 <= len(b) && (bytes.Equal(b[off:off+4], le) || bytes.Equal(b[off:off+4], be))
	}
	if has(head, 0) || has(head, 4096) {
		return true
	}
	for i := len(tail) - 4096; i >= 0 && i >= len(tail)-(192<<10); i -= 512 {
		if has(tail, i) {
			return true
		}
	}
	return false
}

// firmware looks for the metadata of RAID firmware at the end of a device: the anchor header of the SNIA Common RAID
// Disk Data Format (DDF 2.0 clause 4.2.2, in the last sector), and the signatures of others, also in the last sectors.
func firmware(tail []byte) bool {
	marks := []string{
		"\xDE\x11\xDE\x11", // DDF, big-endian as the standard has it
		"\x49\x6E\x74\x65\x6C\x20\x52\x61\x69\x64\x20\x49\x53\x4D\x20\x43\x66\x67\x20\x53\x69\x67",
		"\x50\x72\x6F\x6D\x69\x73\x65\x20\x54\x65\x63\x68\x6E\x6F\x6C\x6F\x67\x79",
		"\x4E\x56\x49\x44\x49\x41",
	}
	for i := len(tail) - 512; i >= 0 && i >= len(tail)-(64<<10); i -= 512 {
		for _, m := range marks {
			if bytes.HasPrefix(tail[i:], []byte(m)) {
				return true
			}
		}
	}
	return false
}

// replicated looks for the internal metadata of a device that is replicated over a network: in its last 4 KiB, with a
// mark at byte 60 that ends in 6Bh, 6Ch or 6Dh (struct meta_data_on_disk of drivers/block/drbd/drbd_main.c).
func replicated(tail []byte) bool {
	if len(tail) < 4096 {
		return false
	}
	m := binary.BigEndian.Uint32(tail[len(tail)-4096+60:])
	return m >= 0x8374026B && m <= 0x8374026D
}

// uberblock looks for the ring of records by which a pool outside the kernel is found: at each end are two labels of
// 256 KiB, whose second half is a ring of records of 1 KiB or more that begin with 00BAB10Ch in either byte order.
func uberblock(b []byte) bool {
	le, be := []byte{0x0C, 0xB1, 0xBA, 0, 0, 0, 0, 0}, []byte{0, 0, 0, 0, 0, 0xBA, 0xB1, 0x0C}
	for i := 0; i+8 <= len(b); i += 1024 {
		if bytes.Equal(b[i:i+8], le) || bytes.Equal(b[i:i+8], be) {
			return true
		}
	}
	return false
}

func zero(b []byte) bool {
	for len(b) >= 8 {
		if binary.NativeEndian.Uint64(b) != 0 {
			return false
		}
		b = b[8:]
	}
	for _, x := range b {
		if x != 0 {
			return false
		}
	}
	return true
}

// partitions reports whether any of the four entries of a boot record is in use.
func partitions(head []byte) bool { return !zero(head[446:510]) }
