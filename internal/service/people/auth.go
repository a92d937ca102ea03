package people

import (
	"crypto/subtle"
	"strings"
	"time"

	"lantern/internal/service/problem"
	"lantern/internal/service/secret"
	"lantern/internal/store"
)

// FirstToken makes the administrator's token if there is no token yet; fresh is false when there is one already.
func (s *State) FirstToken() (token string, fresh bool, err error) {
	have, err := store.All[store.Token](s.Store, "name", "")
	if err != nil || len(have) > 0 {
		return "", false, err
	}
	token, err = s.NewToken("admin")
	return token, true, err
}

// NewToken makes a token for a person, in place of one of the same name: for who holds the service itself.
func (s *State) NewToken(name string) (string, error) { return s.newToken(name, "") }

// Person says whose token it is.
func (s *State) Person(token string) (string, bool) {
	if !strings.HasPrefix(token, secret.PersonPrefix) {
		return "", false
	}
	t, err := store.One[store.Token](s.Store, "hash = ?", secret.Hash(token))
	return t.Name, err == nil
}

// Sessions last this long, in real time: they are about people, not about the lab.
const sessionLasts = 12 * time.Hour

// SignInLink makes a code that opens one session, within a quarter of an hour.
func (s *State) SignInLink(name string) (string, error) {
	code := secret.New("")
	b := &store.Batch{}
	b.Put(&store.SignInCode{Hash: secret.Hash(code), Name: name, Expires: time.Now().UTC().Add(15 * time.Minute)})
	return code, s.Store.Write(b)
}

// UseLink opens a session by a code; the code is gone afterwards.
func (s *State) UseLink(code string) (session string, err error) {
	c, err := store.One[store.SignInCode](s.Store, "hash = ?", secret.Hash(code))
	if err == nil {
		var n int64
		n, err = store.Remove[store.SignInCode](s.Store, "hash = ?", secret.Hash(code))
		if err == nil && (n == 0 || time.Now().After(c.Expires)) {
			err = store.ErrNone
		}
	}
	if err != nil {
		return "", problem.New(
			401,
			"link-used",
			"Ask for another, or sign in with a token.",
			"This link was used already, or is too old.",
		)
	}
	return s.openSession(c.Name)
}

// SignIn opens a session with a person's token.
func (s *State) SignIn(token string) (session string, err error) {
	name, ok := s.Person(strings.TrimSpace(token))
	if !ok {
		return "", problem.New(
			401,
			"bad-token",
			"Look for typing errors; the first start printed it once.",
			"Nobody has this token.",
		)
	}
	return s.openSession(name)
}

func (s *State) openSession(name string) (string, error) {
	if _, err := store.Remove[store.Session](s.Store, "expires < ?", time.Now().UTC()); err != nil {
		return "", err
	}
	session := secret.New("")
	b := &store.Batch{}
	b.Put(&store.Session{Hash: secret.Hash(session), Name: name, Expires: time.Now().UTC().Add(sessionLasts)})
	return session, s.Store.Write(b)
}

// SessionOf says whose session it is.
func (s *State) SessionOf(session string) (string, bool) {
	x, err := store.One[store.Session](s.Store, "hash = ?", secret.Hash(session))
	return x.Name, err == nil && time.Now().Before(x.Expires)
}

// SignOut ends a session.
func (s *State) SignOut(session string) error {
	_, err := store.Remove[store.Session](s.Store, "hash = ?", secret.Hash(session))
	return err
}

// Answered gives what a request with an idempotency key was answered before. Its answer is given only to the same body.
func (s *State) Answered(key string, body []byte) (status int, answer []byte, ok bool, err error) {
	a, err := store.One[store.Answer](s.Store, "key = ?", key)
	if err != nil {
		return 0, nil, false, nil
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

// KeepAnswer remembers an answer under an idempotency key.
func (s *State) KeepAnswer(key string, body []byte, status int, answer []byte) error {
	b := &store.Batch{}
	b.Add(&store.Answer{Key: key, Asked: secret.Hash(string(body)), Status: status, Body: answer, At: time.Now().UTC()})
	return s.Store.Write(b)
}
