package btrfs

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"lantern/internal/agent/direct"
	"lantern/internal/agent/pools"
)

// Trees, objects and items of linux/btrfs_tree.h that lead from an address of a device to what is there.
const (
	chunkTree        = 3
	firstChunkTree   = 256
	fsTree           = 5
	firstFreeObject  = 256
	chunkItem        = 228
	iocTreeSearchV2  = 0xc0709411
	iocLogicalIno    = 0xc0389424
	iocInoPaths      = 0xc0389423
	searchHeaderSize = 32
)

// chunk is struct btrfs_chunk: a stretch of the logical address space and where it is on devices.
type chunk struct {
	start, length, stripeLen, flags uint64
	sub                             int
	stripes                         []stripe
}

type stripe struct{ device, offset uint64 }

// readChunks reads the whole chunk tree, a buffer at a time.
func readChunks(f *os.File) (out []chunk, err error) {
	const room = 64 << 10
	from := uint64(0)
	for {
		b := make([]byte, 112+room)
		for i, v := range []uint64{chunkTree, firstChunkTree, firstChunkTree, from, ^uint64(0), 0, ^uint64(0)} {
			le.PutUint64(b[8*i:], v)
		}
		le.PutUint32(b[56:], chunkItem)
		le.PutUint32(b[60:], chunkItem)
		le.PutUint32(b[64:], ^uint32(0))
		le.PutUint64(b[104:], room)
		if err := control(f, iocTreeSearchV2, b); err != nil {
			return nil, fmt.Errorf("read the chunk tree: %w", err)
		}
		n := int(le.Uint32(b[64:]))
		if n == 0 {
			return out, nil
		}
		rest := b[112:]
		for range n {
			start, size := le.Uint64(rest[16:]), int(le.Uint32(rest[28:]))
			c, err := decodeChunk(start, rest[searchHeaderSize:searchHeaderSize+size])
			if err != nil {
				return nil, err
			}
			out = append(out, c)
			rest = rest[searchHeaderSize+size:]
			from = start + 1
		}
	}
}

func decodeChunk(start uint64, b []byte) (c chunk, err error) {
	const head, each = 48, 32
	if len(b) < head {
		return c, fmt.Errorf("a chunk of %d bytes", len(b))
	}
	c = chunk{
		start:     start,
		length:    le.Uint64(b),
		stripeLen: le.Uint64(b[16:]),
		flags:     le.Uint64(b[24:]),
		sub:       int(le.Uint16(b[46:])),
	}
	for n := range int(le.Uint16(b[44:])) {
		if len(b) < head+each*(n+1) {
			return c, fmt.Errorf("a chunk with %d stripes in %d bytes", le.Uint16(b[44:]), len(b))
		}
		c.stripes = append(c.stripes, stripe{le.Uint64(b[head+each*n:]), le.Uint64(b[head+each*n+8:])})
	}
	return c, nil
}

const (
	groupRAID0  = 1 << 3
	groupRAID10 = 1 << 6
	groupRAID5  = 1 << 7
	groupRAID6  = 1 << 8
)

// logical is the logical address of a device's address. plain is false where parity is striped with data, so that which
// stripe it is cannot be told from the address alone. ok is false when the chunk does not lie there.
func (c chunk) logical(device, offset uint64) (at uint64, plain, ok bool) {
	n := uint64(len(c.stripes))
	size := c.length // of each stripe on its device
	switch {
	case n == 0 || c.stripeLen == 0:
		return 0, false, false
	case c.flags&groupRAID0 != 0:
		size = c.length / n
	case c.flags&groupRAID10 != 0:
		size = c.length / (n / uint64(max(1, c.sub)))
	case c.flags&groupRAID5 != 0:
		size = c.length / max(1, n-1)
	case c.flags&groupRAID6 != 0:
		size = c.length / max(1, n-2)
	}
	for i, s := range c.stripes {
		if s.device != device || offset < s.offset || offset >= s.offset+size {
			continue
		}
		in := offset - s.offset
		switch {
		case c.flags&(groupRAID5|groupRAID6) != 0:
			return 0, false, true
		case c.flags&groupRAID0 != 0:
			return c.start + (in/c.stripeLen*n+uint64(i))*c.stripeLen + in%c.stripeLen, true, true
		case c.flags&groupRAID10 != 0:
			sets := n / uint64(max(1, c.sub))
			return c.start + (in/c.stripeLen*sets+uint64(i/max(1, c.sub)))*c.stripeLen + in%c.stripeLen, true, true
		}
		return c.start + in, true, true
	}
	return 0, false, false
}

// WhatIsAt says what is at an address of a drive, in bytes.
func (d *Driver) WhatIsAt(_ context.Context, path string, offset uint64) (string, error) {
	says, err := "", error(pools.ErrNoSuchPool)
	failed := each(func(f *os.File, at string, info fsInfo) error {
		for id := uint64(1); id <= info.maxID; id++ {
			dev, e := readDevice(f, id)
			if e != nil || "/dev/"+direct.Disk(dev.path) != path && dev.path != path {
				continue
			}
			var begins uint64
			if dev.path != path {
				begins = partitionStart(dev.path)
			}
			name := readLabel(f)
			if name == "" {
				name = at
			}
			if offset < begins || offset-begins >= dev.total {
				continue
			}
			says, err = lies(f, at, name, id, offset-begins)
			return nil
		}
		return nil
	})
	if err != nil && failed != nil {
		return "", errors.Join(err, failed)
	}
	return says, err
}

func partitionStart(path string) uint64 {
	b, err := os.ReadFile("/sys/class/block/" + filepath.Base(path) + "/start")
	if err != nil {
		return 0
	}
	n, _ := strconv.ParseUint(strings.TrimSpace(string(b)), 10, 64)
	return n * 512
}

func lies(f *os.File, at, name string, device, offset uint64) (string, error) {
	chunks, err := readChunks(f)
	if err != nil {
		return "", err
	}
	for _, c := range chunks {
		logical, plain, ok := c.logical(device, offset)
		switch {
		case !ok:
			continue
		case c.flags&groupData == 0:
			return "metadata of " + name, nil
		case !plain:
			return "data or parity of " + name, nil
		}
		files, err := filesAt(f, at, logical)
		if err != nil {
			return "", err
		}
		if len(files) == 0 {
			return "free space of " + name, nil
		}
		if len(files) > 3 {
			files = append(files[:3], fmt.Sprintf("%d more", len(files)-3))
		}
		return strings.Join(files, ", ") + " in " + name, nil
	}
	return "nothing of " + name + ": the address is not in use", nil
}

// buffer is memory that the kernel is given the address of: it must not be on a stack, which moves.
//
//go:noinline
func buffer(n int) []byte { return make([]byte, n) }

// contained asks a question about one number that is answered into a struct btrfs_data_container: a head of 16 bytes,
// its third word the count of what follows.
func contained(f *os.File, request uint, about uint64, room int) ([]byte, error) {
	found := buffer(room)
	defer runtime.KeepAlive(found)
	b := make([]byte, 56)
	le.PutUint64(b, about)
	le.PutUint64(b[8:], uint64(room))
	le.PutUint64(b[48:], uint64(uintptr(unsafe.Pointer(&found[0]))))
	return found, control(f, request, b)
}

// filesAt are the files that a logical address belongs to. Those of other subvolumes than the one that is mounted are
// named by number.
func filesAt(f *os.File, at string, logical uint64) (out []string, err error) {
	found, err := contained(f, iocLogicalIno, logical, 64<<10)
	switch {
	case errors.Is(err, unix.ENOENT):
		return nil, nil
	case err != nil:
		return nil, fmt.Errorf("ask whose address it is: %w", err)
	}
	seen := map[string]bool{}
	for i := range int(le.Uint32(found[8:])) / 3 { // inode, offset and root of each
		inode, root := le.Uint64(found[16+24*i:]), le.Uint64(found[16+24*i+16:])
		names := paths(f, at, inode, root)
		if len(names) == 0 {
			names = []string{fmt.Sprintf("file %d of subvolume %d", inode, root)}
		}
		for _, n := range names {
			if !seen[n] {
				seen[n] = true
				out = append(out, n)
			}
		}
	}
	return out, nil
}

// paths are the names of a file in the subvolume that is mounted.
func paths(f *os.File, at string, inode, root uint64) (out []string) {
	var st unix.Stat_t
	if root != fsTree || unix.Fstat(int(f.Fd()), &st) != nil || st.Ino != firstFreeObject {
		return nil // the mount point is not the top of the file system's own tree
	}
	found, err := contained(f, iocInoPaths, inode, 16<<10)
	if err != nil {
		return nil
	}
	for i := range int(le.Uint32(found[8:])) {
		from := 16 + int(le.Uint64(found[16+8*i:])) // counted from where the offsets begin
		if from < len(found) {
			out = append(out, filepath.Join(at, text(found[from:])))
		}
	}
	return out
}
