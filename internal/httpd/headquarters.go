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

// Headquarters is what a service needs that shows many sites as one. Engine is nil where an engine of others lets sites
// in.
type Headquarters struct {
	*sites.Headquarters
	Registry *sites.Registry
	Engine   *sites.Engine
	// Reached is where sites reach the engine.
	Reached string
}

var noHeadquarters = &problem.Problem{
	Status: 404,
	Type:   "no-headquarters",
	Title:  "This service is no headquarters: it watches its own hosts, and no other sites.",
	Do:     "Ask the headquarters, or start one: lantern serve --headquarters",
}

// ofHeadquarters are the calls about many sites that a headquarters answers.
var ofHeadquarters = []string{"listSites", "inviteSite", "removeSite", "getRound", "getHorizon", "search", "listStock",
	"streamEvents"}

// atSite refuses at a headquarters what a site has to be asked: it has no host, drive or pool of its own, and must not
// say of any that it is not there.
func (s *Server) atSite(o apiCall, at string) error {
	own := slices.ContainsFunc(o.Tags, func(t string) bool { return t == "session" || t == "audit" || t == "notices" })
	if s.Headquarters == nil || at == "" && (own || slices.Contains(ofHeadquarters, o.ID)) {
		return nil
	}
	return problem.New(409, "at-a-site", "Ask the site: under /sites/<name> of this address, with your token there.",
		"A headquarters knows this of no site: %s.", o.ID)
}

// ListSites lists the sites.
func (s fleetCalls) ListSites(c *echo.Context) error {
	if s.Headquarters == nil {
		return noHeadquarters
	}
	return c.JSON(http.StatusOK, s.Headquarters.Sites())
}

// InviteSite lets a site in.
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
		return problem.New(409, "engine-of-others", "Add a user for the site there; what it may do is in the handbook.",
			"The message engine is not this service's own, and lets sites in by itself.")
	}
	if err := sites.CheckName(req.Name); err != nil {
		return problem.New(422, "bad-name", "Choose such a name.", "%s.", err)
	}
	told, err := h.Registry.Invite(person(c), req.Name, s.Now())
	if err != nil {
		return err
	}
	h.Engine.Cut(req.Name) // whoever has the secret from before
	h.Invited(h.Registry.Rows())
	return secret(c, api.InvitedSite{Name: req.Name, Secret: told, Engine: h.Reached}, nil)
}

// RemoveSite lets a site in no more.
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

// toSite passes a request on to a site, or gives the console's files, which are always our own: a program from a site
// would run with the rights that its reader has here.
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
		err = h.Pass(c.Response(), r, name, address(c), s.secure(c))
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

// innerCalls are the calls that a headquarters makes without a person.
var innerCalls = map[string]bool{"getReadings": true, "importReadings": true}

// byHeadquarters lets a headquarters do what it does without a person, in its own name.
func (s *Server) byHeadquarters(c *echo.Context, next echo.HandlerFunc) error {
	if !innerCalls[called(c).ID] {
		return problem.New(403, "not-allowed", "A person does it, with their own token.",
			"A headquarters may only read and import readings.")
	}
	return s.as(c, next, people.Rights{Name: "headquarters", Role: api.Keeper}, func() bool { return true })
}
