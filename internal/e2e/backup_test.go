package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestBackup makes a backup of a running service, checks it, finds damage, and restores it: the restored service has
// the same records, and gives no orders until a person confirms that the previous service is gone.
func TestBackup(t *testing.T) {
	d := startDemo(t)
	d.run("swap", "plan", "ZU006", "--keep-spare")
	d.run("swap", "begin", "--reason", "LM417 comes next")
	dir := t.TempDir()
	file := filepath.Join(dir, "backup.db")
	require.Contains(t, d.run("backup", "--data", d.data, file), "no fault found")
	st, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), st.Mode().Perm(), "it holds secrets")
	again := d.try("backup", "--data", d.data, file)
	require.Equal(t, 1, again.code)
	require.Contains(t, again.err, "is there already")
	nowhere := d.try("backup", "--data", filepath.Join(dir, "nowhere"), filepath.Join(dir, "x.db"))
	require.Equal(t, 1, nowhere.code)
	require.Contains(t, nowhere.err, "--data")
	left, err := filepath.Glob(filepath.Join(dir, "*.part*"))
	require.NoError(t, err)
	require.Empty(t, left)

	for _, args := range [][]string{{"check", "--data", d.data}, {"check", file}} {
		said := d.run(args...)
		looked := []string{"the database", "the readings", "the audit", "loading it as at a start", "the swaps"}
		if args[1] != "--data" {
			looked = append(looked, "the file")
		}
		for _, what := range looked {
			require.Contains(t, said, "sound  "+what+": ")
		}
		require.Equal(t, len(looked), strings.Count(said, "sound  "), said)
		require.Contains(t, said, "every checksum right")
	}
	require.NotEmpty(t, get[api.Round](d.shell, "round").Lines, "the service went on")

	// Damage is found wherever it is, and a damaged backup is not restored.
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	sum, err := os.ReadFile(file + ".sha256")
	require.NoError(t, err)
	found := 0
	for i := range 12 {
		at := 20 + i*(len(whole)-700)/11
		bad := append([]byte(nil), whole...)
		for i := range 600 {
			bad[at+i] ^= 0x5A
		}
		damaged := filepath.Join(dir, "damaged.db")
		require.NoError(t, os.WriteFile(damaged, bad, 0o600))
		require.NoError(t, os.WriteFile(damaged+".sha256", sum, 0o600))
		a := d.try("check", damaged)
		require.Equal(t, 1, a.code, "damage at byte %d was not found: %s", at, a.out)
		require.Contains(t, a.out, "WRONG")
		found++
	}
	require.Equal(t, 12, found, "with the sum beside it, all of it")
	require.Equal(t, 1, d.try("restore", filepath.Join(dir, "damaged.db"), "--data", filepath.Join(dir, "new")).code)
	torn := filepath.Join(dir, "torn.db")
	require.NoError(t, os.WriteFile(torn, whole[:len(whole)/2], 0o600))
	require.Equal(t, 1, d.try("restore", torn, "--data", filepath.Join(dir, "new")).code)
	require.NoFileExists(t, filepath.Join(dir, "new", "lantern.db"))
	other := filepath.Join(dir, "other.db")
	require.NoError(t, os.WriteFile(other, []byte("not a database at all"), 0o600))
	require.Equal(t, 1, d.try("restore", other, "--data", filepath.Join(dir, "new")).code)
	inUse := d.try("restore", file, "--data", d.data)
	require.Equal(t, 1, inUse.code)
	require.Contains(t, inUse.err, "is in use by process")

	// A disaster: the machine is lost. The backup is restored on another one.
	d.process.kill()
	data := filepath.Join(dir, "new")
	require.Contains(t, d.run("restore", file, "--data", data), "gives no orders")
	listen := freePort(t)
	start(t, nil, "serve", "--listen", listen, "--data", data)
	s := shell{t, append(d.env, "LANTERN_SERVER=http://"+listen)}
	round := await(
		t,
		"the restored service answers",
		func() answer { return s.try("round") },
		func(a answer) bool { return a.code == 0 },
	)
	require.Contains(t, round.out, "was restored from "+file)
	require.Contains(t, round.out, "lantern take-over")
	w := get[api.Swap](s, "swap", "show", "ZU006")
	require.Equal(t, api.SwapPhasePull, w.Phase, "what was under way is known")
	s.refused("was restored from", "swap", "hold", "ZU006", "--reason", "lunch")
	s.refused("was restored from", "light", "on", "ZU006")
	require.Equal(t, 5, s.try("round", "--exit-code").code)
	require.Equal(t, 2, s.try("take-over").code, "a reason is asked for")
	s.run("take-over", "--reason", "its machine is off, and stays off")
	require.NotContains(t, s.run("round"), "was restored")
	s.run("swap", "hold", "ZU006", "--reason", "lunch")
	require.Contains(t, s.run("audit", "list", "--newest", "50", "--columns", "did"), "takeOver")
	s.refused("not restored", "take-over", "--reason", "twice")

	// A restore over existing records keeps those.
	empty := filepath.Join(dir, "third")
	d.run("restore", file, "--data", empty)
	require.Contains(t, d.run("restore", file, "--data", empty), "the earlier database is kept as")
	kept, err := filepath.Glob(filepath.Join(empty, "lantern.db.before-*"))
	require.NoError(t, err)
	require.NotEmpty(t, kept)
}
