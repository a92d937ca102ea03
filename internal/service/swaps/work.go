package swaps

import (
	"cmp"
	"slices"
	"time"

	"lantern/internal/core/swap"
	"lantern/internal/service/problem"
)

// AskedOut reports whether a drive is out because a swap asked for it.
func (s *State) AskedOut(key string, now time.Time) bool {
	return slices.ContainsFunc(s.OpenSwaps(), func(w *Swap) bool { return w.Differs == "" && w.AskedOut(key, now) })
}

// AskedDown reports whether a host is down because a swap asked for it, within the time allowed.
func (s *State) AskedDown(host string, now time.Time) bool {
	return slices.ContainsFunc(
		s.OpenSwaps(),
		func(w *Swap) bool { return w.Differs == "" && w.Host == host && w.AskedDown(now) },
	)
}

// ByDrive are the ids of the open swaps by the keys of their old and new drives.
func (s *State) ByDrive() map[string]string {
	out := map[string]string{}
	for _, w := range s.OpenSwaps() {
		out[w.Old.Key()] = w.ID
		if w.New != nil {
			out[w.New.Key()] = w.ID
		}
	}
	return out
}

// SwapIn gives the leader of the swap that was begun in a pool.
func (s *State) SwapIn(poolID string) (lead string, begun bool) {
	for _, w := range s.OpenSwaps() {
		if w.PoolID == poolID && !w.StartedAt.IsZero() {
			return w.Lead, true
		}
	}
	return "", false
}

// OnHost reports whether a swap is open on a host.
func (s *State) OnHost(host string) bool {
	return slices.ContainsFunc(s.OpenSwaps(), func(w *Swap) bool { return w.Host == host })
}

// Concerns reports whether an open swap takes a drive out or brings it in.
func (s *State) Concerns(key string) bool {
	return slices.ContainsFunc(s.OpenSwaps(), func(w *Swap) bool {
		return w.Old.Key() == key || w.New != nil && w.New.Key() == key || w.Early != nil && w.Early.Key() == key
	})
}

// WaitsIn gives the leader of the swap that waits for a drive to be confirmed.
func (s *State) WaitsIn(key string) (lead string, waits bool) {
	for _, w := range s.OpenSwaps() {
		if w.Phase == swap.Confirm && w.New != nil && w.New.Key() == key {
			return w.Lead, true
		}
	}
	return "", false
}

// Leads gives an error while a person leads a swap or a campaign.
func (s *State) Leads(person string) error {
	for _, w := range s.OpenSwaps() {
		if w.Lead == person {
			return problem.New(
				409,
				"leads-swap",
				"Take the lead over first: lantern swap lead "+w.Old.Tail()+" --reason …",
				"%s leads the swap of %s in %s.",
				person,
				w.Old.Tail(),
				w.Pool,
			)
		}
	}
	for _, c := range s.CampaignByID {
		if c.Lead == person && c.State.Open() {
			return problem.New(
				409,
				"leads-campaign",
				"It goes on only with them; let them end or abandon it first.",
				"%s leads the campaign in %s.",
				person,
				c.Pool,
			)
		}
	}
	return nil
}

// Promised gives the old drive of the swap that a drive is reserved for, if not this one.
func (s *State) Promised(key, id string) string {
	for _, w := range s.OpenSwaps() {
		if w.ID != id && w.Phase != swap.Planned &&
			(w.New != nil && w.New.Key() == key || w.Early != nil && w.Early.Key() == key) {
			return w.Old.Tail()
		}
	}
	return ""
}

func (s *State) OpenSwaps() (out []*Swap) {
	for _, w := range s.SwapByID {
		if w.Phase.Open() {
			out = append(out, w)
		}
	}
	slices.SortFunc(
		out,
		func(a, b *Swap) int { return cmp.Or(a.PlannedAt.Compare(b.PlannedAt), cmp.Compare(a.ID, b.ID)) },
	)
	return out
}
