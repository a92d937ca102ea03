package fleet

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"lantern/internal/api"
	"lantern/internal/link"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// ControllerOf is a host's management controller; ok is false where it has none.
func ControllerOf(h *store.Host) (c api.HostController, ok bool) {
	if len(h.Controller) == 0 || json.Unmarshal(h.Controller, &c) != nil {
		return api.HostController{}, false
	}
	return c, true
}

// SetController stores how a host's agent reaches the host's management controller. Its password is given only to that
// agent.
func (s *Service) SetController(by, name string, req api.SetController) error {
	req.Url = strings.TrimRight(strings.TrimSpace(req.Url), "/")
	u, err := url.Parse(req.Url)
	switch {
	case err != nil || u.Host == "" || u.User != nil || u.Path+u.RawQuery+u.Fragment != "":
		return problem.New(422, "bad-request", "Such as https://192.0.2.7.",
			"%q is not the address of a management controller.", req.Url)
	case req.User == "" || req.Password == "" || strings.ContainsAny(req.User, ":\r\n"):
		return problem.New(422, "bad-request", "Make one for this purpose, which may read and switch lights.",
			"A management controller wants a user without a colon in its name, and a password.")
	}
	if _, err := link.Transport(req.Url, link.Options{Fingerprint: req.Fingerprint}); err != nil {
		return problem.New(422, "bad-request", "Such as https://192.0.2.7, with the SHA-256 of its certificate.", "%s.", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	h, err := HostNamed(s.State, name)
	if err != nil {
		return err
	}
	row := h.Host
	row.Controller = ledger.Document(api.HostController{Url: req.Url, User: req.User, Fingerprint: req.Fingerprint, By: by,
		SetAt: s.Clock.Now()})
	return s.keepController(h, row, &store.HostSecret{Host: name, Password: req.Password},
		fmt.Sprintf("%s set the management controller of %s: %s", by, name, req.Url))
}

// RemoveController ends the use of a host's management controller; its password is deleted.
func (s *Service) RemoveController(by, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	h, err := HostNamed(s.State, name)
	if err != nil {
		return err
	}
	if _, ok := ControllerOf(&h.Host); !ok {
		return problem.New(
			404,
			"no-controller",
			"See: lantern host redfish list",
			"%s has no management controller.",
			name,
		)
	}
	row := h.Host
	row.Controller = nil
	return s.keepController(h, row, nil, fmt.Sprintf("%s removed the management controller of %s", by, name))
}

func (s *Service) keepController(h *Host, row store.Host, secret *store.HostSecret, says string) error {
	b := &store.Batch{}
	b.Put(&row)
	if secret != nil {
		b.Put(secret)
	} else {
		b.Drop(&store.HostSecret{Host: h.Name})
	}
	s.AddEvent(b, api.EventKindHost, h.Name, says)
	if err := s.Commit(b); err != nil {
		return err
	}
	h.Host = row
	return nil
}

// ControllerVersion changes with the settings of a host's management controller; empty where there is none.
func (s *Service) ControllerVersion(host string) string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if h := s.Hosts[host]; h != nil {
		return versionOf(&h.Host)
	}
	return ""
}

func versionOf(h *store.Host) string {
	if len(h.Controller) == 0 {
		return ""
	}
	sum := sha256.Sum256(h.Controller) // it contains the moment at which it was set
	return hex.EncodeToString(sum[:8])
}

// AgentController gives a host's own agent the settings of its management controller; ok is false where there is none.
func (s *Service) AgentController(host string) (v api.AgentController, ok bool, err error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	h := s.Hosts[host]
	if h == nil {
		return v, false, nil
	}
	c, ok := ControllerOf(&h.Host)
	if !ok {
		return v, false, nil
	}
	secret, err := store.One[store.HostSecret](s.Store, "host = ?", host)
	if errors.Is(err, store.ErrNone) {
		return v, false, nil
	}
	return api.AgentController{Version: versionOf(&h.Host), Url: c.Url, User: c.User, Password: secret.Password,
		Fingerprint: c.Fingerprint}, err == nil, err
}

// moveSecret stores a host's secret under its new name.
func moveSecret(s *State, b *store.Batch, from, to string) error {
	secret, err := store.One[store.HostSecret](s.Store, "host = ?", from)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	if err != nil {
		return err
	}
	b.Drop(&store.HostSecret{Host: from})
	b.Put(&store.HostSecret{Host: to, Password: secret.Password})
	return nil
}
