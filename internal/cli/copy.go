package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

// CopyOf gets the model of a rehearsal from the command's service, and the person who asks.
func CopyOf(ctx context.Context, cmd *cli.Command, pool string) (out *api.Copy, person string, err error) {
	err = with(func(ctx context.Context, s *session, _ *cli.Command) error {
		who, err := ask[api.Me](s.client.GetMe(ctx))
		if err != nil {
			return err
		}
		c, err := ask[api.Copy](s.client.CopyPool(ctx, pool))
		out, person = &c, who.Name
		return err
	})(ctx, cmd)
	return out, person, err
}

// One returns the single argument of a command.
func One(cmd *cli.Command, what string) (string, error) { return one(cmd, what) }
