package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"lantern/internal/api"
)

// deliver sends a report, or stores it for later. A permanently refused one is set aside.
func (a *Agent) deliver(ctx context.Context, r api.Report) error {
	if a.spool.count() > 0 {
		return a.spool.put(r)
	}
	err := a.send(ctx, r)
	var no *rejection
	switch {
	case err == nil:
		return nil
	case errors.As(err, &no):
		return errors.Join(err, a.setAside(r, no))
	}
	return errors.Join(err, a.spool.put(r))
}

// flush sends stored reports, the oldest first. A permanently refused one is set aside, so that it does not block later
// ones.
func (a *Agent) flush(ctx context.Context) error {
	for {
		r, name, err := a.spool.oldest()
		if err != nil || name == "" {
			return err
		}
		err = a.send(ctx, r)
		var no *rejection
		if errors.As(err, &no) {
			err = a.setAside(r, no)
		}
		if err != nil {
			return err
		}
		if err := a.spool.drop(name); err != nil {
			return err
		}
	}
}

// setAside stores a permanently refused report, and logs it.
func (a *Agent) setAside(r api.Report, why *rejection) error {
	a.Log.Warn("the service refused a report for good; it is set aside", "host", a.Host, "report", r.Id, "at", r.At,
		"error", why)
	return a.spool.setAside(r, a.Clock.Now(), why.Error())
}

// rejection is a permanent refusal by the service.
type rejection struct{ error }

func (a *Agent) send(ctx context.Context, r api.Report) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if boot, since := a.uptime(); boot == r.Boot {
		r.SentBootSeconds = since.Seconds()
	}
	res, err := a.Client.PushReportWithResponse(ctx, &api.PushReportParams{LanternAgent: a.says()}, r)
	if err != nil {
		return err
	}
	switch {
	case res.StatusCode() == 204:
		a.controller.hear(res.HTTPResponse.Header.Get(api.ControllerHeader))
		return nil
	case res.StatusCode() == 409:
		return nil // it was accepted before: the answer was lost, not the report
	}
	return problem(res.StatusCode(), res.Body)
}

// problem is the error of an answer. It is permanent only if the service says so: an unknown token, an older service,
// or anything in between may be corrected, and the report is kept until then.
func problem(status int, body []byte) error {
	var p api.Problem
	if json.Unmarshal(body, &p) != nil || p.Title == "" {
		return fmt.Errorf("the service answered %d", status)
	}
	err := fmt.Errorf("%s %s (%d)", p.Title, p.Detail, status)
	if p.Permanent || status == 422 {
		return &rejection{err}
	}
	return err
}

// Greatest length of an error in a report.
const (
	mostOfError      = 300
	mostOfController = 120
)

// failed records the newest failure.
func (a *Agent) failed(err error) {
	a.trouble.Store(&trouble{shorter(err, mostOfError), a.Clock.Now()})
}

// shorter is an error, cut to a greatest number of characters.
func shorter(err error, most int) string {
	text := strings.ToValidUTF8(err.Error(), "?")
	if r := []rune(text); len(r) > most {
		text = string(r[:most]) + "…"
	}
	return text
}

// trouble is the newest failure, and its time.
type trouble struct {
	says string
	at   time.Time
}

// says is the agent's state, as JSON in ASCII: it is sent in a header.
func (a *Agent) says() string {
	s := api.AgentState{Version: a.Version, StartedAt: a.startedAt, Waiting: a.spool.count()}
	if t := a.trouble.Load(); t != nil {
		s.Error, s.ErrorAt = t.says, t.at
	}
	s.Controller = a.controller.says()
	b, err := json.Marshal(s)
	if err != nil {
		return ""
	}
	var out strings.Builder
	for _, r := range string(b) {
		if r < utf8.RuneSelf {
			out.WriteRune(r)
			continue
		}
		for _, u := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(&out, `\u%04x`, u)
		}
	}
	return out.String()
}
