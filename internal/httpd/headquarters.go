package httpd

import (
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"lantern/internal/api"
	"lantern/internal/harmless"
	"lantern/internal/service/people"
	"lantern/internal/service/problem"
	"lantern/internal/sites"
)

// Headquarters is the part of the server that a headquarters has. Engine and Registry are nil with an external engine,
// which authenticates sites itself.
type Headquarters struct {
	*sites.Headquarters
	Registry *sites.Registry
	Engine   *sites.Engine
	// Reached is the address of the engine for sites.
	Reached string
}

var noHeadquarters = &problem.Problem{
	Status: 404,
	Type:   "no-headquarters",
	Title:  "This service is not a headquarters: it has no sites.",
	Do:     "Use the address of the headquarters, or start one: lantern serve --headquarters",
}

// ofHeadquarters has the calls that a headquarters answers from the data of all sites.
var ofHeadquarters = []string{"listSites", "inviteSite", "removeSite", "getRound", "getHorizon", "search", "listStock",
	"getReport", "getReportPage", "streamEvents"}

// atSite refuses calls at a headquarters that only a site can answer. The headquarters has no drives of its own, and an
// empty list would say that there are none (R7).
func (s *Server) atSite(o apiCall, at string) error {
	own := slices.ContainsFunc(o.Tags, func(t string) bool { return t == "session" || t == "audit" || t == "notices" })
	if s.Headquarters == nil || at == "" && (own || slices.Contains(ofHeadquarters, o.ID)) {
		return nil
	}
	return problem.New(409, "at-a-site", "Use --server <this address>/sites/<name> with your token of that site.",
		"Only a site can answer this (%s).", o.ID)
}

// ListSites lists the sites.
func (s fleetCalls) ListSites(c *echo.Context) error {
	if s.Headquarters == nil {
		return noHeadquarters
	}
	return c.JSON(http.StatusOK, s.Headquarters.Sites())
}

// InviteSite adds a site and returns its secret.
func (s fleetCalls) InviteSite(c *echo.Context, _ api.InviteSiteParams) error {
	req, err := take[api.InviteSite](c, maxBody)
	if err != nil {
		return err
	}
	h := s.Headquarters
	switch {
	case h == nil:
		return noHeadquarters
	case h.Engine == nil:
		return problem.New(409, "engine-of-others", "Add a user for the site there. The handbook lists its permissions.",
			"This headquarters uses an external message engine, which has its own users.")
	}
	if err := sites.CheckName(req.Name); err != nil {
		return problem.New(422, "bad-name", "Choose such a name.", "%s.", err)
	}
	told, err := h.Registry.Invite(person(c), req.Name, s.Now())
	if err != nil {
		return err
	}
	h.Engine.Cut(req.Name) // connections with the old secret
	h.Invited(h.Registry.Rows())
	return secret(c, api.InvitedSite{Name: req.Name, Secret: told, Engine: h.Reached}, nil)
}

// RemoveSite removes a site.
func (s fleetCalls) RemoveSite(c *echo.Context, name string) error {
	h := s.Headquarters
	if h == nil {
		return noHeadquarters
	}
	if h.Engine != nil {
		known, err := h.Registry.Remove(name)
		if err != nil {
			return err
		}
		if !known {
			return h.Unreachable(name)
		}
		h.Engine.Cut(name)
	}
	if err := h.Remove(c.Request().Context(), name); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// toSite passes a request on to a site. The console's files are always our own: a script from a site would have the
// rights of the person here.
func (s *Server) toSite(console func(root string) echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h, r := s.Headquarters, c.Request()
		if h == nil {
			return console(s.root())(c)
		}
		name, err := url.PathUnescape(c.Param("site"))
		if err != nil || sites.CheckName(name) != nil {
			return h.Unreachable(harmless.Line(c.Param("site")))
		}
		prefix := "/sites/" + name
		rest := strings.TrimPrefix(r.URL.Path, prefix)
		if rest == "" {
			return c.Redirect(http.StatusPermanentRedirect, s.root()+prefix+"/")
		}
		if !strings.HasPrefix(rest, "/api/") && !strings.HasPrefix(rest, "/calendar/") && rest != "/sign-in/once" {
			r.URL.Path, r.URL.RawPath = rest, ""
			return console(s.root() + prefix)(c)
		}
		err = h.Pass(c.Response(), r, name, s.root(), address(c), s.secure(c))
		if err == nil || r.Context().Err() != nil {
			return nil
		}
		var p *problem.Problem
		if errors.As(err, &p) {
			return err
		}
		return h.Unreachable(name)
	}
}

// siteCalls has the calls that a headquarters may make without a person.
var siteCalls = map[string]bool{"getReadings": true, "importReadings": true, "getReport": true}

// byHeadquarters allows a headquarters the siteCalls, in its own name.
func (s *Server) byHeadquarters(c *echo.Context, next echo.HandlerFunc) error {
	if !siteCalls[called(c).ID] {
		return problem.New(403, "not-allowed", "Use the token of a person.",
			"Without a person, a headquarters may only read and import readings, and read reports.")
	}
	return s.as(c, next, people.Rights{Name: "headquarters", Role: api.Keeper}, func() bool { return true })
}
