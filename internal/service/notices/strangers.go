package notices

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"lantern/internal/core/health"
	"lantern/internal/core/notice"
)

// wrongTokens counts unknown tokens from one address.
type wrongTokens struct {
	count int
	at    time.Time // the newest, by the service's clock
}

// The number of wrong tokens from one address that makes a notice, and how long it stays after the last.
const (
	wrongTold = 10
	wrongFor  = time.Hour
	mostWrong = 1000 // addresses that are remembered
)

// WrongTokens records the number of recent wrong tokens from an address.
func (s *Service) WrongTokens(from string, count int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Clock.Now()
	for a, w := range s.own.wrong {
		if now.Sub(w.at) > wrongFor || len(s.own.wrong) >= mostWrong {
			delete(s.own.wrong, a)
		}
	}
	if s.own.wrong == nil {
		s.own.wrong = map[string]wrongTokens{}
	}
	s.own.wrong[from] = wrongTokens{count, now}
}

// strangers are the matters of addresses with wrong tokens.
func (s *State) strangers(now time.Time) (out []notice.Matter) {
	for from, w := range s.own.wrong {
		if w.count >= wrongTold && now.Sub(w.at) <= wrongFor {
			out = append(out, notice.Matter{
				Key:      "sign-in/" + from,
				Kind:     notice.Service,
				Severity: health.Watch,
				Says:     fmt.Sprintf("at least %d wrong tokens from %s, one soon after another", w.count/10*10, from),
				Do:       "Find out who uses that address: an old script, or somebody who guesses tokens.",
			})
		}
	}
	slices.SortFunc(out, func(a, b notice.Matter) int { return cmp.Compare(a.Key, b.Key) })
	return out
}
