package daemon

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestUnits: the service manager finds nothing wrong with the units, and rates their exposure (systemd-analyze
// security, 0 to 10) no higher than before.
func TestUnits(t *testing.T) {
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		fmt.Fprintln(
			os.Stderr,
			"\n*** SKIPPED: the units were not looked at: systemd-analyze is missing: apt-get install systemd ***",
		)
		t.Skip("systemd-analyze is missing")
	}
	for unit, most := range map[string]float64{"lantern.service": 1.5, "lantern-agent.service": 4} {
		b, err := os.ReadFile("../../packaging/files/" + unit)
		require.NoError(t, err)
		// The program of the unit is not installed here; another one replaces it.
		path := filepath.Join(t.TempDir(), unit)
		text := regexp.MustCompile(`(?m)^ExecStart=\S+`).ReplaceAllString(string(b), "ExecStart=/bin/true")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		out, err := exec.Command("systemd-analyze", "verify", "--man=no", path).CombinedOutput()
		require.NoError(t, err, "%s", out)
		require.Empty(t, strings.TrimSpace(string(out)))
		out, err = exec.Command("systemd-analyze", "security", "--offline=true", path).CombinedOutput()
		require.NoError(t, err, "%s", out)
		level := regexp.MustCompile(`exposure level for \S+: ([0-9.]+)`).FindSubmatch(out)
		require.NotNil(t, level, "%s", out)
		is, err := strconv.ParseFloat(string(level[1]), 64)
		require.NoError(t, err)
		require.LessOrEqual(t, is, most, "%s", out)
	}
}
