package httpd

import (
	"lantern/internal/api"
	"net/http"

	"github.com/labstack/echo/v5"
)

// ListHosts lists hosts.
func (s hostsCalls) ListHosts(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.Service.Views.Hosts())
}

// SetRoom sets the room of a host.
func (s hostsCalls) SetRoom(c *echo.Context, host string) error {
	req, err := take[api.Room](c, maxBody)
	if err != nil {
		return err
	}
	h, err := s.Service.Views.SetRoom(person(c), host, req.Room)
	return answer(c, http.StatusOK, h, err)
}

// TakeOver lets a restored service give orders.
func (s hostsCalls) TakeOver(c *echo.Context) error {
	req, err := take[api.Reason](c, maxBody)
	if err != nil {
		return err
	}
	if err := s.Service.TakeOver(person(c), req.Reason); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// EnrolHost adds a host and returns its token.
func (s hostsCalls) EnrolHost(c *echo.Context) error {
	if err := s.real("it takes no host in, so that no order of it reaches one"); err != nil {
		return err
	}
	req, err := take[api.Enrol](c, maxBody)
	if err != nil {
		return err
	}
	token, err := s.Service.Fleet.Enrol(person(c), req.Name, req.Renew)
	return secret(c, api.Enrolled{Name: req.Name, Token: token}, err)
}

// RetireHost removes a host from the fleet.
func (s hostsCalls) RetireHost(c *echo.Context, host string, _ api.RetireHostParams) error {
	return s.withReason(c, func(reason string) error { return s.Service.Fleet.RetireHost(person(c), host, reason) })
}

// SetController stores the address and the account of a host's management controller.
func (s hostsCalls) SetController(c *echo.Context, host string, _ api.SetControllerParams) error {
	req, err := take[api.SetController](c, maxBody)
	if err == nil {
		err = s.real("no management controller can be set")
	}
	if err == nil {
		err = s.Service.Fleet.SetController(person(c), host, req)
	}
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// RemoveController removes them.
func (s hostsCalls) RemoveController(c *echo.Context, host string) error {
	if err := s.Service.Fleet.RemoveController(person(c), host); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// RenameHost gives a host another name.
func (s hostsCalls) RenameHost(c *echo.Context, host string, _ api.RenameHostParams) error {
	req, err := take[api.HostName](c, maxBody)
	if err != nil {
		return err
	}
	h, err := s.Service.RenameHost(person(c), host, req.Name)
	return answer(c, http.StatusOK, h, err)
}

// ListInvitations lists the open invitations, and the hosts that wait for approval.
func (s hostsCalls) ListInvitations(c *echo.Context) error {
	v, err := s.Service.Fleet.Invitations()
	return answer(c, http.StatusOK, v, err)
}

// Invite makes a code with which hosts can ask to be enrolled.
func (s hostsCalls) Invite(c *echo.Context) error {
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

// WithdrawInvitation ends an invitation.
func (s hostsCalls) WithdrawInvitation(c *echo.Context, id string) error {
	return none(c, s.Service.Fleet.Withdraw(person(c), id))
}

// ApproveHost enrols a host that waits.
func (s hostsCalls) ApproveHost(c *echo.Context, host string) error {
	return none(c, s.Service.Fleet.Approve(person(c), host))
}

// DeclineHost refuses a host that waits.
func (s hostsCalls) DeclineHost(c *echo.Context, host string) error {
	return none(c, s.Service.Fleet.Decline(person(c), host))
}

// withReason does something that needs a reason; the answer has no body.
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

// none sends an answer without a body.
func none(c *echo.Context, err error) error {
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
