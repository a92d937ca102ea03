package linux

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// loop makes a loop device of a file, or skips where that cannot be done.
func loop(t testing.TB, size int64) string {
	if os.Geteuid() != 0 {
		t.Skip("loop devices need root")
	}
	file := filepath.Join(t.TempDir(), "disk")
	f, err := os.Create(file)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(size))
	require.NoError(t, f.Close())
	out, err := exec.CommandContext(t.Context(), "losetup", "--find", "--show", "--direct-io=on", file).CombinedOutput()
	if err != nil {
		t.Skipf("no loop device can be made here: %v: %s", err, out)
	}
	dev := strings.TrimSpace(string(out))
	t.Cleanup(func() {
		require.NoError(t, exec.CommandContext(context.Background(), "losetup", "--detach", dev).Run())
	})
	return dev
}

// TestSurfaceDevice: written data are read back from a real block device, a change of one byte is found in its sector,
// and data beyond the end of a range are not changed.
func TestSurfaceDevice(t *testing.T) {
	const size = 40 << 20
	dev := loop(t, size)
	s, err := OpenSurface(dev)
	require.NoError(t, err)
	for at := int64(0); at < size-stretch; at += stretch {
		require.NoError(t, s.Write(t.Context(), at, stretch, 7))
	}
	require.NoError(t, s.Write(t.Context(), size-(8<<20), 8<<20-4096, 7))
	verify := func(at, n, want int64) {
		t.Helper()
		bad, err := s.Verify(t.Context(), at, n, 7)
		require.NoError(t, err)
		require.Equal(t, want, bad)
	}
	verify(0, stretch, -1)
	verify(stretch, stretch, -1)
	verify(size-(8<<20), 8<<20-4096, -1)
	verify(size-(8<<20), 8<<20, size-4096)
	require.NoError(t, s.Close())
	for _, at := range []int64{5<<20 + 777, 3<<20 + 5} { // the first of several is reported
		f, err := os.OpenFile(dev, os.O_RDWR, 0)
		require.NoError(t, err)
		b := make([]byte, 1)
		_, err = f.ReadAt(b, at)
		require.NoError(t, err)
		b[0] ^= 1
		_, err = f.WriteAt(b, at)
		require.NoError(t, err)
		require.NoError(t, f.Sync())
		require.NoError(t, f.Close())
		s, err = OpenSurface(dev)
		require.NoError(t, err)
		verify(0, stretch, at&^511)
		require.NoError(t, s.Close())
	}
	s, err = OpenSurface(dev)
	require.NoError(t, err)
	defer s.Close()
	require.Error(t, s.Write(t.Context(), size-4096, 8192, 7), "there is no more")
	_, err = s.Verify(t.Context(), size-4096, 8192, 7)
	require.Error(t, err)
	require.NoError(t, s.Blank(t.Context(), size))
}

// BenchmarkSurface writes and reads back a gigabyte of a loop device, beside dd in the same run.
func BenchmarkSurface(b *testing.B) {
	const size = 1 << 30
	dev := loop(b, size)
	for b.Loop() {
		rate := func(what string, do func() error) float64 {
			from := time.Now()
			require.NoError(b, do())
			mb := size / 1e6 / time.Since(from).Seconds()
			b.ReportMetric(mb, what)
			return mb
		}
		s, err := OpenSurface(dev)
		require.NoError(b, err)
		all := func(do func(at int64) error) func() error {
			return func() error {
				for at := int64(0); at < size; at += stretch {
					if err := do(at); err != nil {
						return err
					}
				}
				return nil
			}
		}
		write := rate("MB/s-written", func() error {
			err := all(func(at int64) error { return s.Write(b.Context(), at, stretch, 7) })()
			return errors.Join(err, s.Sync(b.Context()))
		})
		read := rate("MB/s-verified", all(func(at int64) error {
			bad, err := s.Verify(b.Context(), at, stretch, 7)
			require.EqualValues(b, -1, bad)
			return err
		}))
		require.NoError(b, s.Close())
		dd := func(args ...string) func() error {
			return func() error { return exec.CommandContext(b.Context(), "dd", append(args, "status=none")...).Run() }
		}
		w := rate("MB/s-dd-writes", dd("if=/dev/zero", "of="+dev, "bs=16M", "count=64", "oflag=direct", "conv=fdatasync"))
		r := rate("MB/s-dd-reads", dd("if="+dev, "of=/dev/null", "bs=16M", "count=64", "iflag=direct"))
		b.ReportMetric(write/w, "of-dd-writing")
		b.ReportMetric(read/r, "of-dd-reading")
	}
}
