package daemon

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/service/secret"
)

// askEach is how often an agent asks whether it is enrolled.
const askEach = 5 * time.Second

// enrol requests enrolment with the code of an invitation until the host is enrolled, and returns its token. The agent
// makes the token itself and keeps it in its folder, so that it is the same after a restart.
func (c Agent) enrol(ctx context.Context, transport http.RoundTripper) (token string, err error) {
	file := filepath.Join(c.Data, "token")
	b, err := os.ReadFile(file)
	switch {
	case errors.Is(err, os.ErrNotExist):
		token = secret.New(secret.HostPrefix)
		if err := os.WriteFile(file, []byte(token+"\n"), 0o600); err != nil {
			return "", err
		}
	case err != nil:
		return "", err
	default:
		token = strings.TrimSpace(string(b))
	}
	client, err := api.NewClientWithResponses(
		c.Server+"/api/v1",
		api.WithHTTPClient(&http.Client{Transport: realOnly{transport}, Timeout: 30 * time.Second}),
	)
	if err != nil {
		return "", err
	}
	said := ""
	for ctx.Err() == nil {
		says, done := c.ask(ctx, client, token)
		if done {
			c.Log.Info("enrolled", "host", c.Host)
			return token, nil
		}
		if says != said {
			c.Log.Info("not enrolled yet; asking again", "host", c.Host, "why", says)
			notify(c.Log, "STATUS=not enrolled yet: "+says)
			said = says
		}
		_ = clock.Real{}.Sleep(ctx, askEach)
	}
	return "", ctx.Err()
}

// ask sends one request.
func (c Agent) ask(ctx context.Context, client *api.ClientWithResponses, token string) (says string, done bool) {
	r, err := client.AskEnrolmentWithResponse(ctx, api.AskEnrolment{Code: c.Invite, Name: c.Host, Token: token})
	switch {
	case err != nil:
		return err.Error(), false
	case r.JSON200 != nil && r.JSON200.Enrolled:
		return "", true
	case r.JSON200 != nil:
		return "somebody must approve it: lantern host approve " + c.Host, false
	case r.ApplicationproblemJSONDefault != nil:
		p := r.ApplicationproblemJSONDefault
		return strings.TrimSpace(p.Title + " " + p.Detail), false
	}
	return fmt.Sprintf("the service answered %d", r.StatusCode()), false
}
