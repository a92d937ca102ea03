package swaps

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"lantern/internal/core/swap"
	"lantern/internal/store"
)

type Swap struct {
	swap.State
	version int
	// Differs says why its step is not known: replaying its events does not give its recorded state. Then it can only
	// be ended, and gets no orders.
	Differs string
}

// stood is the part of a swap's state that a replay of its events must reproduce.
func stood(s swap.State) string {
	key := ""
	if s.New != nil {
		key = s.New.Key()
	}
	return fmt.Sprintf("%s %d %s", s.Phase, s.Order, key)
}

// replay applies one stored event of a swap.
func (w *Swap) replay(row store.SwapEvent, e swap.Event) {
	next, _, err := swap.Apply(w.State, e)
	at := e.At.UTC().Format("2006-01-02 15:04")
	switch {
	case w.Differs != "":
	case row.Seq != w.version+1:
		w.Differs = fmt.Sprintf("its records have no event %d: they were damaged", w.version+1)
	case err != nil:
		w.Differs = fmt.Sprintf("what happened at %s is refused by this version: %v", at, err)
	case row.After == store.AfterLost:
		w.Differs = "records of swaps were lost, and what happened after " + at + " may be among them"
	case row.After != "" && row.After != stood(next):
		was, _, _ := strings.Cut(row.After, " ")
		w.Differs = fmt.Sprintf(
			"it stood at the step %q at %s, and by the rules of this version it would be at %q",
			was,
			at,
			next.Phase,
		)
	}
	w.State, w.version = next, row.Seq
}

// LoadSwaps replays all swaps from their events in the store.
func (s *State) LoadSwaps() error {
	s.SwapByID = map[string]*Swap{}
	return s.loadSwaps("")
}

func (s *State) loadSwaps(where string, args ...any) error {
	events, err := store.All[store.SwapEvent](s.Store, "swap, seq", where, args...)
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
		w.replay(row, e)
	}
	// The result of the newest look belongs to the event after which it was made, and to no other.
	looks, err := store.All[store.SwapLook](s.Store, "swap", where, args...)
	if err != nil {
		return err
	}
	for _, row := range looks {
		w := s.SwapByID[row.Swap]
		if w == nil || w.version != row.Seq {
			continue
		}
		var l look
		if err := json.Unmarshal(row.Doc, &l); err != nil { // the next report makes a new one
			s.Log.Error("the newest look of a swap cannot be read", "swap", row.Swap, "error", err)
			continue
		}
		w.Gate, w.Closing = l.Gate, l.Closing
	}
	for id, w := range s.SwapByID {
		if w.ID == "" { // without its plan its purpose is unknown; its drive and pool are known without it
			delete(s.SwapByID, id)
			s.Log.Error("a swap is left out: the plan that it began with is not in the records", "swap", id)
			s.planless = append(s.planless, id)
		}
	}
	return nil
}

// Differing lists the swaps, open or ended, whose replay does not give their recorded state, and why.
func (s *Service) Differing() (out []string) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, w := range s.SwapByID {
		if w.Differs != "" {
			out = append(out, fmt.Sprintf("%s in %s: %s", w.Old.Tail(), w.Pool, w.Differs))
		}
	}
	for _, id := range s.planless {
		out = append(out, id+": its first plan is lost")
	}
	slices.Sort(out)
	return out
}
