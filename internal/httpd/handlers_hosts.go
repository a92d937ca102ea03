package httpd

import (
	"errors"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"lantern/internal/api"
	"lantern/internal/service/problem"
)

// RetireHost takes a host out of the fleet.
func (s *Server) RetireHost(c *echo.Context, host string, _ api.RetireHostParams) error {
	return s.withReason(c, func(reason string) error { return s.Service.Fleet.RetireHost(person(c), host, reason) })
}

// ForgetPool lists a pool no more.
func (s *Server) ForgetPool(c *echo.Context, pool string, _ api.ForgetPoolParams) error {
	return s.withReason(c, func(reason string) error { return s.Service.Fleet.ForgetPool(person(c), pool, reason) })
}

// ForgetDrive lists a drive no more.
func (s *Server) ForgetDrive(c *echo.Context, drive string, _ api.ForgetDriveParams) error {
	return s.withReason(c, func(reason string) error { return s.Service.Fleet.ForgetDrive(person(c), drive, reason) })
}

// withReason does what needs a reason and answers nothing.
func (*Server) withReason(c *echo.Context, do func(reason string) error) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	if err := do(req.Reason); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// RenameHost gives a host another name.
func (s *Server) RenameHost(c *echo.Context, host string, _ api.RenameHostParams) error {
	req, err := take[api.HostName](c, maxBody)
	if err != nil {
		return err
	}
	h, err := s.Service.RenameHost(person(c), host, req.Name)
	return answer(c, http.StatusOK, h, err)
}

// ListInvitations tells what is open, and who waits.
func (s *Server) ListInvitations(c *echo.Context) error {
	v, err := s.Service.Fleet.Invitations()
	return answer(c, http.StatusOK, v, err)
}

// Invite makes a code for hosts.
func (s *Server) Invite(c *echo.Context) error {
	req, err := take[api.InviteHosts](c, maxBody)
	if err != nil {
		return err
	}
	if err := s.real("no host can be enrolled"); err != nil {
		return err
	}
	v, err := s.Service.Fleet.Invite(person(c), req)
	c.Set(isSecret, true)
	return answer(c, http.StatusCreated, v, err)
}

// WithdrawInvitation ends one.
func (s *Server) WithdrawInvitation(c *echo.Context, id string) error {
	return none(c, s.Service.Fleet.Withdraw(person(c), id))
}

// ApproveHost enrols a host that waits.
func (s *Server) ApproveHost(c *echo.Context, host string) error {
	return none(c, s.Service.Fleet.Approve(person(c), host))
}

// DeclineHost refuses a host that waits.
func (s *Server) DeclineHost(c *echo.Context, host string) error {
	return none(c, s.Service.Fleet.Decline(person(c), host))
}

// none answers that something is done.
func none(c *echo.Context, err error) error {
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// AskCertificate gives an agent a certificate for its key.
func (s *Server) AskCertificate(c *echo.Context) error {
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

// AskEnrolment lets an agent ask for its host. Whoever tries codes is slowed down as whoever tries tokens.
func (s *Server) AskEnrolment(c *echo.Context) error {
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
