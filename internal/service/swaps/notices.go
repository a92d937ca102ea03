package swaps

import (
	"cmp"
	"fmt"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/core/swap"
)

// Alarms are the drives that must be put back at once: they left while a swap expected another (R5).
func (s *State) Alarms() (out []notice.Matter) {
	for _, w := range s.OpenSwaps() {
		for _, x := range w.Wrong {
			out = append(out, notice.Matter{Key: "alarm/" + w.ID + "/" + x.Key(), Kind: notice.Alarm, Severity: health.Dead, Host: w.Host, Pool: w.Pool, Bay: x.Bay, Drives: []string{x.Key()},
				Says: leftWords(w, x),
				Do:   fmt.Sprintf("Put %s back into %s, now. Touch nothing else.", x.Tail(), cmp.Or(x.Bay, "the bay it came from"))})
		}
	}
	return out
}

func leftWords(w *Swap, x swap.Wrong) string {
	if x.Key() == w.Old.Key() {
		return fmt.Sprintf("%s left %s before its turn: %s", x.Tail(), cmp.Or(x.Bay, w.Host), x.Margin)
	}
	return fmt.Sprintf("%s left %s, and it is not the drive to pull (%s): %s", x.Tail(), cmp.Or(x.Bay, w.Host), w.Old.Tail(), x.Margin)
}
