package cli

import (
	"io"
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
