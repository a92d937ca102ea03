package httpd

import (
	"lantern/internal/api"
	"net/http"

	"github.com/labstack/echo/v5"
)

// ListNotices lists notices.
func (s flagsCalls) ListNotices(c *echo.Context, p api.ListNoticesParams) error {
	all, err := s.Service.Notices.Notices(p.All)
	return answer(c, http.StatusOK, all, err)
}

// AcknowledgeNotice records that the caller saw a notice.
func (s flagsCalls) AcknowledgeNotice(c *echo.Context, id api.IdParam) error {
	req, err := take[api.AcknowledgeNoticeJSONBody](c, maxBody)
	if err != nil {
		return err
	}
	n, err := s.Service.Notices.Acknowledge(person(c), id, req.Note)
	return answer(c, http.StatusOK, n, err)
}

// MuteNotice suppresses messages about a notice for a time.
func (s flagsCalls) MuteNotice(c *echo.Context, id api.IdParam) error {
	req, err := take[api.MuteNoticeJSONBody](c, maxBody)
	if err != nil {
		return err
	}
	n, err := s.Service.Notices.Mute(person(c), id, req.Hours, req.Note)
	return answer(c, http.StatusOK, n, err)
}

// ListChannels lists channels.
func (s flagsCalls) ListChannels(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Notices.Channels())
}

// PutChannel stores a channel.
func (s flagsCalls) PutChannel(c *echo.Context, id api.IdParam) error {
	if err := s.real("it tells nobody outside"); err != nil {
		return err
	}
	req, err := take[api.ChannelPut](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Notices.PutChannel(c.Request().Context(), person(c), id, req)
	return answer(c, http.StatusOK, v, err)
}

// RemoveChannel removes a channel.
func (s flagsCalls) RemoveChannel(c *echo.Context, id api.IdParam) error {
	if err := s.Service.Notices.RemoveChannel(person(c), id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// TestChannel sends a test message through a channel.
func (s flagsCalls) TestChannel(c *echo.Context, id api.IdParam) error {
	if err := s.Service.Notices.TestChannel(c.Request().Context(), person(c), id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// ListRules lists rules and thresholds.
func (s flagsCalls) ListRules(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Judging.Rules())
}

// TryThreshold gives the drives that a threshold would flag.
func (s flagsCalls) TryThreshold(c *echo.Context) error {
	req, err := take[api.ThresholdSet](c, maxBody)
	if err != nil {
		return err
	}
	out, err := s.Service.Judging.TryThreshold(req)
	return answer(c, http.StatusOK, out, err)
}

// TryRule evaluates an expression over past readings.
func (s flagsCalls) TryRule(c *echo.Context) error {
	req, err := take[api.RuleTry](c, maxBody)
	if err != nil {
		return err
	}
	out, err := s.Service.Judging.TryRule(req)
	return answer(c, http.StatusOK, out, err)
}

// SetThreshold sets a threshold.
func (s flagsCalls) SetThreshold(c *echo.Context) error {
	req, err := take[api.ThresholdSet](c, maxBody)
	if err != nil {
		return err
	}
	out, err := s.Service.Judging.SetThreshold(person(c), req)
	return answer(c, http.StatusOK, out, err)
}

// PutRule stores a rule of people's own, or turns a built-in rule on or off.
func (s flagsCalls) PutRule(c *echo.Context, id api.IdParam) error {
	req, err := take[api.RulePut](c, maxBody)
	if err != nil {
		return err
	}
	out, err := s.Service.Judging.PutRule(person(c), id, req)
	return answer(c, http.StatusOK, out, err)
}

// RemoveRule removes a rule of people's own.
func (s flagsCalls) RemoveRule(c *echo.Context, id api.IdParam) error {
	if err := s.Service.Judging.RemoveRule(person(c), id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
