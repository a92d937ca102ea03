package service

import (
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lantern/internal/api"
	"lantern/internal/service/people"
	"lantern/internal/service/secret"
	"lantern/internal/store"
)

// TestWhoIsLetIn: whatever changes of people and sessions, who is let in is what the records say at that moment:
// nothing that was remembered of before lets anybody in, or keeps anybody out.
func TestWhoIsLetIn(t *testing.T) {
	s, _ := nothingYet(t)
	st := s.Store
	admin := people.Rights{Name: "ida", Role: api.Admin}
	_, err := s.People.NewToken("ida")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		var tokens, sessions []string
		names := []string{"bo", "cy", "di"}
		for _, name := range names {
			_ = s.People.RemovePerson("ida", name)
		}
		look := func() {
			for _, token := range tokens {
				rows, err := store.All[store.Token](st, "name", "hash = ?", secret.Hash(token))
				require.NoError(t, err)
				_, err = s.People.Person(token)
				require.Equal(t, len(rows) == 1, err == nil)
			}
			for _, session := range sessions {
				rows, err := store.All[store.Session](st, "id", "hash = ?", secret.Hash(session))
				require.NoError(t, err)
				alive := len(rows) == 1
				if alive {
					of, err := store.All[store.Token](st, "name", "name = ?", rows[0].Name)
					require.NoError(t, err)
					alive = len(of) == 1
				}
				r, id, err := s.People.SessionOf(session)
				require.Equal(t, alive, err == nil)
				require.Equal(t, alive, s.People.Lives(session))
				if err == nil {
					require.Equal(t, rows[0].ID, id)
					have, err := s.People.People("")
					require.NoError(t, err)
					i := slices.IndexFunc(have, func(p api.Person) bool { return p.Name == r.Name })
					require.Equal(t, have[i].Role, r.Role)
				}
			}
		}
		for range rapid.IntRange(1, 25).Draw(t, "steps") {
			name := rapid.SampledFrom(names).Draw(t, "name")
			switch rapid.IntRange(0, 5).Draw(t, "what") {
			case 0, 1:
				p, err := s.People.AddPerson(admin, api.AddPerson{Name: name,
					Role: rapid.SampledFrom([]api.Role{api.Viewer, api.Operator}).Draw(t, "role")})
				if err == nil {
					tokens = append(tokens, p.Token)
				}
			case 2:
				_ = s.People.RemovePerson("ida", name)
			case 3:
				if len(tokens) > 0 {
					if x, err := s.People.SignIn(rapid.SampledFrom(tokens).Draw(t, "token"), people.Caller{}); err == nil {
						sessions = append(sessions, x)
					}
				}
			case 4:
				if len(sessions) > 0 {
					_, id, _ := s.People.SessionOf(rapid.SampledFrom(sessions).Draw(t, "session"))
					_ = s.People.EndSession(admin, id)
				}
			case 5:
				if token, err := s.People.NewToken(name); err == nil {
					tokens = append(tokens, token)
				}
			}
			look()
			look() // from what is remembered
		}
	})
}

// TestEndedStaysEnded: a session that is ended while a request uses it is not opened again by noting its use.
func TestEndedStaysEnded(t *testing.T) {
	s, _ := nothingYet(t)
	token, err := s.People.NewToken("ida")
	require.NoError(t, err)
	admin := people.Rights{Name: "ida", Role: api.Admin}
	for range 60 {
		session, err := s.People.SignIn(token, people.Caller{})
		require.NoError(t, err)
		_, id, err := s.People.SessionOf(session)
		require.NoError(t, err)
		long := time.Now().Add(-time.Hour).UTC()
		require.NoError(t, store.Set[store.Session](s.Store, "seen_at", long, "id = ?", id))
		var together sync.WaitGroup
		together.Go(func() { _ = s.People.EndSession(admin, id) })
		for range 2 {
			together.Go(func() { _, _, _ = s.People.SessionOf(session) })
		}
		together.Wait()
		_, _, err = s.People.SessionOf(session)
		require.ErrorIs(t, err, store.ErrNone)
	}
}

// TestRenewalEndsAll: no session that was opened with a token or a link outlives the token, even if it was opened while
// the token was renewed; and a link opens one session, however many use it at the same time.
func TestRenewalEndsAll(t *testing.T) {
	s, _ := nothingYet(t)
	p, err := s.People.AddPerson(people.Rights{Name: "ida", Role: api.Admin}, api.AddPerson{Name: "bo"})
	require.NoError(t, err)
	var mu sync.Mutex
	for range 30 {
		code, err := s.People.SignInLink("bo")
		require.NoError(t, err)
		token := p.Token
		var opened []string
		var links, stop atomic.Int32
		var together sync.WaitGroup
		note := func(session string, err error) {
			if err == nil {
				mu.Lock()
				opened = append(opened, session)
				mu.Unlock()
			}
		}
		for range 3 {
			together.Go(func() {
				session, err := s.People.UseLink(code, people.Caller{})
				if note(session, err); err == nil {
					links.Add(1)
				}
				for stop.Load() == 0 {
					note(s.People.SignIn(token, people.Caller{}))
				}
			})
		}
		p, err = s.People.AddPerson(people.Rights{Name: "bo", Role: api.Operator}, api.AddPerson{Name: "bo", Renew: true})
		stop.Store(1)
		together.Wait()
		require.NoError(t, err)
		require.LessOrEqual(t, links.Load(), int32(1))
		for _, session := range opened {
			_, _, err := s.People.SessionOf(session)
			require.ErrorIs(t, err, people.ErrUnknown)
		}
	}
}

// BenchmarkLetIn says how long it takes to make out who asks, while records are written all the time.
func BenchmarkLetIn(b *testing.B) {
	s, c, reports := large(b, 2)
	token, err := s.People.NewToken("ida")
	require.NoError(b, err)
	session, err := s.People.SignIn(token, people.Caller{})
	require.NoError(b, err)
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			c.forward(time.Millisecond)
			r := reports[n%2]
			r.Id, r.At = time.Now().Format(time.RFC3339Nano), c.Now()
			_ = s.TakeReport(r.Host, r)
		}
	}()
	for b.Loop() {
		if _, _, err := s.People.SessionOf(session); err != nil {
			b.Fatal("it is open")
		}
	}
	close(stop)
	<-done
}
