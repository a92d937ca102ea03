package e2e

import (
	"context"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// kills is how often a kill test kills: LANTERN_KILLS, or a few.
func kills(t *testing.T, few int) int {
	if n, err := strconv.Atoi(os.Getenv("LANTERN_KILLS")); err == nil && n > 0 {
		return n
	}
	t.Logf("%d kills; make kill does 500", few)
	return few
}

// TestKill kills the service and all agents (SIGKILL) at random moments while swaps are under way, and starts them
// again. Every swap ends correctly, no drive is made a member twice, no confirmation is lost, and all data are read
// back.
func TestKill(t *testing.T) {
	d := startDemo(t)
	n := kills(t, 12)
	r := rand.New(rand.NewPCG(uint64(n), 5))
	d.run("lab", "speed", "3000")
	client := func() *api.ClientWithResponses {
		token := ""
		b, err := os.ReadFile(d.data + "/client.yaml")
		require.NoError(t, err)
		for _, line := range strings.Split(string(b), "\n") {
			if t, ok := strings.CutPrefix(line, "token: "); ok {
				token = t
			}
		}
		c, err := api.NewClientWithResponses(
			d.url+"/api/v1",
			api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
				r.Header.Set("Authorization", "Bearer "+token)
				return nil
			}),
			api.WithHTTPClient(&http.Client{Timeout: 10 * time.Second}),
		)
		require.NoError(t, err)
		return c
	}
	c := client()
	killed, closed := 0, 0
	next := time.Now()
	pause := func() { // up to two seconds: between any steps and during any
		next = time.Now().Add(time.Duration(r.Int64N(int64(1500 * time.Millisecond))))
	}
	// Processes are killed at random times, independent of the requests.
	again := make(chan struct{})
	strike := func() {
		if time.Now().Before(next) || killed == n {
			return
		}
		delay := time.Duration(r.Int64N(int64(120 * time.Millisecond)))
		done := make(chan struct{})
		go func() {
			defer close(done)
			time.Sleep(delay)
			d.process.kill()
		}()
		go func() { <-done; again <- struct{}{} }()
		killed++
		next = next.Add(time.Hour) // not before it was revived
	}
	revive := func() {
		select {
		case <-again:
			d.begin(t)
			c = client()
			pause()
		default:
		}
	}
	ctx := t.Context()
	members := []string{
		"soundscape 1.2",
		"plankton 2.1",
		"soundscape 2.5",
		"logbook data.3",
		"plankton 3.2",
		"specimens 3",
		"soundscape 1.4",
	}
	pause()
	confirmed := map[string]string{} // swap: the label tail that was confirmed
	for killed < n {
		pool, slot, _ := strings.Cut(members[closed%len(members)], " ")
		id, label, finished := "", "", false
		for begun := time.Now(); !finished; {
			require.Less(
				t,
				time.Since(begun),
				3*time.Minute,
				"a swap in %s comes to no end: %s",
				pool,
				d.try("swap", "show", id).out,
			)
			strike()
			revive()
			if id == "" {
				res, err := c.GetPoolWithResponse(ctx, pool)
				if err != nil || res.JSON200 == nil {
					continue
				}
				key := ""
				for _, g := range res.JSON200.Groups {
					for _, m := range g.Members {
						if m.Slot == slot {
							key = m.Drive
						}
					}
				}
				if made, err := c.PlanSwapWithResponse(
					ctx,
					nil,
					api.PlanSwap{Drive: key, KeepSpare: true},
				); err == nil &&
					made.JSON201 != nil {
					id = made.JSON201.Id
				}
				continue
			}
			res, err := c.GetSwapWithResponse(ctx, id)
			if err != nil || res.JSON200 == nil {
				time.Sleep(20 * time.Millisecond)
				continue
			}
			w := *res.JSON200
			into := w.Into
			if into == "" {
				into = w.Old.Bay
			}
			if tail, ok := confirmed[id]; ok {
				refused := false
				for _, e := range w.Log {
					refused = refused || strings.Contains(e.Says, "was not carried out")
				}
				require.True(
					t,
					refused || w.New.Tail == tail && w.Phase != api.SwapPhaseConfirm,
					"a confirmation was lost: %+v",
					w,
				)
			}
			switch {
			case !w.Open:
				require.Equal(t, api.SwapPhaseClosed, w.Phase, "%+v", w.Log)
				finished = true
			case len(w.Wrong) > 0:
				_, _ = c.LabInsertWithResponse(ctx, api.LabInsert{Bay: w.Wrong[0].Bay, Drive: w.Wrong[0].Tail})
			case w.Phase == api.SwapPhasePlanned:
				_, _ = c.BeginSwapWithResponse(ctx, id, nil, api.BeginSwap{Reason: "a test", NoBackup: true})
			case w.Phase == api.SwapPhasePull && w.Hold == "":
				if eyes, err := c.LabReadWithResponse(
					ctx,
					api.LabRead{Bay: w.Old.Bay},
				); err == nil && eyes.JSON200 != nil &&
					eyes.JSON200.Tail == w.Old.Tail {
					_, _ = c.LabPullWithResponse(ctx, api.LabPull{Bay: w.Old.Bay})
				}
			case w.Phase == api.SwapPhaseInsert:
				if eyes, err := c.LabReadWithResponse(
					ctx,
					api.LabRead{Bay: into},
				); err == nil && eyes.JSON200 != nil &&
					eyes.JSON200.Tail == "" {
					_, _ = c.LabInsertWithResponse(ctx, api.LabInsert{Bay: into, Like: w.Old.Tail})
				}
			case w.Phase == api.SwapPhaseConfirm:
				eyes, err := c.LabReadWithResponse(ctx, api.LabRead{Bay: w.New.Bay})
				if err != nil || eyes.JSON200 == nil {
					continue
				}
				label = eyes.JSON200.Tail
				if res, err := c.ConfirmSwapWithResponse(
					ctx,
					id,
					nil,
					api.ConfirmTail{Tail: label, Reason: "a test"},
				); err == nil &&
					res.JSON200 != nil {
					confirmed[id] = label
				}
			default:
				for _, st := range w.Steps {
					if st.State == api.StepStateNow && st.Acts && w.Hold == "" {
						_, _ = c.NextInSwapWithResponse(ctx, id, nil, api.Reason{Reason: "a test"})
					}
				}
			}
			time.Sleep(30 * time.Millisecond)
		}
		closed++
		var report *api.ReportSwapResponse
		await(t, "the record is told", func() bool {
			revive()
			var err error
			report, err = c.ReportSwapWithResponse(ctx, id)
			return err == nil && report.JSON200 != nil
		}, func(ok bool) bool { return ok })
		joins, fillings := 0, 0
		for _, e := range report.JSON200.Swap.Log {
			if strings.Contains(e.Says, "made it a member") || strings.Contains(e.Says, "has taken") {
				joins++
			}
		}
		require.Equal(t, 1, joins, "it was made a member once: %+v", report.JSON200.Swap.Log)
		await(t, "its recoveries are told", func() bool {
			revive()
			res, err := c.ListRecoveriesWithResponse(ctx, &api.ListRecoveriesParams{Pool: pool})
			if err != nil || res.JSON200 == nil {
				return false
			}
			fillings = 0
			for _, r := range *res.JSON200 {
				if r.Slot == slot && !r.StartedAt.Before(report.JSON200.Swap.BegunAt) &&
					r.Kind != api.RecoveryKindDrain {
					fillings++
				}
			}
			return true
		}, func(ok bool) bool { return ok })
		require.Equal(t, 1, fillings, "it was filled once, in %s slot %s", pool, slot)
		var eyes *api.LabReadResponse
		await(t, "the data are read", func() bool {
			revive()
			var err error
			eyes, err = c.LabReadWithResponse(ctx, api.LabRead{Pool: pool})
			return err == nil && eyes.JSON200 != nil
		}, func(ok bool) bool { return ok })
		require.Empty(t, eyes.JSON200.Lost, "all data are read back")
	}
	t.Logf("%d kills, %d swaps, each ended as it should", killed, closed)
}
