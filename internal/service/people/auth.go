package people

import (
	"crypto/subtle"
	"errors"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/record"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/service/secret"
	"lantern/internal/store"
)

// FirstToken makes the administrator's token if there is no token yet; fresh is false if there is one.
func (s *State) FirstToken() (token string, fresh bool, err error) {
	have, err := store.All[store.Token](s.Store, "name", "")
	if err != nil || len(have) > 0 {
		return "", false, err
	}
	token, err = s.NewToken("admin")
	return token, true, err
}

// NewToken makes a token for a person and replaces an earlier one: for an administrator of the service's own machine.
func (s *State) NewToken(name string) (string, error) {
	return s.newToken(&store.Batch{}, store.Token{Name: name, Role: string(api.Admin)})
}

// Person gives the person of a token, and their rights. The error is ErrUnknown if the token is not valid; any
// other means that the records could not be read.
func (s *State) Person(token string) (Rights, error) {
	if !strings.HasPrefix(token, secret.PersonPrefix) {
		return Rights{}, ErrUnknown
	}
	hash := secret.Hash(token)
	return s.rights("hash "+string(hash), "hash = ?", hash)
}

// Lifetime of sessions, in real time: it does not depend on the lab's clock.
const sessionLasts = 12 * time.Hour

// Idle time after which a session ends. Its use is recorded at most once in seenEach.
const (
	sessionIdle = 2 * time.Hour
	seenEach    = time.Minute
)

// Caller is where a request comes from.
type Caller struct{ Address, Program string }

// SignInLink makes a code that opens one session, valid for a quarter of an hour.
func (s *State) SignInLink(name string) (string, error) {
	code := secret.New("")
	b := &store.Batch{}
	b.Put(&store.SignInCode{Hash: secret.Hash(code), Name: name, Expires: time.Now().UTC().Add(15 * time.Minute)})
	return code, s.Store.Write(b)
}

// UseLink opens a session by a code, which is then used up.
func (s *State) UseLink(code string, from Caller) (session string, err error) {
	hash := secret.Hash(code)
	c, err := store.One[store.SignInCode](s.Store, "hash = ?", hash)
	if err == nil && time.Now().After(c.Expires) {
		err = store.ErrNone
	}
	if err == nil {
		b := &store.Batch{}
		b.Need(&store.SignInCode{}, "hash = ?", hash)
		b.Drop(&store.SignInCode{Hash: hash})
		session, err = s.openSession(b, c.Name, from)
	}
	if errors.Is(err, store.ErrNone) {
		return "", problem.New(
			401,
			"link-used",
			"Ask for another, or sign in with a token.",
			"This link was used already, or is too old.",
		)
	}
	return session, err
}

// SignIn opens a session with a person's token.
func (s *State) SignIn(token string, from Caller) (session string, err error) {
	token = strings.TrimSpace(token)
	r, err := s.Person(token)
	if err == nil {
		b := &store.Batch{}
		b.Need(&store.Token{}, "hash = ?", secret.Hash(token))
		session, err = s.openSession(b, r.Name, from)
	}
	if errors.Is(err, ErrUnknown) {
		return "", problem.New(
			401,
			"bad-token",
			"Look for typing errors; the first start printed it once.",
			"This token is not valid.",
		)
	}
	return session, err
}

// byProvider marks people who are known to an identity provider, and have no token of ours.
const byProvider = "identity provider"

// SignInFrom opens a session for a person authenticated by an identity provider, with the role that it gives now. The
// name of a person with a token is never given to anybody else.
func (s *State) SignInFrom(name string, role api.Role, from Caller) (session string, err error) {
	name = strings.TrimSpace(name)
	if !personName.MatchString(name) && !strings.Contains(name, "@") || len(name) > 80 || name == record.Seen {
		return "", problem.New(422, "bad-name", "Look at its claims.", "%q cannot be a person's name.", name)
	}
	have, err := s.People("")
	if err != nil {
		return "", err
	}
	row := store.Token{Name: name, Made: time.Now().UTC(), By: byProvider}
	for _, p := range have {
		if !strings.EqualFold(p.Name, name) {
			continue
		}
		if p.AddedBy != byProvider || p.Name != name {
			return "", problem.New(409, "person-exists", "An admin must remove that person first.",
				"%s is the name of somebody with a token.", name)
		}
		if row, err = store.One[store.Token](s.Store, "name = ?", name); err != nil {
			return "", err
		}
	}
	row.Role = string(role)
	b := &store.Batch{}
	b.Put(&row)
	return s.openSession(b, name, from)
}

// openSession opens a session in one transaction with the other changes in b. The conditions in b must still hold
// then, such as that the token was not renewed in the meantime.
func (s *State) openSession(b *store.Batch, name string, from Caller) (string, error) {
	now := time.Now().UTC()
	session := secret.New("")
	b.DropAll(&store.Session{}, "expires < ?", now)
	b.Put(
		&store.Session{
			Hash:    secret.Hash(session),
			Name:    name,
			Expires: now.Add(sessionLasts),
			ID:      ledger.NewID(),
			Made:    now,
			SeenAt:  now,
			Address: from.Address,
			Program: from.Program,
		},
	)
	return session, s.Store.Write(b)
}

func (s *State) session(session string) (store.Session, error) {
	hash := secret.Hash(session)
	return s.sessions.get(s.Store, string(hash), "hash = ?", hash)
}

// SessionOf gives the rights of the person of a session, and the id of the session. It records the use of the session.
// The error is ErrUnknown if the session has ended; any other means that the records could not be read.
func (s *State) SessionOf(session string) (r Rights, id string, err error) {
	x, err := s.session(session)
	if err != nil {
		return r, "", err
	}
	now := time.Now().UTC()
	if !now.Before(x.Expires) || !x.SeenAt.IsZero() && now.Sub(x.SeenAt) > sessionIdle {
		return r, "", ErrUnknown
	}
	if r, err = s.RightsOf(x.Name); err == nil && now.Sub(x.SeenAt) > seenEach {
		// Only a session that is still open is changed, so one that was just ended is not opened again.
		if err := store.Set[store.Session](s.Store, "seen_at", now, "hash = ?", x.Hash); err != nil {
			s.Log.Debug("the time of a session could not be written", "error", err)
		}
	}
	return r, x.ID, err
}

// Lives reports whether a session is still open; this does not count as use.
func (s *State) Lives(session string) bool {
	x, err := s.session(session)
	if err != nil || !time.Now().Before(x.Expires) {
		return false
	}
	_, err = s.RightsOf(x.Name)
	return err == nil
}

// Sessions are the open sessions of somebody; of everybody for an admin.
func (s *State) Sessions(r Rights, mine string) ([]api.OpenSession, error) {
	now := time.Now().UTC()
	rows, err := store.All[store.Session](s.Store, "made desc", "expires > ?", now)
	out := []api.OpenSession{}
	for _, x := range rows {
		if (x.Name == r.Name || r.May(api.Admin)) && now.Sub(x.SeenAt) <= sessionIdle {
			out = append(out, api.OpenSession{Id: x.ID, Name: x.Name, OpenedAt: x.Made, SeenAt: x.SeenAt,
				EndsAt: x.Expires, From: x.Address, Program: x.Program, This: x.ID == mine})
		}
	}
	return out, err
}

// EndSession ends a session: a person's own, or for an admin any session.
func (s *State) EndSession(r Rights, id string) error {
	x, err := store.One[store.Session](s.Store, "id = ? and id <> ''", id)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return err
	}
	if err != nil || x.Name != r.Name && !r.May(api.Admin) {
		return problem.New(404, "no-session", "List them with: lantern person sessions", "No open session %q.", id)
	}
	_, err = store.Remove[store.Session](s.Store, "id = ?", id)
	return err
}

// SignOut ends a session.
func (s *State) SignOut(session string) error {
	_, err := store.Remove[store.Session](s.Store, "hash = ?", secret.Hash(session))
	return err
}

// Answered gives the earlier answer to a request with an idempotency key, only for the same body.
func (s *State) Answered(key string, body []byte) (status int, answer []byte, ok bool, err error) {
	a, err := store.One[store.Answer](s.Store, "key = ?", key)
	if errors.Is(err, store.ErrNone) {
		return 0, nil, false, nil
	}
	if err != nil {
		return 0, nil, false, err // it is not known whether it was done before
	}
	if subtle.ConstantTimeCompare(a.Asked, secret.Hash(string(body))) != 1 {
		return 0, nil, false, problem.New(
			422,
			"key-reused",
			"Use a new key for a new request.",
			"This Idempotency-Key was used for another request.",
		)
	}
	return a.Status, a.Body, true, nil
}

// KeepAnswer stores an answer under an idempotency key.
func (s *State) KeepAnswer(key string, body []byte, status int, answer []byte) error {
	b := &store.Batch{}
	b.Add(&store.Answer{Key: key, Asked: secret.Hash(string(body)), Status: status, Body: answer, At: time.Now().UTC()})
	return s.Store.Write(b)
}
