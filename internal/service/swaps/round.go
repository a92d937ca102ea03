package swaps

import (
	"cmp"
	"fmt"
	"lantern/internal/api"
	"lantern/internal/core/recovery"
	"lantern/internal/core/swap"
	"lantern/internal/service/recoveries"
	"slices"
)

// Abandoned are the swaps that were given up, or that used up a spare: the newest of each place, in the order in which they ended.
func (s *State) Abandoned() (out []*Swap) {
	newest := map[string]*Swap{}
	for _, w := range s.SwapByID {
		key := w.PoolID + " " + w.Slot
		if b := newest[key]; b == nil || w.PlannedAt.After(b.PlannedAt) {
			newest[key] = w
		}
	}
	for _, w := range newest {
		if w.Phase == swap.Abandoned || w.Phase == swap.Closed && w.Recipe.Spare != "" {
			out = append(out, w)
		}
	}
	slices.SortFunc(out, func(a, b *Swap) int { return a.EndedAt.Compare(b.EndedAt) })
	return out
}

func (s *State) UnderWay(out *api.Round) {
	for _, w := range s.OpenSwaps() {
		u := api.UnderWay{Kind: api.UnderWayKindSwap, Id: w.ID, Pool: w.Pool, Says: fmt.Sprintf("%s: swap of %s, led by %s: %s", w.Pool, w.Old.Tail(), w.Lead, w.Now().Title)}
		if len(w.Wrong) > 0 {
			x := w.Wrong[0]
			u.Alarm = fmt.Sprintf("Put %s back into %s.", x.Tail(), cmp.Or(x.Bay, "its place"))
		}
		out.Underway = append(out.Underway, u)
	}
	var runs []*recoveries.Course
	for _, c := range s.recoveries.Courses {
		if recoveries.Running(c) {
			runs = append(runs, c)
		}
	}
	slices.SortFunc(runs, func(a, b *recoveries.Course) int { return a.Report.StartedAt.Compare(b.Report.StartedAt) })
	for _, c := range runs {
		v := s.progress.ViewRecovery(c, false)
		says := fmt.Sprintf("%s: %s", v.Pool, v.Kind)
		if v.Tail != "" {
			says += " of " + v.Tail
		}
		if c.Report.State == recovery.Paused {
			says += ", paused"
		}
		if v.Stalled {
			says += ", stalled: " + v.Why
		}
		out.Underway = append(out.Underway, api.UnderWay{Kind: api.UnderWayKindRecovery, Id: v.Id, Pool: v.Pool, Says: says, Share: v.Share, Finish: v.Finish})
	}
}
