package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"lantern/internal/api"
)

// deliver sends a report, or keeps it for later.
func (a *Agent) deliver(ctx context.Context, r api.Report) error {
	if a.spool.count() == 0 {
		err := a.send(ctx, r)
		if err == nil {
			return nil
		}
		if saved := a.spool.put(r); saved != nil {
			return errors.Join(err, saved)
		}
		return err
	}
	return a.spool.put(r)
}

// flush sends what was kept, the oldest first.
func (a *Agent) flush(ctx context.Context) error {
	for {
		r, name, err := a.spool.oldest()
		if err != nil || name == "" {
			return err
		}
		if err := a.send(ctx, r); err != nil {
			return err
		}
		if err := a.spool.drop(name); err != nil {
			return err
		}
	}
}

func (a *Agent) send(ctx context.Context, r api.Report) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	res, err := a.Client.PushReportWithResponse(ctx, r)
	if err != nil {
		return err
	}
	switch {
	case res.StatusCode() == 204:
		return nil
	case res.StatusCode() == 409:
		return nil // it was taken before: the answer was lost, not the report
	}
	return problem(res.StatusCode(), res.Body)
}

func problem(status int, body []byte) error {
	var p api.Problem
	if json.Unmarshal(body, &p) == nil && p.Title != "" {
		return fmt.Errorf("%s %s (%d)", p.Title, p.Detail, status)
	}
	return fmt.Errorf("the service answered %d", status)
}
