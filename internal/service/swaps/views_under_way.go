package swaps

import (
	"lantern/internal/api"
	"lantern/internal/service/problem"
	"slices"
)

// Swaps lists swaps, the newest first.
func (s *Service) Swaps(open bool) []api.Swap {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Swap{}
	for _, w := range s.SwapByID {
		if !open || w.Phase.Open() {
			_, _, _ = s.refresh(w, w.KeepSpare) // what cannot be kept is shown as it was
			out = append(out, s.ViewSwap(w))
		}
	}
	slices.SortFunc(out, func(a, b api.Swap) int { return b.PlannedAt.Compare(a.PlannedAt) })
	return out
}

// Swap is one swap.
func (s *Service) Swap(id string) (api.Swap, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if w := s.SwapByID[id]; w != nil {
		if _, _, err := s.refresh(w, w.KeepSpare); err != nil {
			return api.Swap{}, err
		}
		return s.ViewSwap(s.SwapByID[id]), nil
	}
	return api.Swap{}, problem.New(404, "no-swap", "List them with: lantern swap list", "There is no swap %q.", id)
}
