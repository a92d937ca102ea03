package service

import (
	"testing"

	"lantern/internal/api"

	"github.com/stretchr/testify/require"
)

// TestAPlanIsNeverFrozen: what changed after a swap was planned changes its plan, at the next look and before it
// begins; who begins what was shown before is asked again, and what cannot be done any more is not ordered.
func TestAPlanIsNeverFrozen(t *testing.T) {
	b := newBench(t)
	b.report()
	w, err := b.s.Swaps.PlanSwap("ida", "BB002")
	require.NoError(t, err)
	require.NotContains(t, w.Recipe, "host down")
	// Drives of this host are changed only while it is down now.
	b.s.mu.Lock()
	b.s.Fleet.Hosts["fulmar"].Cold = true
	b.s.mu.Unlock()
	_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "so", NoBackup: true})
	b.problem(err, "plan-changed", "procedure: with the host down")
	now, err := b.s.Swaps.Swap(w.Id)
	require.NoError(t, err)
	require.Equal(t, "with the host down", now.Recipe)
	require.Equal(t, api.SwapPhasePlanned, now.Phase)
	require.Contains(t, now.Log[len(now.Log)-1].Says, "the plan changed: procedure: with the host down, before:")
	began, err := b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "so", NoBackup: true})
	require.NoError(t, err)
	require.NotEqual(t, api.SwapPhasePull, began.Phase, "nobody is sent to a running host")
	// Once it has begun, its steps stay.
	b.s.mu.Lock()
	b.s.Fleet.Hosts["fulmar"].Cold = false
	b.s.mu.Unlock()
	still, err := b.s.Swaps.Swap(w.Id)
	require.NoError(t, err)
	require.Equal(t, "with the host down", still.Recipe)
}

// TestTheOldDriveHasItsTurn: the old drive that leaves before its turn is an alarm with its bay, also before the swap
// has begun.
func TestTheOldDriveHasItsTurn(t *testing.T) {
	b := newBench(t)
	b.report()
	w, err := b.s.Swaps.PlanSwap("ida", "BB002")
	require.NoError(t, err)
	all := b.drives
	b.drives = append(append([]api.DriveReport(nil), all[:1]...), all[2:]...)
	b.report()
	got, err := b.s.Swaps.Swap(w.Id)
	require.NoError(t, err)
	require.Len(t, got.Wrong, 1)
	require.Equal(t, "fulmar/front/2", got.Wrong[0].Bay)
	require.Contains(t, b.s.Views.Round().Underway[0].Alarm, "Put BB002 back into fulmar/front/2")
	b.drives = all
	b.report()
	got, err = b.s.Swaps.Swap(w.Id)
	require.NoError(t, err)
	require.Empty(t, got.Wrong)
}

// TestOrderedAbsences: what a swap asked to be taken out is neither dead nor to be replaced; when the swap is given up
// it is owed, in the round, until the place is filled again.
func TestOrderedAbsences(t *testing.T) {
	b := newBench(t)
	b.report()
	w, err := b.s.Swaps.PlanSwap("ida", "BB002")
	require.NoError(t, err)
	_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "so", NoBackup: true})
	require.NoError(t, err)
	b.report()
	got, err := b.s.Swaps.Swap(w.Id)
	require.NoError(t, err)
	require.Equal(t, api.SwapPhasePull, got.Phase, "%+v", got.Log)
	all := b.drives
	b.drives = append(append([]api.DriveReport(nil), all[:1]...), all[2:]...)
	b.pool.Groups[0].Members[1].State = "missing"
	b.report()
	look := func() api.Drive {
		d, err := b.s.Views.Drive("BB002")
		require.NoError(t, err)
		return d
	}
	require.Equal(t, api.Unknown, look().Verdict, "%+v", look().Findings)
	for _, l := range b.s.Views.Round().Lines {
		require.NotEqual(t, "BB002", l.Tail)
	}
	require.Empty(t, b.s.Views.Round().Pools)
	_, err = b.s.Swaps.ActOnSwap("abandon", "ida", w.Id, "", "the new drive does not come")
	require.NoError(t, err)
	b.report()
	require.Equal(t, api.Dead, look().Verdict, "nobody waits for anything any more")
	owed := b.s.Views.Round().Pools
	require.Len(t, owed, 1)
	require.Contains(t, owed[0].Says, "has no working member since the swap of BB002 was abandoned")
	require.Equal(t, "Plan its swap again: lantern swap plan BB002", owed[0].Do)
	b.restart()
	b.report()
	require.Len(t, b.s.Views.Round().Pools, 1)
	b.drives, b.pool.Groups[0].Members[1].State = all, "online"
	b.report()
	require.Empty(t, b.s.Views.Round().Pools)
}
