package drive

import (
	"bytes"
	"encoding/binary"
)

// HeadSize and TailSize are how many bytes of a drive's beginning and end Contents wants to see.
const (
	HeadSize = 1 << 17
	TailSize = 1 << 17
)

// Contents tells, from the first and last bytes of a drive, what lies on it, in words; nothing is written. An empty
// answer means that no signature known here was found.
//
// Sources: UEFI 2.10 clause 5 (GPT, MBR), linux/btrfs_tree.h, fs/ext4/ext4.h, fs/xfs, linux/swap.h, linux/raid/md_p.h,
// LUKS on-disk formats 1 and 2.
func Contents(head, tail []byte) []string {
	var out []string
	at := func(b []byte, off int, magic string) bool {
		return off >= 0 && off+len(magic) <= len(b) && string(b[off:off+len(magic)]) == magic
	}
	add := func(ok bool, what string) {
		if ok {
			out = append(out, what)
		}
	}
	gpt := at(head, 512, "EFI PART") || at(head, 4096, "EFI PART")
	add(gpt, "partition table")
	add(!gpt && at(head, 510, "\x55\xAA") && len(head) >= 512 && partitions(head), "partition table")
	add(at(head, 0x10040, "_BHRfS_M"), "btrfs")
	add(at(head, 0x438, "\x53\xEF"), "ext file system")
	add(at(head, 0, "XFSB"), "xfs file system")
	add(at(head, 4086, "SWAPSPACE2"), "swap area")
	add(at(head, 0, "LUKS\xBA\xBE"), "encrypted volume")
	add(at(head, 512, "LABELONE"), "logical volume member")
	md := binary.LittleEndian.AppendUint32(nil, 0xA92B4EFC)
	member := at(head, 0, string(md)) || at(head, 4096, string(md))
	for i := len(tail) - 4096; !member && i >= 0; i -= 4096 {
		member = at(tail, i, string(md)) // 0.90 sits in the last 128 KiB, 1.0 in the last 12 KiB
	}
	add(member, "md member")
	return out
}

// partitions says whether the four entries of a boot record hold any partition.
func partitions(head []byte) bool { return !bytes.Equal(head[446:510], make([]byte, 64)) }
