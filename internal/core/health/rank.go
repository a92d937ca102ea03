package health

import (
	"cmp"
	"slices"
	"time"

	"lantern/internal/core/pool"
)

// Matter is one drive that needs a person, with what is at stake.
type Matter struct {
	Key     string
	Verdict Verdict
	Growth  float64
	Since   time.Time
	// MarginKnown is false for a drive in no pool: then no pool is at risk.
	MarginKnown bool
	// Stake is the margin at risk: for a drive that is to be replaced or gone, the margin of its pool without it; for a
	// drive to be watched, the present margin, since it is not expected to fail.
	Stake pool.Margin
	// PathOnly is true when all findings point to the link: the data on the drive is not at risk.
	PathOnly bool
}

// Rank sorts matters by urgency: the least margin first, then the worse verdict, then the faster growth, then the
// longer wait.
func Rank(m []Matter) {
	slices.SortStableFunc(m, func(a, b Matter) int {
		return cmp.Or(
			cmp.Compare(a.stake(), b.stake()),
			-cmp.Compare(a.Verdict.Gravity(), b.Verdict.Gravity()),
			-cmp.Compare(a.Growth, b.Growth),
			a.Since.Compare(b.Since),
			cmp.Compare(a.Key, b.Key),
		)
	})
}

func (m Matter) stake() int {
	const nothing = 1 << 20
	if !m.MarginKnown || m.PathOnly {
		return nothing
	}
	return int(m.Stake)
}
