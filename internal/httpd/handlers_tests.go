package httpd

import (
	"lantern/internal/api"
	"net/http"

	"github.com/labstack/echo/v5"
)

// ListAcceptances lists tests of new drives.
func (s testCalls) ListAcceptances(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Stock.Acceptances())
}

// AcceptDrive begins one.
func (s testCalls) AcceptDrive(c *echo.Context, _ api.AcceptDriveParams) error {
	req, err := take[api.AcceptDrive](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Stock.Accept(person(c), req)
	return answer(c, http.StatusCreated, v, err)
}

// GetAcceptPolicy gives what new drives are tested for.
func (s testCalls) GetAcceptPolicy(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Stock.AcceptPolicy())
}

// SetAcceptPolicy sets it.
func (s testCalls) SetAcceptPolicy(c *echo.Context) error {
	req, err := take[api.AcceptPolicy](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Stock.SetAcceptPolicy(person(c), req)
	return answer(c, http.StatusOK, v, err)
}

// GetAcceptance gives one.
func (s testCalls) GetAcceptance(c *echo.Context, id api.IdParam) error {
	v, err := s.Service.Stock.Acceptance(id)
	return answer(c, http.StatusOK, v, err)
}

func (s testCalls) onAcceptance(c *echo.Context, id, what string) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Stock.ActOnAcceptance(person(c), id, what, req.Reason)
	return answer(c, http.StatusOK, v, err)
}

// PauseAcceptance pauses one.
func (s testCalls) PauseAcceptance(c *echo.Context, id api.IdParam, _ api.PauseAcceptanceParams) error {
	return s.onAcceptance(c, id, "pause")
}

// ResumeAcceptance lets one go on.
func (s testCalls) ResumeAcceptance(c *echo.Context, id api.IdParam, _ api.ResumeAcceptanceParams) error {
	return s.onAcceptance(c, id, "resume")
}

// StopAcceptance ends one.
func (s testCalls) StopAcceptance(c *echo.Context, id api.IdParam, _ api.StopAcceptanceParams) error {
	return s.onAcceptance(c, id, "stop")
}

// ListTestRuns lists self-tests that were ordered.
func (s testCalls) ListTestRuns(c *echo.Context, p api.ListTestRunsParams) error {
	all, err := s.Service.Selftests.TestRuns(p.Drive)
	return answer(c, http.StatusOK, all, err)
}

// StartTests orders self-tests.
func (s testCalls) StartTests(c *echo.Context, _ api.StartTestsParams) error {
	req, err := take[api.TestOrder](c, maxBody)
	if err != nil {
		return err
	}
	all, err := s.Service.Selftests.StartTests(person(c), req)
	return answer(c, http.StatusAccepted, all, err)
}

// StopTests orders self-tests to stop.
func (s testCalls) StopTests(c *echo.Context, _ api.StopTestsParams) error {
	req, err := take[api.TestOrder](c, maxBody)
	if err != nil {
		return err
	}
	all, err := s.Service.Selftests.StopTests(person(c), req)
	return answer(c, http.StatusAccepted, all, err)
}

// GetTestStanding says who was tested when.
func (s testCalls) GetTestStanding(c *echo.Context, p api.GetTestStandingParams) error {
	v, err := s.Service.Selftests.TestStanding(p)
	return answer(c, http.StatusOK, v, err)
}

// ListPlans lists test plans.
func (s testCalls) ListPlans(c *echo.Context) error {
	return answer(c, http.StatusOK, s.Service.Selftests.Plans(), nil)
}

// SetPlan keeps a plan.
func (s testCalls) SetPlan(c *echo.Context, name string, _ api.SetPlanParams) error {
	req, err := take[api.PlanChange](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Selftests.SetPlan(person(c), name, req)
	return answer(c, http.StatusOK, v, err)
}

// RemovePlan takes a plan away.
func (s testCalls) RemovePlan(c *echo.Context, name string, _ api.RemovePlanParams) error {
	if err := s.Service.Selftests.RemovePlan(person(c), name); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// PreviewPlans shows what a change would do.
func (s testCalls) PreviewPlans(c *echo.Context) error {
	req, err := take[api.PlanPreview](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Selftests.PreviewPlans(person(c), req)
	return answer(c, http.StatusOK, v, err)
}

// GetCalendar shows the load of tests.
func (s testCalls) GetCalendar(c *echo.Context, p api.GetCalendarParams) error {
	v, err := s.Service.Selftests.Calendar(p.From, p.To)
	return answer(c, http.StatusOK, v, err)
}

// ListPlannedTests lists tests in order of time.
func (s testCalls) ListPlannedTests(c *echo.Context, p api.ListPlannedTestsParams) error {
	v, err := s.Service.Selftests.PlannedTests(p)
	return answer(c, http.StatusOK, v, err)
}
