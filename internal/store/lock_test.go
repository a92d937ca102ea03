package store

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestLock: a second opener is refused and told who has it; what is on disk is nobody else's to read, from its first
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

// TestPaths: the records are in the very folder that was named, whatever its name is.
func TestPaths(t *testing.T) {
	for _, name := range []string{"plain", "with space", "#1", "what?", "100%", "%20", "a&b=c", "ä"} {
		file := filepath.Join(t.TempDir(), name, "lantern.db")
		s, err := Open(file)
		require.NoError(t, err, name)
		require.NoError(t, s.Write(&Batch{Events: []*Event{{Kind: "drive", Says: "came"}}}))
		require.NoError(t, s.Close())
		info, err := os.Stat(file)
		require.NoError(t, err, name)
		require.Positive(t, info.Size(), name)
		s, err = Open(file)
		require.NoError(t, err)
		events, err := All[Event](s, "id", "")
		require.NoError(t, err)
		require.Len(t, events, 1, name)
		require.NoError(t, s.Close())
	}
}
