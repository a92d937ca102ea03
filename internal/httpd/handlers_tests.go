package httpd

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"lantern/internal/api"
)

// ListTestRuns lists self-tests that were ordered.
func (s *Server) ListTestRuns(c *echo.Context, p api.ListTestRunsParams) error {
	all, err := s.Service.Selftests.TestRuns(p.Drive)
	return answer(c, http.StatusOK, all, err)
}

// StartTests orders self-tests.
func (s *Server) StartTests(c *echo.Context, _ api.StartTestsParams) error {
	req, err := take[api.TestOrder](c, maxBody)
	if err != nil {
		return err
	}
	all, err := s.Service.Selftests.StartTests(person(c), req)
	return answer(c, http.StatusAccepted, all, err)
}

// StopTests orders self-tests to stop.
func (s *Server) StopTests(c *echo.Context, _ api.StopTestsParams) error {
	req, err := take[api.TestOrder](c, maxBody)
	if err != nil {
		return err
	}
	all, err := s.Service.Selftests.StopTests(person(c), req)
	return answer(c, http.StatusAccepted, all, err)
}

// GetTestStanding says who was tested when.
func (s *Server) GetTestStanding(c *echo.Context, p api.GetTestStandingParams) error {
	v, err := s.Service.Selftests.TestStanding(p)
	return answer(c, http.StatusOK, v, err)
}

// ListPlans lists test plans.
func (s *Server) ListPlans(c *echo.Context) error {
	return answer(c, http.StatusOK, s.Service.Selftests.Plans(), nil)
}

// SetPlan keeps a plan.
func (s *Server) SetPlan(c *echo.Context, name string, _ api.SetPlanParams) error {
	req, err := take[api.PlanChange](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Selftests.SetPlan(person(c), name, req)
	return answer(c, http.StatusOK, v, err)
}

// RemovePlan takes a plan away.
func (s *Server) RemovePlan(c *echo.Context, name string, _ api.RemovePlanParams) error {
	if err := s.Service.Selftests.RemovePlan(person(c), name); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// PreviewPlans shows what a change would do.
func (s *Server) PreviewPlans(c *echo.Context) error {
	req, err := take[api.PlanPreview](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Selftests.PreviewPlans(person(c), req)
	return answer(c, http.StatusOK, v, err)
}

// GetCalendar shows the load of tests.
func (s *Server) GetCalendar(c *echo.Context, p api.GetCalendarParams) error {
	v, err := s.Service.Selftests.Calendar(p.From, p.To)
	return answer(c, http.StatusOK, v, err)
}

// ListPlannedTests lists tests in order of time.
func (s *Server) ListPlannedTests(c *echo.Context, p api.ListPlannedTestsParams) error {
	v, err := s.Service.Selftests.PlannedTests(p)
	return answer(c, http.StatusOK, v, err)
}

// MakeFeed makes the address of the calendar.
func (s *Server) MakeFeed(c *echo.Context, _ api.MakeFeedParams) error {
	if err := s.real("its tests are not for calendars"); err != nil {
		return err
	}
	v, err := s.Service.Selftests.MakeFeed(person(c))
	return secret(c, v, err)
}

// EndFeed ends it.
func (s *Server) EndFeed(c *echo.Context) error {
	if err := s.Service.Selftests.EndFeed(); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// AskAddress asks what is at an address of a drive.
func (s *Server) AskAddress(c *echo.Context, drive api.DriveParam, _ api.AskAddressParams) error {
	req, err := take[api.Address](c, maxBody)
	if err != nil {
		return err
	}
	o, err := s.Service.Selftests.AskAddress(person(c), drive, req.Lba)
	return answer(c, http.StatusAccepted, o, err)
}
