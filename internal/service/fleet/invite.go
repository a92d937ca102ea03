package fleet

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/service/secret"
	"lantern/internal/store"
)

// Limits of invitations.
const (
	mostInvited  = 10000
	inviteAtMost = 30 * 24 * time.Hour
	// mostAsking is how many hosts may wait for approval at once.
	mostAsking = 2000
)

// Invite makes a code with which a limited number of hosts can request enrolment, until it expires. Hosts whose names
// match pattern (path.Match), if given, are enrolled at once; the others wait for approval.
func (s *Service) Invite(by string, req api.InviteHosts) (api.Invitation, error) {
	lasts := time.Duration(req.Hours * float64(time.Hour))
	switch {
	case req.Count < 1 || req.Count > mostInvited:
		return api.Invitation{}, problem.New(
			422,
			"bad-request",
			"Such as 50.",
			"An invitation is for 1 to %d hosts.",
			mostInvited,
		)
	case lasts <= 0 || lasts > inviteAtMost:
		return api.Invitation{}, problem.New(422, "bad-request", "Such as 2h.", "An invitation lasts up to 30 days.")
	}
	if _, err := path.Match(req.Pattern, ""); err != nil {
		return api.Invitation{}, problem.New(
			422,
			"bad-request",
			"Such as rack2-*.",
			"%q is not a pattern: a [ has no ].",
			req.Pattern,
		)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	code := secret.New(secret.InvitePrefix)
	row := store.Invitation{ID: ledger.NewID(), Hash: secret.Hash(code), Count: req.Count, Pattern: req.Pattern, By: by,
		Made: s.now(), Ends: s.now().Add(lasts)}
	b := &store.Batch{}
	b.Put(&row)
	s.AddEvent(
		b,
		api.EventKindHost,
		"",
		fmt.Sprintf("%s invited %d hosts, until %s", by, row.Count, row.Ends.Format(time.RFC3339)),
	)
	if err := s.Commit(b); err != nil {
		return api.Invitation{}, err
	}
	v := viewInvitation(row)
	v.Code = code
	return v, nil
}

// now is real time: invitations do not depend on the lab's clock.
func (s *Service) now() time.Time { return time.Now().UTC() }

func viewInvitation(row store.Invitation) api.Invitation {
	return api.Invitation{
		Id:      row.ID,
		Count:   row.Count,
		Used:    row.Used,
		Pattern: row.Pattern,
		By:      row.By,
		EndsAt:  row.Ends,
	}
}

// Invitations are the valid invitations, and the waiting hosts.
func (s *Service) Invitations() (api.Invitations, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := api.Invitations{Open: []api.Invitation{}, Asking: []api.AskingHost{}}
	open, err := store.All[store.Invitation](s.Store, "id", "")
	if err != nil {
		return out, err
	}
	for _, row := range open {
		if row.Ends.After(s.now()) && row.Used < row.Count {
			out.Open = append(out.Open, viewInvitation(row))
		}
	}
	asking, err := store.All[store.Asking](s.Store, "name", "")
	for _, a := range asking {
		out.Asking = append(out.Asking, api.AskingHost{Name: a.Name, From: a.From, At: a.At, Invitation: a.Invitation})
	}
	return out, err
}

// Withdraw ends an invitation; hosts that wait already keep waiting.
func (s *Service) Withdraw(by, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	row, err := store.One[store.Invitation](s.Store, "id = ?", id)
	if errors.Is(err, store.ErrNone) {
		return problem.New(404, "no-invitation", "All of them: lantern host invitations", "No invitation %q.", id)
	}
	if err != nil {
		return err
	}
	b := &store.Batch{}
	b.Drop(&row)
	s.AddEvent(b, api.EventKindHost, "", fmt.Sprintf("%s withdrew an invitation of %s", by, row.By))
	return s.Commit(b)
}

// Ask handles an agent's request for enrolment, with a code and a token that it made itself. The agent repeats the
// request until done is true.
func (s *Service) Ask(req api.AskEnrolment, from string) (done bool, err error) {
	if err := CheckHostName(req.Name); err != nil {
		return false, err
	}
	if len(req.Token) != len(secret.New(secret.HostPrefix)) {
		return false, problem.Forever(422, "bad-token", "Use the agent of this version.", "This is not the token of a host.")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	hash := secret.Hash(req.Token)
	if h := s.Hosts[req.Name]; h != nil && bytes.Equal(h.TokenHash, hash) {
		return true, nil
	}
	asks, err := store.One[store.Asking](s.Store, "name = ?", req.Name)
	known := err == nil
	if err != nil && !errors.Is(err, store.ErrNone) {
		return false, err
	}
	if known && bytes.Equal(asks.Hash, hash) {
		return false, nil
	}
	invitation, err := store.One[store.Invitation](s.Store, "hash = ?", secret.Hash(req.Code))
	switch {
	case errors.Is(err, store.ErrNone) || err == nil && !invitation.Ends.After(s.now()):
		return false, problem.New(
			401,
			"bad-token",
			"Ask for another: lantern host invite",
			"This invitation is not known, or has ended.",
		)
	case err != nil:
		return false, err
	case known:
		return false, problem.New(
			409,
			"host-exists",
			"If its agent was set up again, refuse the one that waits: lantern host refuse "+req.Name,
			"Another machine already asks to be enrolled as %s.",
			req.Name,
		)
	case invitation.Used >= invitation.Count:
		return false, problem.New(
			409,
			"invitation-full",
			"Make another: lantern host invite",
			"As many hosts have used this invitation as it was for.",
		)
	}
	if err := NameFree(s.State, req.Name, nil); err != nil {
		return false, err
	}
	waiting, err := store.All[store.Asking](s.Store, "name", "")
	if err != nil || len(waiting) >= mostAsking {
		return false, errors.Join(
			err,
			problem.New(
				409,
				"invitation-full",
				"Approve or refuse those that wait first.",
				"Too many hosts wait for approval.",
			),
		)
	}
	b := &store.Batch{}
	invitation.Used++
	b.Put(&invitation)
	if fits, _ := path.Match(invitation.Pattern, req.Name); fits && invitation.Pattern != "" {
		return true, s.enrolled(
			b,
			req.Name,
			hash,
			fmt.Sprintf("%s was enrolled by an invitation of %s, from %s", req.Name, invitation.By, from),
		)
	}
	b.Put(&store.Asking{Name: req.Name, Hash: hash, From: from, At: s.now(), Invitation: invitation.ID})
	s.AddEvent(b, api.EventKindHost, req.Name, fmt.Sprintf("%s asks to be enrolled, from %s", req.Name, from))
	return false, s.Commit(b)
}

// enrolled writes a batch with a new host, and adds the host.
func (s *Service) enrolled(b *store.Batch, name string, hash []byte, says string) error {
	h := &Host{Host: store.Host{Name: name, Enrolled: s.Clock.Now(), TokenHash: hash}}
	row := h.Host
	b.Put(&row)
	s.AddEvent(b, api.EventKindHost, name, says)
	if err := s.Commit(b); err != nil {
		return err
	}
	s.Hosts[name] = h
	s.Changed()
	return nil
}

// asking is the waiting host of a name.
func (s *Service) asking(name string) (store.Asking, error) {
	a, err := store.One[store.Asking](s.Store, "name = ?", name)
	if errors.Is(err, store.ErrNone) {
		return a, problem.New(404, "no-host", "Those that do: lantern host invitations", "No host asks as %q.", name)
	}
	return a, err
}

// Approve enrols a host that waits.
func (s *Service) Approve(by, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, err := s.asking(name)
	if err != nil {
		return err
	}
	if err := NameFree(s.State, name, nil); err != nil {
		return err
	}
	b := &store.Batch{}
	b.Drop(&a)
	return s.enrolled(b, name, a.Hash, fmt.Sprintf("%s approved %s, which asked from %s", by, name, a.From))
}

// Decline refuses a host that waits.
func (s *Service) Decline(by, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, err := s.asking(name)
	if err != nil {
		return err
	}
	b := &store.Batch{}
	b.Drop(&a)
	s.AddEvent(b, api.EventKindHost, name, fmt.Sprintf("%s refused %s, which asked from %s", by, name, a.From))
	return s.Commit(b)
}
