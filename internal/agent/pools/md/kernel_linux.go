package md

import (
	"errors"
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"

	"lantern/internal/agent/direct"
)

// Requests of linux/raid/md_u.h; the type is MD_MAJOR, 9.
const (
	iocGetDisk    = 0x80140912
	iocAddDisk    = 0x40140921
	iocSetArray   = 0x40480923
	iocRunArray   = 0x400c0930
	iocHotAdd     = 0x928 // takes a device's numbers, as new_encode_dev of linux/kdev_t.h packs them
	diskInfoWords = 5     // number, major, minor, place, state
	arrayWords    = 18    // mdu_array_info_t
)

func control(f *os.File, request uint, arg uintptr) error {
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), uintptr(request), arg); errno != 0 {
		return errno
	}
	return nil
}

// numbers are a device's major and minor, read from the opened file itself.
func numbers(f *os.File) (major, minor uint32, err error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return 0, 0, err
	}
	if st.Mode&unix.S_IFMT != unix.S_IFBLK {
		return 0, 0, fmt.Errorf("%s is not a block device", f.Name())
	}
	return unix.Major(st.Rdev), unix.Minor(st.Rdev), nil
}

// add gives a device the superblock of a new member, reads it back, and hands it to the array. If the array does not
// take it, the device is left as it was: else it would look like somebody's member from then on.
func (a array) add(path string, s *Super) error {
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_SYNC|unix.O_EXCL, 0)
	if err != nil {
		return err
	}
	was := make([]byte, superSize)
	if _, err := f.ReadAt(was, int64(s.Offset)*512); err != nil {
		return errors.Join(err, f.Close())
	}
	err = put(f, s)
	if err == nil {
		err = readBack(path, s)
	}
	major, minor, err2 := numbers(f)
	if err = errors.Join(err, err2, f.Close()); err == nil {
		err = a.take(s.Device, major, minor)
	}
	if err == nil {
		return nil
	}
	f, err2 = os.OpenFile(path, os.O_RDWR|unix.O_SYNC|unix.O_EXCL, 0)
	if err2 == nil {
		_, err3 := f.WriteAt(was, int64(s.Offset)*512)
		err2 = errors.Join(err3, f.Close())
	}
	if err2 != nil {
		err2 = fmt.Errorf("and its superblock could not be taken back: %w", err2)
	}
	return errors.Join(err, err2)
}

func readBack(path string, s *Super) error {
	f, err := direct.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	back, err := Read(f, uint64(f.Size))
	if err == nil && back.DeviceID != s.DeviceID {
		err = errors.New("what was written is not what is read back")
	}
	return err
}

// take hands a device with a superblock to the array.
func (a array) take(number, major, minor uint32) error {
	whole, err := os.OpenFile("/dev/"+a.name, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer whole.Close()
	info := [diskInfoWords]int32{int32(number), int32(major), int32(minor), -1, 0}
	return control(whole, iocAddDisk, uintptr(unsafe.Pointer(&info)))
}

// inUse reports whether the kernel knows a device of the array by a number; of one that is free it tells that it was
// removed.
func (a array) inUse(number uint32) bool {
	whole, err := os.OpenFile("/dev/"+a.name, os.O_RDONLY, 0)
	if err != nil {
		return false
	}
	defer whole.Close()
	const state, removed = 4, 1 << 3
	info := [diskInfoWords]int32{int32(number)}
	return control(whole, iocGetDisk, uintptr(unsafe.Pointer(&info))) == nil && info[state]&removed == 0
}

func put(f *os.File, s *Super) error {
	b, err := s.Encode()
	if err != nil {
		return err
	}
	_, err = f.WriteAt(b, int64(s.Offset)*512)
	return errors.Join(err, f.Sync())
}

// free is the least device number that nobody in the array has.
func free(all []device, s *Super) uint32 {
	n := s.Disks
	for _, m := range all {
		if m.super != nil {
			n = max(n, m.super.Device+1)
		}
	}
	for i, r := range s.Roles {
		if r < RoleJournal {
			n = max(n, uint32(i)+1)
		}
	}
	return n
}
