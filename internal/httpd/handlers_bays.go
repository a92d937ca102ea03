package httpd

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"lantern/internal/api"
)

// ListLayouts lists how a host's enclosures look.
func (s *Server) ListLayouts(c *echo.Context, host string) error {
	v, err := s.Service.Bays.Layouts(host)
	return answer(c, http.StatusOK, v, err)
}

// SetLayout keeps how an enclosure looks.
func (s *Server) SetLayout(c *echo.Context, host, name string, _ api.SetLayoutParams) error {
	l, err := take[api.Layout](c, maxBody)
	if err != nil {
		return err
	}
	l.Name = name
	v, err := s.Service.Bays.SetLayout(person(c), host, l)
	return answer(c, http.StatusOK, v, err)
}

// RemoveLayout forgets it.
func (s *Server) RemoveLayout(c *echo.Context, host, name string, _ api.RemoveLayoutParams) error {
	if err := s.Service.Bays.RemoveLayout(person(c), host, name); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// MoveLayout gives a described enclosure to another host.
func (s *Server) MoveLayout(c *echo.Context, host, name string, _ api.MoveLayoutParams) error {
	req, err := take[api.HostName](c, maxBody)
	if err != nil {
		return err
	}
	return none(c, s.Service.Bays.MoveLayout(person(c), host, name, req.Name))
}

// GetSurvey gives the walk of a host.
func (s *Server) GetSurvey(c *echo.Context, host string) error {
	v, err := s.Service.Bays.Survey(host)
	return answer(c, http.StatusOK, v, err)
}

// ActOnSurvey does a step of it.
func (s *Server) ActOnSurvey(c *echo.Context, host string, _ api.ActOnSurveyParams) error {
	req, err := take[api.SurveyAct](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.Bays.ActOnSurvey(person(c), host, req)
	return answer(c, http.StatusOK, v, err)
}

// ConfirmBay notes which drive was seen in a bay.
func (s *Server) ConfirmBay(c *echo.Context, _ api.ConfirmBayParams) error {
	req, err := take[api.Spot](c, maxBody)
	if err != nil {
		return err
	}
	if err := s.Service.Bays.ConfirmBay(person(c), req); err != nil {
		return err
	}
	if req.Drive == "" { // what was known of the bay is forgotten
		return answer(c, http.StatusOK, api.Drive{Findings: []api.Finding{}}, nil)
	}
	v, err := s.Service.Views.Drive(req.Drive)
	return answer(c, http.StatusOK, v, err)
}

// LabSilence makes enclosures of the lab tell nothing of themselves.
func (s *Server) LabSilence(c *echo.Context) error {
	return inLab(s, c, func(req api.LabSilence) (any, error) { return nil, s.Lab.Silence(req.Host, !req.Over) })
}

// LabEyes lists what eyes would see blink.
func (s *Server) LabEyes(c *echo.Context) error {
	if s.Lab == nil {
		return noLab
	}
	return c.JSON(http.StatusOK, s.Lab.Blinks())
}

// LabPart makes a part of a shelf fail, or well again.
func (s *Server) LabPart(c *echo.Context) error {
	return inLab(s, c, func(req api.LabPart) (any, error) { return nil, s.Lab.Break(req.Host, req.Part, req.Well) })
}
