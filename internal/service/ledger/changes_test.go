package ledger

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestChanges: a reader gets every key since its last call, in order, or learns that anything may have changed; the
// list stays bounded.
func TestChanges(t *testing.T) {
	const most = 10
	r := rand.New(rand.NewPCG(1, 1))
	var c Changes
	type reader struct {
		next   int
		missed []string // since its last call
		all    bool
	}
	readers, whole := make([]reader, 3), 0
	for step := range 5000 {
		switch k := r.IntN(10); {
		case k < 6:
			key := fmt.Sprint(step)
			c.Add(key)
			for i := range readers {
				readers[i].missed = append(readers[i].missed, key)
			}
		case k == 6 && r.IntN(20) == 0:
			c.AddAll()
			for i := range readers {
				readers[i].all = true
			}
		default:
			x := &readers[r.IntN(len(readers))]
			keys, next, all := c.Since(x.next, most)
			if all {
				whole++
				require.True(t, x.all || len(x.missed) > most/2, "step %d: it had only missed %v", step, x.missed)
			} else {
				require.False(t, x.all, "step %d", step)
				require.ElementsMatch(t, x.missed, keys, "step %d", step)
			}
			require.LessOrEqual(t, len(c.keys), most)
			*x = reader{next: next}
		}
	}
	require.Greater(t, whole, 10)
}
