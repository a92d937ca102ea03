package swaps

import (
	"encoding/json"
	"fmt"
	"lantern/internal/core/swap"
	"lantern/internal/store"
)

type Swap struct {
	swap.State
	version int
}

func (s *State) LoadSwaps() error {
	s.SwapByID = map[string]*Swap{}
	events, err := store.All[store.SwapEvent](s.Store, "swap, seq", "")
	if err != nil {
		return err
	}
	for _, row := range events {
		var e swap.Event
		if err := json.Unmarshal(row.Doc, &e); err != nil {
			return fmt.Errorf("event %d of swap %s: %w", row.Seq, row.Swap, err)
		}
		w := s.SwapByID[row.Swap]
		if w == nil {
			w = &Swap{}
			s.SwapByID[row.Swap] = w
		}
		w.State, _, _ = swap.Apply(w.State, e)
		w.version = row.Seq
	}
	return nil
}
