package httpd

import (
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"lantern/internal/api"
	"lantern/internal/service/problem"
)

// GetMe reports who is asking.
func (s accountCalls) GetMe(c *echo.Context) error {
	since, err := s.Service.PastSince()
	if err != nil {
		return err
	}
	if s.Headquarters != nil {
		since = time.Time{} // the site is asked
	}
	return c.JSON(
		http.StatusOK,
		api.Me{
			PastSince: since,
			Name:      person(c),
			Role:      rights(c).Role,
			Lab:       s.Lab != nil,
			Version:   s.Version,
			Now:       s.Now(),
			Practice:  s.Practice,

			Headquarters: s.Headquarters != nil,
		},
	)
}

// GetReady reports whether the service can record reports and orders. It needs no token.
func (s accountCalls) GetReady(c *echo.Context) error {
	says, ready := s.Service.Ready()
	status := http.StatusOK
	if !ready {
		status = http.StatusServiceUnavailable
	}
	return c.JSON(status, api.Readiness{Ready: ready, Says: says, Provider: s.Provider != nil})
}

// SignIn opens a session with a token.
func (s accountCalls) SignIn(c *echo.Context) error {
	req, err := take[api.SignIn](c, maxBody)
	if err != nil {
		return err
	}
	from := address(c)
	session, err := s.Service.People.SignIn(req.Token, caller(c))
	if err != nil && problem.As(err).Status != http.StatusUnauthorized {
		return err // the token may be right
	}
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

// SignOut ends the session.
func (s accountCalls) SignOut(c *echo.Context) error {
	if cookie, err := c.Cookie(s.cookieName()); err == nil {
		if err := s.Service.People.SignOut(cookie.Value); err != nil {
			return err
		}
	}
	s.setCookie(c, "", -1)
	return c.NoContent(http.StatusNoContent)
}

// ListPeople lists who has a token.
func (s accountCalls) ListPeople(c *echo.Context) error {
	v, err := s.Service.People.People(person(c))
	return answer(c, http.StatusOK, v, err)
}

// AddPerson adds a person and returns their token.
func (s accountCalls) AddPerson(c *echo.Context) error {
	req, err := take[api.AddPerson](c, maxBody)
	if err != nil {
		return err
	}
	v, err := s.Service.People.AddPerson(rights(c), req)
	return secret(c, v, err)
}

// RemovePerson removes a person; their token ends.
func (s accountCalls) RemovePerson(c *echo.Context, name string) error {
	if err := s.Service.People.RemovePerson(person(c), name); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// MakeFeed makes a secret address for the calendar.
func (s accountCalls) MakeFeed(c *echo.Context, _ api.MakeFeedParams) error {
	if err := s.real("its tests are not for calendars"); err != nil {
		return err
	}
	v, err := s.Service.Selftests.MakeFeed(person(c))
	return secret(c, v, err)
}

// EndFeed makes that address invalid.
func (s accountCalls) EndFeed(c *echo.Context) error {
	if err := s.Service.Selftests.EndFeed(); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// ListAudit reports who changed what.
func (s accountCalls) ListAudit(c *echo.Context, p api.ListAuditParams) error {
	out, err := s.Service.People.Audit(p.After, p.Newest, p.Limit)
	return answer(c, http.StatusOK, out, err)
}

// VerifyAudit reports whether any entry was changed after it was written.
func (s accountCalls) VerifyAudit(c *echo.Context, p api.VerifyAuditParams) error {
	v, err := s.Service.People.VerifyAudit(p.Number, p.Hash)
	return answer(c, http.StatusOK, v, err)
}

// ListSessions lists open sessions.
func (s accountCalls) ListSessions(c *echo.Context) error {
	mine, _ := c.Get(whoSession).(string)
	out, err := s.Service.People.Sessions(rights(c), mine)
	return answer(c, http.StatusOK, out, err)
}

// EndSession ends a session.
func (s accountCalls) EndSession(c *echo.Context, id api.IdParam) error {
	if err := s.Service.People.EndSession(rights(c), id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
