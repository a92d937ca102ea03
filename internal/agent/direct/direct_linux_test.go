package direct

import (
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever is asked for, aligned or not, within or beyond the end, is what the file holds there.
func TestReadAt(t *testing.T) {
	dir, err := os.MkdirTemp("/var/tmp", "direct") // not every file system in memory supports O_DIRECT
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "device")
	const size = 5*align + 512
	want := make([]byte, size)
	r := rand.NewChaCha8([32]byte{9})
	_, _ = r.Read(want)
	require.NoError(t, os.WriteFile(path, want, 0o600))
	f, err := Open(path)
	if err != nil {
		t.Skipf("*** SKIPPED: %v ***", err)
	}
	defer f.Close()
	require.EqualValues(t, size, f.Size)
	for range 2000 {
		at, n := int64(r.Uint64()%(size+align)), int(r.Uint64()%(3*align))
		b := make([]byte, n)
		got, err := f.ReadAt(b, at)
		there := max(0, min(n, size-int(at)))
		require.Equal(t, there, got)
		if there < n {
			require.ErrorIs(t, err, io.EOF)
		} else {
			require.NoError(t, err)
		}
		if there > 0 {
			require.Equal(t, want[at:int(at)+there], b[:there])
		}
	}
}
