package httpd

import (
	"lantern/internal/api"
	"lantern/internal/service/problem"
	"net/http"

	"github.com/labstack/echo/v5"
)

// GetBays gives a host's bay map.
func (s baysCalls) GetBays(c *echo.Context, host string) error {
	m, err := s.Service.Bays.Bays(host)
	return answer(c, http.StatusOK, m, err)
}

// ListLights lists lights.
func (s baysCalls) ListLights(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Bays.Lights())
}

// LightOn turns a locate light on.
func (s baysCalls) LightOn(c *echo.Context, _ api.LightOnParams) error {
	req, err := take[api.LightOn](c, maxBody)
	if err != nil {
		return err
	}
	if req.Seconds < 1 || req.Seconds > 24*3600 {
		return &problem.Problem{
			Status: 422,
			Type:   "bad-time",
			Title:  "A light needs an end, within 24 hours.",
			Do:     "Say for how long, such as 10m.",
		}
	}
	l, err := s.Service.Bays.LightOn(person(c), req)
	return answer(c, http.StatusAccepted, l, err)
}

// LightOff turns a light off.
func (s baysCalls) LightOff(c *echo.Context, id api.IdParam) error {
	l, err := s.Service.Bays.LightOff(id)
	return answer(c, http.StatusAccepted, l, err)
}

// ListLayouts lists the layouts of a host's enclosures.
func (s baysCalls) ListLayouts(c *echo.Context, host string) error {
	v, err := s.Service.Bays.Layouts(host)
	return answer(c, http.StatusOK, v, err)
}

// SetLayout stores the layout of an enclosure.
func (s baysCalls) SetLayout(c *echo.Context, host, name string, _ api.SetLayoutParams) error {
	l, err := take[api.Layout](c, maxBody)
	if err != nil {
		return err
	}
	l.Name = name
	v, err := s.Service.Bays.SetLayout(person(c), host, l)
	return answer(c, http.StatusOK, v, err)
}

// RemoveLayout removes a layout.
func (s baysCalls) RemoveLayout(c *echo.Context, host, name string, _ api.RemoveLayoutParams) error {
	if err := s.Service.Bays.RemoveLayout(person(c), host, name); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// MoveLayout gives a described enclosure to another host.
func (s baysCalls) MoveLayout(c *echo.Context, host, name string, _ api.MoveLayoutParams) error {
	req, err := take[api.HostName](c, maxBody)
	if err != nil {
		return err
	}
	return none(c, s.Service.Bays.MoveLayout(person(c), host, name, req.Name))
}

// GetSurvey gives the survey of a host.
func (s baysCalls) GetSurvey(c *echo.Context, host string) error {
	v, err := s.Service.Bays.Survey(host)
	return answer(c, http.StatusOK, v, err)
}

// ActOnSurvey does one step of a survey.
func (s baysCalls) ActOnSurvey(c *echo.Context, host string, _ api.ActOnSurveyParams) error {
	req, err := take[api.SurveyAct](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Bays.ActOnSurvey(person(c), host, req)
	return answer(c, http.StatusOK, v, err)
}

// ConfirmBay records which drive was seen in a bay.
func (s baysCalls) ConfirmBay(c *echo.Context, _ api.ConfirmBayParams) error {
	req, err := take[api.Spot](c, maxBody)
	if err != nil {
		return err
	}
	if err := s.Service.Bays.ConfirmBay(person(c), req); err != nil {
		return err
	}
	if req.Drive == "" { // the observation of this bay is removed
		return answer(c, http.StatusOK, api.Drive{Findings: []api.Finding{}}, nil)
	}
	v, err := s.Service.Views.Drive(req.Drive)
	return answer(c, http.StatusOK, v, err)
}
