package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

// CopyOf gets all that a practice is made after out of the service that a command is for, and who asks for it.
func CopyOf(ctx context.Context, cmd *cli.Command, pool string) (out *api.Copy, person string, err error) {
	err = with(func(ctx context.Context, s *session, _ *cli.Command) error {
		me, err := s.client.GetMeWithResponse(ctx)
		if err != nil {
			return unreachable(err)
		}
		who, err := got(me.JSON200, me, me.Body)
		if err != nil {
			return err
		}
		res, err := s.client.CopyPoolWithResponse(ctx, pool)
		if err != nil {
			return unreachable(err)
		}
		c, err := got(res.JSON200, res, res.Body)
		out, person = &c, who.Name
		return err
	})(ctx, cmd)
	return out, person, err
}

// One takes the single argument that a command needs.
func One(cmd *cli.Command, what string) (string, error) { return one(cmd, what) }
