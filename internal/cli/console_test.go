package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

// TestConsoleLines: every command line that the console shows exists: its command, and each of its options.
func TestConsoleLines(t *testing.T) {
	line := regexp.MustCompile("[`\"'>]lantern ([^`\"\n]*)")
	service := []string{"serve", "agent", "demo", "backup", "restore", "rehearse", "take-over"} // of cmd/lantern
	lines := 0
	require.NoError(t, filepath.WalkDir("../../web/src", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.Contains(path, "gen.d") || !strings.Contains(filepath.Ext(path), "ts") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range line.FindAllStringSubmatch(string(text), -1) {
			said, _, _ := strings.Cut(m[1], "</")
			said, _, _ = strings.Cut(said, "${")
			words := strings.Fields(said)
			for len(words) > 0 && strings.HasPrefix(words[0], "--") { // an option of every command, and its value
				words = words[min(len(words), 2):]
			}
			if len(words) == 0 || slices.Contains(service, words[0]) || strings.HasPrefix(words[0], "$") {
				continue
			}
			at, rest := Root("test"), words
			for len(rest) > 0 && at.Command(rest[0]) != nil {
				at, rest = at.Command(rest[0]), rest[1:]
			}
			require.NotEqual(t, len(words), len(rest), "%s: no command %q", path, m[1])
			require.False(t, len(at.Commands) > 0 && at.ArgsUsage == "" && len(rest) > 0 && rest[0][0] >= 'a' &&
				rest[0][0] <= 'z', "%s: no command %q", path, m[1])
			for _, w := range rest {
				if name, ok := strings.CutPrefix(strings.TrimLeft(w, "["), "--"); ok {
					name, _, _ = strings.Cut(strings.TrimRight(name, "].,:;)"), "=")
					require.True(t, hasOption(at, name), "%s: %q has no option --%s", path, m[1], name)
				}
			}
			lines++
		}
		return err
	}))
	require.Greater(t, lines, 100)
}

func hasOption(c *cli.Command, name string) bool {
	for _, f := range append(slices.Clone(c.Flags), Flags()...) {
		if slices.Contains(f.Names(), name) {
			return true
		}
	}
	return false
}
