package httpd

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"lantern/internal/api"
)

// ListTestRuns lists self-tests that were ordered.
func (s *Server) ListTestRuns(c *echo.Context, p api.ListTestRunsParams) error {
	all, err := s.Service.TestRuns(p.Drive)
	return answer(c, http.StatusOK, all, err)
}

// StartTests orders self-tests.
func (s *Server) StartTests(c *echo.Context, _ api.StartTestsParams) error {
	req, err := take[api.TestOrder](c, maxBody)
	if err != nil {
		return err
	}
	all, err := s.Service.StartTests(person(c), req)
	return answer(c, http.StatusAccepted, all, err)
}

// StopTests orders self-tests to stop.
func (s *Server) StopTests(c *echo.Context, _ api.StopTestsParams) error {
	req, err := take[api.TestOrder](c, maxBody)
	if err != nil {
		return err
	}
	all, err := s.Service.StopTests(person(c), req)
	return answer(c, http.StatusAccepted, all, err)
}
