package views

import (
	"cmp"
	"time"

	"lantern/internal/api"
)

// FullFirst orders pools by when they are likely to be full; those for which that is not foreseen come last.
func FullFirst(a, b api.PeriodCapacity) int {
	at := func(c api.PeriodCapacity) time.Time {
		if c.Likely.IsZero() {
			return time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)
		}
		return c.Likely
	}
	return cmp.Or(at(a).Compare(at(b)), cmp.Compare(a.Site, b.Site), cmp.Compare(a.Pool, b.Pool))
}
