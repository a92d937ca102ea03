package httpd

import (
	"encoding/json"
	"errors"
	"lantern/internal/api"
	"lantern/internal/bounds"
	"lantern/internal/harmless"
	"lantern/internal/service/problem"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
)

// PushReport accepts a report.
func (s agentsCalls) PushReport(c *echo.Context, p api.PushReportParams) error {
	s.hearAgent(agentHost(c), p.LanternAgent)
	// After a power cut all hosts report at once. A waiting report is kept as JSON, which needs a tenth of the memory.
	// A slow sender must not occupy one of the places, so the body is read before.
	text, err := body(c, maxReport)
	if err != nil {
		return s.taken(c, err)
	}
	select {
	case s.taking <- struct{}{}:
		defer func() { <-s.taking }()
	case <-c.Request().Context().Done():
		return c.Request().Context().Err()
	}
	r, err := decode[api.Report](c, text)
	if err == nil {
		err = complete(text)
	}
	if err == nil {
		err = s.Service.TakeReport(agentHost(c), r)
	}
	return s.taken(c, err)
}

// complete refuses a report that lacks a required field: after decoding, that would look like a zero or an empty list.
func complete(text []byte) error {
	missing, err := bounds.Missing(text, "Report")
	switch {
	case err != nil:
		missing = "content"
	case missing == "":
		return nil
	}
	return problem.Forever(422, "bad-report", "Install the same version of agent and service.",
		"The report is not complete: it has no %s.", missing)
}

// taken answers a report that was processed, or refused with an error.
func (s agentsCalls) taken(c *echo.Context, err error) error {
	var no *problem.Problem
	switch {
	case errors.As(err, &no) && no.Permanent:
		s.Service.Fleet.Refuse(agentHost(c), no)
		return err
	case err != nil:
		return err
	}
	if v := s.Service.Fleet.ControllerVersion(agentHost(c)); v != "" {
		c.Response().Header().Set(api.ControllerHeader, v)
	}
	return c.NoContent(http.StatusNoContent)
}

// GetAgentController tells an agent of its host's management controller.
func (s agentsCalls) GetAgentController(c *echo.Context) error {
	v, ok, err := s.Service.Fleet.AgentController(agentHost(c))
	if err == nil && !ok {
		return c.NoContent(http.StatusNoContent)
	}
	return answer(c, http.StatusOK, v, err)
}

// hearAgent reads what an agent reports about itself; a value that cannot be read is left out.
func (s agentsCalls) hearAgent(host, text string) {
	var a api.AgentState
	if text == "" || json.Unmarshal([]byte(text), &a) != nil || bounds.Check(a) != nil {
		return
	}
	harmless.Scrub(&a, false)
	s.Service.Fleet.HearAgent(host, a)
}

// TakeOrders gives an agent the orders for its host.
func (s agentsCalls) TakeOrders(c *echo.Context, p api.TakeOrdersParams) error {
	out, err := s.Service.Orders.TakeOrders(
		c.Request().Context(),
		agentHost(c),
		time.Duration(min(max(p.Wait, 0), 60))*time.Second,
	)
	return answer(c, http.StatusOK, out, err)
}

// ReportOutcome accepts the outcome of an order.
func (s agentsCalls) ReportOutcome(c *echo.Context, id api.IdParam) error {
	o, err := take[api.Outcome](c, maxBody)
	if err != nil {
		return err
	}
	if err := s.Service.TakeOutcome(agentHost(c), id, o); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// AskCertificate gives an agent a certificate for its key.
func (s agentsCalls) AskCertificate(c *echo.Context) error {
	req, err := take[api.AskCertificate](c, maxBody)
	if err != nil {
		return err
	}
	if !s.Certificates {
		return c.NoContent(http.StatusNoContent)
	}
	v, err := s.Service.Fleet.Certify(agentHost(c), req.Request, shown(c.Request()))
	var no *problem.Problem
	if errors.As(err, &no) && no.Status == http.StatusUnauthorized {
		s.wrongToken(address(c))
	}
	return answer(c, http.StatusOK, v, err)
}

// AskEnrolment accepts an agent's request to enrol its host. Wrong codes are slowed down like wrong tokens.
func (s agentsCalls) AskEnrolment(c *echo.Context) error {
	req, err := take[api.AskEnrolment](c, maxBody)
	if err != nil {
		return err
	}
	if err := s.real("no host can be enrolled"); err != nil {
		return err
	}
	from := address(c)
	done, err := s.Service.Fleet.Ask(req, from)
	var no *problem.Problem
	if errors.As(err, &no) && no.Status == http.StatusUnauthorized {
		if wait := s.tries.wait(from, time.Now()); wait != nil {
			return wait
		}
		s.wrongToken(from)
	}
	return answer(c, http.StatusOK, api.Enrolment{Enrolled: done}, err)
}
