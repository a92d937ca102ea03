package service

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"fmt"
	"regexp"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/store"
)

// secret makes a token of 160 random bits, with a prefix that says what it is for.
func secret(prefix string) string {
	b := make([]byte, 20)
	if _, err := rand.Read(b); err != nil {
		panic(err) // the system has no randomness: nothing must go on
	}
	return prefix + strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))
}

// hashed is what is kept of a token. It is random throughout, so one round of SHA-256 is enough.
func hashed(token string) []byte {
	h := sha256.Sum256([]byte(token))
	return h[:]
}

// Prefixes of the kinds of tokens.
const (
	personPrefix = "lan-person-"
	hostPrefix   = "lan-host-"
)

// FirstToken makes the administrator's token if there is no token yet; fresh is false when there is one already.
func (s *Service) FirstToken() (token string, fresh bool, err error) {
	have, err := store.All[store.Token](s.store, "name", "")
	if err != nil || len(have) > 0 {
		return "", false, err
	}
	token, err = s.NewToken("admin")
	return token, true, err
}

// NewToken makes a token for a person, in place of one of the same name: for who holds the service itself.
func (s *Service) NewToken(name string) (string, error) { return s.newToken(name, "") }

// Person says whose token it is.
func (s *Service) Person(token string) (string, bool) {
	if !strings.HasPrefix(token, personPrefix) {
		return "", false
	}
	t, err := store.One[store.Token](s.store, "hash = ?", hashed(token))
	return t.Name, err == nil
}

// HostOf says which host's token it is.
func (s *Service) HostOf(token string) (string, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := hashed(token)
	for _, x := range s.hosts {
		if subtle.ConstantTimeCompare(x.TokenHash, h) == 1 {
			return x.Name, true
		}
	}
	return "", false
}

var hostName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Enrol makes a host known and gives it a token. A host that is known gets a new one; its old one stops working.
func (s *Service) Enrol(by, name string) (string, error) {
	if !hostName.MatchString(name) {
		return "", problem(422, "bad-name", "Use small letters, digits and hyphens, such as skerry-2.", "%q cannot be a host's name.", name)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	token := secret(hostPrefix)
	h := s.hosts[name]
	if h == nil {
		h = &host{Host: store.Host{Name: name, Enrolled: s.clock.Now()}}
		s.hosts[name] = h
	}
	h.TokenHash = hashed(token)
	row := h.Host
	b := &store.Batch{}
	b.Put(&row)
	s.happened(b, api.EventKindHost, name, fmt.Sprintf("%s enrolled %s", by, name))
	return token, s.commit(b)
}

// Sessions last this long, in real time: they are about people, not about the lab.
const sessionLasts = 12 * time.Hour

// SignInLink makes a code that opens one session, within a quarter of an hour.
func (s *Service) SignInLink(name string) (string, error) {
	code := secret("")
	b := &store.Batch{}
	b.Put(&store.SignInCode{Hash: hashed(code), Name: name, Expires: time.Now().UTC().Add(15 * time.Minute)})
	return code, s.store.Write(b)
}

// UseLink opens a session by a code; the code is gone afterwards.
func (s *Service) UseLink(code string) (session string, err error) {
	c, err := store.One[store.SignInCode](s.store, "hash = ?", hashed(code))
	if err == nil {
		var n int64
		n, err = store.Remove[store.SignInCode](s.store, "hash = ?", hashed(code))
		if err == nil && (n == 0 || time.Now().After(c.Expires)) {
			err = store.ErrNone
		}
	}
	if err != nil {
		return "", problem(401, "link-used", "Ask for another, or sign in with a token.", "This link was used already, or is too old.")
	}
	return s.openSession(c.Name)
}

// SignIn opens a session with a person's token.
func (s *Service) SignIn(token string) (session string, err error) {
	name, ok := s.Person(strings.TrimSpace(token))
	if !ok {
		return "", problem(401, "bad-token", "Look for typing errors; the first start printed it once.", "Nobody has this token.")
	}
	return s.openSession(name)
}

func (s *Service) openSession(name string) (string, error) {
	if _, err := store.Remove[store.Session](s.store, "expires < ?", time.Now().UTC()); err != nil {
		return "", err
	}
	session := secret("")
	b := &store.Batch{}
	b.Put(&store.Session{Hash: hashed(session), Name: name, Expires: time.Now().UTC().Add(sessionLasts)})
	return session, s.store.Write(b)
}

// SessionOf says whose session it is.
func (s *Service) SessionOf(session string) (string, bool) {
	x, err := store.One[store.Session](s.store, "hash = ?", hashed(session))
	return x.Name, err == nil && time.Now().Before(x.Expires)
}

// SignOut ends a session.
func (s *Service) SignOut(session string) error {
	_, err := store.Remove[store.Session](s.store, "hash = ?", hashed(session))
	return err
}

// Answered gives what a request with an idempotency key was answered before. Its answer is given only to the same body.
func (s *Service) Answered(key string, body []byte) (status int, answer []byte, ok bool, err error) {
	a, err := store.One[store.Answer](s.store, "key = ?", key)
	if err != nil {
		return 0, nil, false, nil
	}
	if subtle.ConstantTimeCompare(a.Asked, hashed(string(body))) != 1 {
		return 0, nil, false, problem(422, "key-reused", "Use a new key for a new request.", "This Idempotency-Key was used for another request.")
	}
	return a.Status, a.Body, true, nil
}

// KeepAnswer remembers an answer under an idempotency key.
func (s *Service) KeepAnswer(key string, body []byte, status int, answer []byte) error {
	b := &store.Batch{}
	b.Add(&store.Answer{Key: key, Asked: hashed(string(body)), Status: status, Body: answer, At: time.Now().UTC()})
	return s.store.Write(b)
}
