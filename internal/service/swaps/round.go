package swaps

import (
	"cmp"
	"fmt"
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/core/recovery"
	"lantern/internal/core/swap"
)

// Abandoned are the swaps that were abandoned, or that used up a spare: the newest of each place, in the order of their
// ends.
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
		u := api.UnderWay{
			Kind: api.UnderWayKindSwap,
			Id:   w.ID,
			Pool: w.Pool,
			Says: fmt.Sprintf("%s: swap of %s, led by %s: %s", w.Pool, w.Old.Tail(), w.Lead, w.Now().Title),
		}
		if len(w.Wrong) > 0 {
			x := w.Wrong[0]
			u.Alarm = fmt.Sprintf("Put %s back into %s.", x.Tail(), cmp.Or(x.Bay, "its place"))
		}
		out.Underway = append(out.Underway, u)
	}
	for _, c := range s.recoveries.Underway() {
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
		out.Underway = append(
			out.Underway,
			api.UnderWay{
				Kind:   api.UnderWayKindRecovery,
				Id:     v.Id,
				Pool:   v.Pool,
				Says:   says,
				Share:  v.Share,
				Finish: v.Finish,
			},
		)
	}
}

// Alarms are the drives that must be put back at once: they left while a swap expected another one to leave (R5).
func (s *State) Alarms() (out []notice.Matter) {
	for _, w := range s.OpenSwaps() {
		for _, x := range w.Wrong {
			out = append(
				out,
				notice.Matter{
					Key:      "alarm/" + w.ID + "/" + x.Key(),
					Kind:     notice.Alarm,
					Severity: health.Dead,
					Host:     w.Host,
					Pool:     w.Pool,
					Bay:      x.Bay,
					Drives:   []string{x.Key()},
					Says:     leftWords(w, x),
					Do: fmt.Sprintf(
						"Put %s back into %s, now. Touch nothing else.",
						x.Tail(),
						cmp.Or(x.Bay, "the bay it came from"),
					),
				},
			)
		}
	}
	return out
}

func leftWords(w *Swap, x swap.Wrong) string {
	if x.Key() == w.Old.Key() {
		return fmt.Sprintf("%s left %s before its turn: %s", x.Tail(), cmp.Or(x.Bay, w.Host), x.Margin)
	}
	return fmt.Sprintf(
		"%s left %s, and it is not the drive to pull (%s): %s",
		x.Tail(),
		cmp.Or(x.Bay, w.Host),
		w.Old.Tail(),
		x.Margin,
	)
}
