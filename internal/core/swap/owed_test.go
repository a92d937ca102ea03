package swap

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/pool"
)

// TestOwed: the work that an abandoned swap left undone is shown for each place of each pool, and nothing if all places
// are filled.
func TestOwed(t *testing.T) {
	member := func(slot string, st pool.MemberState, log string) pool.Member {
		return pool.Member{Slot: slot, State: st, Log: log}
	}
	group := func(ms ...pool.Member) *pool.Pool {
		return &pool.Pool{ID: "p", Name: "basalt", Groups: []pool.Group{{Name: "g", Members: ms}}}
	}
	whole := group(member("0", pool.Online, ""), member("1", pool.Online, ""))
	at := time.Date(2026, 3, 2, 4, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		phase   Phase
		begun   bool
		spare   string
		p, q    *pool.Pool
		unknown bool
		says    string
	}{
		"all filled": {phase: Abandoned, begun: true, p: whole, q: whole},
		"not begun":  {phase: Abandoned, p: group(member("0", pool.Missing, "")), q: whole},
		"closed":     {phase: Closed, begun: true, p: group(member("0", pool.Missing, "")), q: whole},
		"missing": {phase: Abandoned, begun: true,
			p: group(member("0", pool.Missing, ""), member("1", pool.Online, "")), q: whole,
			says: "place 0 has no working member"},
		"recovering": {phase: Abandoned, begun: true,
			p: group(member("0", pool.Recovering, ""), member("1", pool.Online, "")), q: whole},
		"emptied": {phase: Abandoned, begun: true,
			p: group(member("0", pool.Out, ""), member("1", pool.Online, "")), q: whole, says: "place 0 was emptied"},
		"removed": {phase: Abandoned, begun: true, p: group(member("1", pool.Online, "")),
			q: whole, says: "place 0 was removed"},
		"the other pool's place": {phase: Abandoned, begun: true, p: whole,
			q: group(member("0", pool.Faulty, ""), member("1", pool.Online, "")), says: "place 0 has no working member"},
		"one that depends on the place": {phase: Abandoned, begun: true,
			p: group(member("0", pool.Online, ""), member("1", pool.Out, "0")), q: whole,
			says: "place 1, which depends on 0, is emptied or lost"},
		"unknown": {phase: Abandoned, begun: true, p: whole, q: whole, unknown: true,
			says: "unknown whether place 0 of basalt is filled"},
		"forgotten": {phase: Abandoned, begun: true},
		"the spare used up": {phase: Closed, begun: true, spare: "s", p: whole, q: whole,
			says: "no spare stands by"},
		"another spare stands by": {phase: Closed, begun: true, spare: "s",
			p: &pool.Pool{Spares: []pool.Member{{State: pool.Standby}}}, q: whole},
	} {
		s := State{
			Phase:   c.phase,
			Members: 2,
			Host:    "fulmar",
			Recipe:  Recipe{Spare: c.spare},
			Seats:   []Seat{{Pool: "basalt", PoolID: "p", Slot: "0"}, {Pool: "gneiss", PoolID: "q", Slot: "0"}},
		}
		if c.begun {
			s.StartedAt = at
		}
		d := s.Owed(func(id string) (*pool.Pool, bool) {
			return map[string]*pool.Pool{"p": c.p, "q": c.q}[id], !c.unknown
		})
		if c.says == "" {
			require.Zero(t, d, name)
			continue
		}
		require.Contains(t, d.Says, c.says, name)
		require.NotEmpty(t, d.Do, name)
	}
}
