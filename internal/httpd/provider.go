package httpd

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/labstack/echo/v5"
	"golang.org/x/oauth2"

	"lantern/internal/api"
)

// Provider signs people in by an identity provider: OpenID Connect Core 1.0, authorization code flow with PKCE (RFC
// 7636). Tokens continue to work, also while the provider does not answer.
type Provider struct {
	Issuer   string // its address, as in the issuer field of its tokens
	ClientID string
	Secret   string
	// URL is where people reach this service, such as https://lantern.example; the provider sends them back there.
	URL string
	// RoleClaim is the claim whose value, or one of whose values, is a role: viewer, operator, keeper or admin. Of
	// several roles the highest counts; without a role, sign-in is refused.
	RoleClaim string

	mu    sync.Mutex
	found *oidc.Provider
	asked map[string]attempt // by state
}

// attempt is a sign-in under way.
type attempt struct {
	nonce, verifier string
	until           time.Time
}

const (
	attemptWithin  = 10 * time.Minute
	mostAttempts   = 1000
	providerWithin = 15 * time.Second
	stateCookie    = "lantern-sign-in"
	backPath       = "/sign-in/provider/back"
)

// config finds the provider's addresses, and keeps them after the first answer.
func (p *Provider) config(ctx context.Context) (*oauth2.Config, *oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found == nil {
		// The keys are fetched with this context while the provider is used.
		found, err := oidc.NewProvider(context.WithoutCancel(ctx), p.Issuer)
		if err != nil {
			return nil, nil, err
		}
		p.found = found
	}
	return &oauth2.Config{
		ClientID:     p.ClientID,
		ClientSecret: p.Secret,
		Endpoint:     p.found.Endpoint(),
		RedirectURL:  strings.TrimRight(p.URL, "/") + backPath,
		Scopes:       []string{oidc.ScopeOpenID, "profile", "email"},
	}, p.found, nil
}

// begin records an attempt.
func (p *Provider) begin(state string, a attempt) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	for s, x := range p.asked {
		if now.After(x.until) || len(p.asked) >= mostAttempts {
			delete(p.asked, s)
		}
	}
	if p.asked == nil {
		p.asked = map[string]attempt{}
	}
	p.asked[state] = a
}

// end removes and returns an attempt; each is valid for one answer.
func (p *Provider) end(state string) (attempt, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	a, ok := p.asked[state]
	delete(p.asked, state)
	return a, ok && time.Now().Before(a.until)
}

// toProvider redirects a browser to the provider.
func (s *Server) toProvider(c *echo.Context) error {
	if s.Provider == nil {
		return echo.ErrNotFound
	}
	ctx, cancel := context.WithTimeout(c.Request().Context(), providerWithin)
	defer cancel()
	config, _, err := s.Provider.config(ctx)
	if err != nil {
		s.Log.Error("the identity provider does not answer", "issuer", s.Provider.Issuer, "error", err)
		return c.Redirect(http.StatusSeeOther, s.root()+"/sign-in?why=provider-silent")
	}
	// Each is 32 random bytes.
	state, a := oauth2.GenerateVerifier(), attempt{nonce: oauth2.GenerateVerifier(), verifier: oauth2.GenerateVerifier(),
		until: time.Now().Add(attemptWithin)}
	s.Provider.begin(state, a)
	// The answer must come back to the same browser. It comes from another site, so a Strict cookie would not be sent.
	c.SetCookie(
		&http.Cookie{Name: stateCookie, Value: state, Path: s.root() + "/sign-in/", HttpOnly: true, Secure: s.secure(c),
			SameSite: http.SameSiteLaxMode, MaxAge: int(attemptWithin.Seconds())},
	)
	return c.Redirect(
		http.StatusSeeOther,
		config.AuthCodeURL(state, oidc.Nonce(a.nonce), oauth2.S256ChallengeOption(a.verifier)),
	)
}

// fromProvider checks the provider's answer and opens a session.
func (s *Server) fromProvider(c *echo.Context) error {
	if s.Provider == nil {
		return echo.ErrNotFound
	}
	name, role, err := s.identified(c)
	if err == nil {
		var session string
		if session, err = s.Service.People.SignInFrom(name, role, caller(c)); err == nil {
			s.setCookie(c, session, 0)
			s.note(api.AuditEntry{Who: name, Role: string(role), From: address(c), Action: "signIn",
				Target: "/session (identity provider)", Result: "done"})
			return c.Redirect(http.StatusSeeOther, s.root()+"/")
		}
	}
	s.Log.Warn("a sign-in by the identity provider was refused", "from", address(c), "error", err)
	s.note(api.AuditEntry{Who: "nobody", From: address(c), Action: "signIn", Target: "/session (identity provider)",
		Result: "refused: " + err.Error()})
	return c.Redirect(http.StatusSeeOther, s.root()+"/sign-in?why=provider-refused")
}

// identified gives the person's name and role from the provider's answer.
func (s *Server) identified(c *echo.Context) (name string, role api.Role, err error) {
	state := c.QueryParam("state")
	cookie, err := c.Cookie(stateCookie)
	a, ok := s.Provider.end(state)
	if err != nil || state == "" || cookie.Value != state || !ok {
		return "", "", errors.New("the answer belongs to no sign-in that was begun in this browser")
	}
	if says := c.QueryParam("error"); says != "" {
		return "", "", fmt.Errorf("the provider says %q", says)
	}
	ctx, cancel := context.WithTimeout(c.Request().Context(), providerWithin)
	defer cancel()
	config, found, err := s.Provider.config(ctx)
	if err != nil {
		return "", "", err
	}
	token, err := config.Exchange(ctx, c.QueryParam("code"), oauth2.VerifierOption(a.verifier))
	if err != nil {
		return "", "", fmt.Errorf("the provider does not know its own code: %w", err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: s.Provider.ClientID}).Verify(ctx, raw)
	if err != nil {
		return "", "", fmt.Errorf("the identity token cannot be trusted: %w", err)
	}
	if id.Nonce != a.nonce {
		return "", "", errors.New("the identity token is of another sign-in")
	}
	var claims map[string]any
	if err := id.Claims(&claims); err != nil {
		return "", "", err
	}
	for _, claim := range []string{"preferred_username", "email", "name"} {
		if name == "" {
			name, _ = claims[claim].(string)
		}
	}
	if role = roleOf(claims[s.Provider.RoleClaim]); role == "" {
		return "", "", fmt.Errorf("the claim %q of %q holds no role", s.Provider.RoleClaim, name)
	}
	return name, role, nil
}

// roleOf is the highest role in a claim; empty when there is none.
func roleOf(claim any) (role api.Role) {
	var said []string
	switch v := claim.(type) {
	case string:
		said = strings.Fields(v)
	case []any:
		for _, x := range v {
			if s, ok := x.(string); ok {
				said = append(said, s)
			}
		}
	}
	for _, r := range []api.Role{api.Viewer, api.Operator, api.Keeper, api.Admin} {
		if slices.Contains(said, string(r)) {
			role = r
		}
	}
	return role
}
