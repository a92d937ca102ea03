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
	// MarginKnown is false for a drive in no pool: then nothing of the pool's is at stake.
	MarginKnown bool
	// Stake is the margin that is at stake: of a drive that is to be replaced or gone, what its pool has left without
	// it; of one to be watched, what it has now, since nobody expects to lose it.
	Stake pool.Margin
	// PathOnly is true when only the link is accused: the drive's data is not at stake.
	PathOnly bool
}

// Rank puts matters in the order in which a person should see to them: first where least is left, then the graver
// verdict, then the faster growth, then the longer wait.
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
