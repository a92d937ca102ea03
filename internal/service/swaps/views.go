package swaps

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/service/recoveries"
	"lantern/internal/service/stock"
)

func viewSwapDrive(d swap.Drive) api.SwapDrive {
	return api.SwapDrive{
		Key:           d.Key(),
		Tail:          d.Tail(),
		Model:         d.Model,
		Serial:        d.Serial,
		CapacityBytes: int64(d.Capacity),
		Bay:           d.Bay,
	}
}

func (s *State) ViewSwap(w *Swap) api.Swap {
	out := api.Swap{
		Id:      w.ID,
		Version: w.version,
		Phase:   api.SwapPhase(w.Phase),
		Open:    w.Phase.Open(),
		Pool:    fleet.NameNow(s.fleet, w.PoolID, w.Pool),
		Slot:    w.Slot,
		Host:    w.Host,
		Old: viewSwapDrive(
			w.Old,
		),
		OldGone:     w.OldGone,
		NeedsBytes:  int64(w.Needs),
		AtMostBytes: int64(w.AtMost),
		Lead:        w.Lead,
		Refused:     w.Refused,
		RefusedTail: w.RefusedTail,
		Checks:      []api.Check{},
		Closing:     stock.ViewChecks(w.Closing),
		Steps:       []api.Step{},
		Log:         stock.ViewLog(w.Log),
		Recipe:      w.Recipe.Name,
		Why:         w.Recipe.Why,
		Into:        w.Recipe.Into,
		Held:        w.PausedBy,
		Hold:        w.BlockedBy,
		Stuck:       w.Stuck,
		Loses:       w.Loses,
		Backup:      w.Backup,
		Gate:        stock.ViewChecks(w.Gate),
		Began:       stock.ViewChecks(w.StartChecks),
		Admitted:    stock.ViewChecks(w.Admitted),
		PlannedAt:   w.PlannedAt,
		BegunAt:     w.StartedAt,
		EndedAt:     w.EndedAt,
		Places:      s.viewSeats(w),
		ByHand:      w.Recipe.Hand,
		Spare:       w.Recipe.Spare,
	}
	if w.Phase.Open() && w.Differs != "" {
		out.Held = "its step is not known: " + w.Differs
	}
	if w.Phase == swap.Planned {
		out.Checks = stock.ViewChecks(swap.Checks(s.situation(w.State)))
	}
	if w.New != nil {
		out.New = viewSwapDrive(*w.New)
		if w.Phase == swap.Confirm || w.Phase == swap.Planned {
			// The tail must be read from the label, not from this answer (R3).
			out.New.Tail, out.New.Serial = "", ""
		}
	}
	if _, looked := s.newcomer(w); looked != nil {
		out.Gate = stock.ViewChecks(looked)
	}
	out.Wrong = viewWrong(w)
	out.Steps = s.viewSteps(w)
	out.Recovery = s.viewRecovery(w)
	for _, l := range s.bays.LightByID {
		if l.Bay == w.Old.Bay && w.Old.Bay != "" {
			out.Light = l.Light
		}
	}
	if w.Fate != nil {
		out.Fate = api.OldFate{Fate: api.OldFateFate(w.Fate.Kind), At: w.Fate.At, By: w.Fate.By, Note: w.Fate.Note}
	}
	if w.Phase == swap.Closed {
		out.Siblings = s.kin(w.Old.Key())
	}
	for _, c := range s.CampaignByID {
		for _, it := range c.Items {
			if it.Swap == w.ID {
				out.Campaign = c.ID
			}
		}
	}
	return out
}

// viewRecovery is the recovery that the step waits for.
func (s *State) viewRecovery(w *Swap) api.Recovery {
	if c := s.recoveries.Courses[w.Recovery]; c != nil {
		return s.progress.ViewRecovery(c, w.Phase.Open())
	} else if c := s.recoveries.Newest(w.PoolID, ""); c != nil && recoveries.Running(c) && w.Phase.Open() &&
		w.Phase != swap.Planned && (w.BlockedBy != "" || slices.Contains(awaited[w.Phase], string(c.Kind))) {
		return s.progress.ViewRecovery(c, true) // a drain, a scrub: the step waits for it
	}
	return api.Recovery{}
}

// viewWrong describes drives that were pulled by mistake, and what to do.
func viewWrong(w *Swap) (out []api.WrongDrive) {
	for _, x := range w.Wrong {
		says := fmt.Sprintf("Put %s back into %s.", x.Tail(), cmp.Or(x.Bay, "its place"))
		says += " Without it, " + w.Pool + ": " + x.Margin.String() + "."
		old := x.Key() == w.Old.Key()
		if old && w.Phase != swap.Planned {
			says += " If it died, go on without it, with a reason: lantern swap next " + x.Tail() + " --reason " +
				"\"it died\"."
		} else if old {
			says += " If it died, begin with a reason."
		}
		out = append(out, api.WrongDrive{Tail: x.Tail(), Bay: x.Bay, At: x.At, Old: old, Says: says})
	}
	return out
}

func (s *State) viewSteps(w *Swap) []api.Step {
	out := []api.Step{}
	rank := w.Recipe.Rank(w.Phase)
	for i, st := range w.Steps() {
		state := api.StepStateNext
		switch {
		case w.Phase == swap.Closed || i < rank:
			state = api.StepStatePast
		case i == rank:
			state = api.StepStateNow
		}
		out = append(
			out,
			api.Step{
				Phase:  string(st.Phase),
				Kind:   api.StepKind(st.Kind),
				Title:  st.Title,
				What:   st.What,
				Why:    st.Why,
				Expect: st.Expect,
				Needs:  st.Needs,
				Takes:  s.takes(w, st),
				IfNot:  st.IfNot,
				Acts:   st.Acts && !(w.InProgress || w.Ordered),
				State:  state,
			},
		)
	}
	return out
}

// awaited are the kinds of recovery that a step waits for.
var awaited = map[swap.Phase][]string{
	swap.Recover: {"resilver", "rebuild", "rebalance"},
	swap.Refill:  {"rebalance"},
	swap.Drain:   {"drain"},
	swap.Scrub:   {"scrub"},
}

// takes is the usual duration of a step: from this pool's own past where there is one.
func (s *State) takes(w *Swap, st swap.Step) string {
	kinds := awaited[st.Phase]
	var least, most time.Duration
	n := 0
	for _, c := range s.recoveries.Of(w.PoolID) {
		if !slices.Contains(kinds, string(c.Kind)) || c.State != "finished" {
			continue
		}
		d := c.EndedAt.Sub(c.StartedAt).Round(time.Minute)
		if n++; n == 1 || d < least {
			least = d
		}
		most = max(most, d)
	}
	switch {
	case n == 0 || most < time.Minute:
		return st.Takes
	case n == 1:
		return fmt.Sprintf("%s took %s the last time", kindWords(kinds), short(most))
	}
	return fmt.Sprintf("%s to %s, as %d times before", short(least), short(most), n)
}

func kindWords(kinds []string) string {
	if len(kinds) == 1 {
		return "the " + kinds[0]
	}
	return "it"
}

// short writes a duration in hours and minutes.
func short(d time.Duration) string {
	if d < time.Hour {
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

// kin are the drives of the same batch, with their verdicts.
func (s *State) kin(key string) []api.Sibling {
	d := s.fleet.Drives[key]
	if d == nil {
		return nil
	}
	var out []api.Sibling
	of := s.judging.Judge()
	for _, k := range s.judging.BatchOf(d) {
		x := s.fleet.Drives[k]
		if k == key || x == nil {
			continue
		}
		v := api.Sibling{Key: k, Tail: x.Tail(), Bay: x.BayName(), Verdict: api.Verdict(of[k].Verdict)}
		if p, _, _ := s.fleet.Member(k); p != nil {
			v.Pool = p.Name
		}
		if fs := of[k].Findings; len(fs) > 0 {
			v.Says = fs[0].Says
		}
		out = append(out, v)
	}
	return out
}

// Swaps lists swaps, the newest first.
func (s *Service) Swaps(open bool) []api.Swap {
	defer s.lockToView(func(*Swap) bool { return true })()
	out := []api.Swap{}
	for _, w := range s.SwapByID {
		if !open || w.Phase.Open() {
			_, _, _ = s.refresh(w, w.KeepSpare) // if it cannot be stored, the old one is shown
			out = append(out, s.ViewSwap(w))
		}
	}
	slices.SortFunc(out, func(a, b api.Swap) int { return b.PlannedAt.Compare(a.PlannedAt) })
	return out
}

// lockToView takes the lock to show some swaps: for a change if there is a plan among them, which may be composed again
// (see refresh), and else to read.
func (s *Service) lockToView(some func(*Swap) bool) (unlock func()) {
	s.mu.RLock()
	for _, w := range s.SwapByID {
		if w.Phase == swap.Planned && some(w) {
			s.mu.RUnlock()
			s.mu.Lock()
			return s.mu.Unlock
		}
	}
	return s.mu.RUnlock
}

// Swap is one swap.
func (s *Service) Swap(id string) (api.Swap, error) {
	defer s.lockToView(func(w *Swap) bool { return w.ID == id })()
	if w := s.SwapByID[id]; w != nil {
		if _, _, err := s.refresh(w, w.KeepSpare); err != nil {
			return api.Swap{}, err
		}
		return s.ViewSwap(s.SwapByID[id]), nil
	}
	return api.Swap{}, problem.New(404, "no-swap", "List them with: lantern swap list", "No swap %q.", id)
}
