package httpd

import (
	"net/http"
	"time"

	"lantern/internal/api"

	"github.com/labstack/echo/v5"
)

// GetReady tells whether the service can do its work. Everybody may ask.
func (s *Server) GetReady(c *echo.Context) error {
	says, ready := s.Service.Ready()
	status := http.StatusOK
	if !ready {
		status = http.StatusServiceUnavailable
	}
	return c.JSON(status, api.Readiness{Ready: ready, Says: says, Provider: s.Provider != nil})
}

// SignIn opens a session with a token.
func (s *Server) SignIn(c *echo.Context) error {
	req, err := take[api.SignIn](c, maxBody)
	if err != nil {
		return err
	}
	from := address(c)
	session, err := s.Service.People.SignIn(req.Token, caller(c))
	if err != nil {
		if wait := s.tries.wait(from, time.Now()); wait != nil {
			return wait
		}
		s.wrongToken(from)
		return err
	}
	s.tries.worked(from)
	who, _, _ := s.Service.People.SessionOf(session)
	s.note(api.AuditEntry{Who: who.Name, Role: string(who.Role), From: from, Action: "signIn", Target: "/session",
		Result: "done"})
	s.setCookie(c, session, 0)
	return c.NoContent(http.StatusNoContent)
}

// SignOut ends it.
func (s *Server) SignOut(c *echo.Context) error {
	if cookie, err := c.Cookie(s.cookieName()); err == nil {
		if err := s.Service.People.SignOut(cookie.Value); err != nil {
			return err
		}
	}
	s.setCookie(c, "", -1)
	return c.NoContent(http.StatusNoContent)
}

// ListPeople lists who has a token.
func (s *Server) ListPeople(c *echo.Context) error {
	v, err := s.Service.People.People(person(c))
	return answer(c, http.StatusOK, v, err)
}

// AddPerson makes somebody known.
func (s *Server) AddPerson(c *echo.Context) error {
	req, err := take[api.AddPerson](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.People.AddPerson(rights(c), req)
	return secret(c, v, err)
}

// RemovePerson takes somebody's token away.
func (s *Server) RemovePerson(c *echo.Context, name string) error {
	if err := s.Service.People.RemovePerson(person(c), name); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
