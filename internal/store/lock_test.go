package store

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestLock: a second opener is refused and told who has it; what lies on disk is nobody else's to read, from its first
// byte.
func TestLock(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "lantern.db")
	require.NoError(t, Unused(file))
	s, err := Open(file)
	require.NoError(t, err)
	require.NoError(t, s.Serves("http://127.0.0.1:7411"))
	_, err = Open(file)
	require.ErrorContains(t, err, "is in use by process")
	require.ErrorContains(t, err, "which serves http://127.0.0.1:7411")
	require.Error(t, Unused(file))
	require.NoError(t, s.Write(&Batch{Events: []*Event{{Kind: "drive", Says: "came"}}}))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(entries), 4)
	for _, e := range entries {
		info, err := e.Info()
		require.NoError(t, err)
		require.EqualValues(t, 0o600, info.Mode().Perm(), e.Name())
	}
	require.NoError(t, s.Close())
	require.NoError(t, Unused(file))
	s, err = Open(file)
	require.NoError(t, err)
	require.NoError(t, s.Close())
}
