package cli

import (
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

// TestNoArguments: a command that takes no arguments refuses them, before anything is asked of the service.
func TestNoArguments(t *testing.T) {
	var refused int
	var walk func(words []string, commands []*cli.Command)
	walk = func(words []string, commands []*cli.Command) {
		for _, c := range commands {
			here := append(append([]string{}, words...), c.Name)
			walk(here, c.Commands)
			if len(c.Commands) > 0 || c.ArgsUsage != "" || c.Name == "completion" || c.Name == "help" {
				continue
			}
			root := Root("test")
			root.Writer, root.ErrWriter = io.Discard, io.Discard
			err := root.Run(t.Context(), append(append(here, "extra"), "--server", "http://127.0.0.1:1"))
			require.Equal(t, ExitUsage, Code(err), "%v: %v", here, err)
			require.Regexp(t, "takes no arguments|Required flag", err.Error(), "%v", here)
			refused++
		}
	}
	walk([]string{"lantern"}, Root("test").Commands)
	require.Greater(t, refused, 25)
}

// TestUnknown: in every group an unknown command is refused by its name, whatever options follow it, and the suggested
// command exists.
func TestUnknown(t *testing.T) {
	run := func(words ...string) string {
		root := Root("test")
		root.Writer, root.ErrWriter = io.Discard, io.Discard
		err := root.Run(t.Context(), words)
		require.Equal(t, ExitUsage, Code(err), "%v: %v", words, err)
		return err.Error()
	}
	groups := 0
	var walk func(words []string, commands []*cli.Command)
	walk = func(words []string, commands []*cli.Command) {
		for _, c := range commands {
			here := append(slices.Clone(words), c.Name)
			if len(c.Commands) > 0 && c.ArgsUsage == "" {
				groups++
				for _, behind := range [][]string{{}, {"x"}, {"--for", "10m"}, {"x", "--nope"}, {"--help"}} {
					said := run(append(append(slices.Clone(here), "zzzzz"), behind...)...)
					require.Contains(t, said, `no command "zzzzz"`, "%v %v", here, behind)
				}
			}
			walk(here, c.Commands)
		}
	}
	walk(nil, []*cli.Command{Root("test")})
	require.Greater(t, groups, 15)
	for typed, want := range map[string]string{
		"mute ZU006 --for 10m": `did you mean "lantern notices mute"?`,
		"retire petrel":        `did you mean "lantern host retire"?`,
		"drivs --output csv":   `did you mean "drive"?`,
		"host enrll x":         `did you mean "enrol"?`,
		"test start ZU006":     `did you mean "lantern selftest"?`,
		"locate ZU006":         `did you mean "lantern light"?`,
		"host round":           `did you mean "lantern round"?`,
		"swap xx":              "It has list, plan, show, begin",
		"drives --csv":         "no option --csv. See: lantern drives --help",
		"drives --oputput csv": "did you mean --output?",
		"--nope drives":        "no option --nope. See: lantern --help",
	} {
		require.Contains(t, run(append([]string{"lantern"}, strings.Fields(typed)...)...), want, typed)
	}
}

// TestOtherWords: each word that is not a command leads to a command that exists.
func TestOtherWords(t *testing.T) {
	root := Root("test")
	for word, name := range otherWords {
		require.Nil(t, root.Command(word), "%s is a command itself", word)
		require.NotNil(t, root.Command(name), "%s leads to %s", word, name)
	}
}
