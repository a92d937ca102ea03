package daemon

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/lab"
	"lantern/internal/service/problem"
)

// A copy that is made while much is under way shows what the truth shows, comes to the same end, and holds all data.
func TestCopyInTheMiddle(t *testing.T) {
	y := newYard(t, nil)
	act := func(pool string, a api.PoolAction) {
		_, err := y.r.service.Views.ActOnPool("ida", pool, a)
		require.NoError(t, err)
	}
	act("specimens", api.PoolAction{Action: "drain", Drive: y.tail("specimens", "2")})
	act("soundscape", api.PoolAction{Action: "scrub"})
	y.pass(time.Minute)
	w, err := y.r.service.Swaps.PlanSwap("ida", y.tail("plankton", "1.2"))
	require.NoError(t, err)
	_, err = y.r.service.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "in the middle", NoBackup: true})
	require.NoError(t, err)
	free := y.insert(w.Into, lab.NewDrive{Like: w.Old.Tail})
	y.pass(10 * time.Second)
	_, err = y.r.service.Swaps.ConfirmSwap("ida", w.Id, "", api.ConfirmTail{Tail: free.Tail, Reason: "so"})
	require.NoError(t, err)
	y.pass(10 * time.Second)
	y.pull(y.bay("soundscape", "2.2"))
	y.pass(9 * time.Minute)
	for range 6 {
		y.pass(5 * time.Minute)
	}

	z := y.rehearse(t, "driftnet") // it is on all hosts, so all pools are copied
	running := 0
	for _, p := range y.r.service.Views.AllPools() {
		q := z.pool(p.Name)
		require.Equal(t, p.Margin, q.Margin, p.Name)
		require.Equal(t, len(p.Groups), len(q.Groups))
		for g := range p.Groups {
			for i, m := range p.Groups[g].Members {
				n := q.Groups[g].Members[i]
				require.Equal(
					t,
					[]any{m.Slot, m.Tail, m.State, m.Bay, m.NeedsBytes, m.StandsFor},
					[]any{n.Slot, n.Tail, n.State, n.Bay, n.NeedsBytes, n.StandsFor},
					"%s %s",
					p.Name,
					m.Slot,
				)
			}
		}
		require.Equal(t, p.Recovery.State, q.Recovery.State, p.Name)
		if p.Recovery.State == api.RecoveryStateRunning {
			running++
			require.Equal(t, p.Recovery.Kind, q.Recovery.Kind, p.Name)
			require.InDelta(t, p.Recovery.Share, q.Recovery.Share, 0.05, "%s of %s", p.Recovery.Kind, p.Name)
		}
	}
	require.GreaterOrEqual(t, running, 4, "a rebuild, a drain, a scrub or the spare's filling, and one beside")
	for _, both := range []*yard{y, z} {
		for _, p := range y.r.service.Views.AllPools() {
			both.rest(p.Name)
			require.NoError(t, both.fleet.ReadBack(p.Name))
		}
	}

	y.dark["petrel"] = true
	y.pass(10 * time.Minute)
	_, err = y.r.service.Rehearsal.Copy("specimens")
	var p *problem.Problem
	require.ErrorAs(t, err, &p)
	require.Equal(t, "host-silent", p.Type, "what nobody knows is not made up")
	_, err = y.r.service.Rehearsal.Copy("tidegauge")
	require.NoError(t, err, "of hosts that have nothing to do with it, it does not matter")
}

// Where nobody knows the bays, nobody knows them in the practice either; hands read labels there, as they must in
// truth.
func TestCopyWithoutBays(t *testing.T) {
	y := newYard(t, func(f *lab.Fleet) {
		f.Hosts[3].Mute = true
		for _, p := range f.Pools {
			if p.Name == "logbook" { // a kind of pool that forgets a drained member, and admits its replacement
				p.Groups[0].Spread = true
				for i := range p.Groups[0].Members {
					p.Groups[0].Members[i].Parity = false
					p.Groups[0].Members[i].Used /= 3
				}
				p.Groups[0].Protect = pool.Protection{Words: "by volume", None: true}
				p.Volumes[0].Used, p.Volumes[0].Group, p.Volumes[0].Protect = 4e12, p.Groups[0].Name, pool.Protection{
					Words: "no redundancy",
					Data:  1,
				}
				p.Can = []pools.Offer{pools.OfferAdmit, pools.OfferDrain, pools.OfferRebalance, pools.OfferScrub}
			}
		}
	})
	tail := y.tail("logbook", "data.2")
	for _, at := range []*yard{y.rehearse(t, "logbook"), y} {
		svc := at.r.service
		d, err := svc.Views.Drive(tail)
		require.NoError(t, err)
		require.Empty(t, d.Bay)
		w, err := svc.Swaps.PlanSwap("ida", tail)
		require.NoError(t, err)
		_, err = svc.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "as the screen says", NoBackup: true})
		require.NoError(t, err)
		var label, from string
		for range 400 {
			w, err = svc.Swaps.Swap(w.Id)
			require.NoError(t, err)
			switch {
			case !w.Open:
			case w.Phase == api.SwapPhasePull && w.Hold == "":
				m, err := at.fleet.Pull(tail)
				require.NoError(t, err)
				from = m.Bay
			case w.Phase == api.SwapPhaseInsert:
				label = at.insert(from, lab.NewDrive{Like: tail}).Tail
			case w.Phase == api.SwapPhaseConfirm:
				_, err := svc.Swaps.ConfirmSwap("ida", w.Id, "", api.ConfirmTail{Tail: label, Reason: "so"})
				require.NoError(t, err)
			default:
				for _, st := range w.Steps {
					if st.State == api.StepStateNow && st.Acts && w.Hold == "" {
						_, err := svc.Swaps.ActOnSwap("next", "ida", w.Id, "", "as the screen says")
						require.NoError(t, err)
					}
				}
				at.pass(10 * time.Second)
				at.pass(20 * time.Minute)
			}
			at.pass(10 * time.Second)
		}
		require.Equal(t, api.SwapPhaseClosed, w.Phase, said(w))
		steps, _ := at.steps(w)
		require.Equal(t, "drain pull insert confirm join recover refill verify", steps)
		require.NoError(t, at.fleet.ReadBack("logbook"))
	}
}

// A drive of another bus becomes one that a lab can answer for, with the label that people know.
func TestAnswerable(t *testing.T) {
	for name, c := range map[string]struct {
		d    drive.Description
		same bool
	}{
		"SATA": {drive.Description{Identity: drive.Identity{WWN: "5002abe700000001",
			Model: "VELDRUN VR4-4000", Serial: "VR7ZU006"}}, true},
		"SAS": {drive.Description{Identity: drive.Identity{WWN: "5002abe700000002",
			Vendor: "VELDRUN", Model: "VS4", Serial: "VS7ZU007"}}, true},
		"without a WWN": {drive.Description{Identity: drive.Identity{Vendor: "VELDRUN", Model: "VS4",
			Serial: "VS7ZU008"}}, false},
		"NVMe, a long serial": {drive.Description{Identity: drive.Identity{WWN: "eui.0011223344556677",
			Model: "TARNWICK TN1", Serial: "TN0000000000000000007ZU009"}}, false},
	} {
		d := c.d
		d.Capacity, d.LogicalSector, d.PhysicalSector, d.Medium = 4000787030016, 512, 4096, drive.MediumRotating
		was, tail := d.Key(), d.Tail()
		lab.Answerable(&d, 7)
		require.Equal(t, tail, d.Tail(), name)
		require.Equal(t, c.same, d.Key() == was, name)
		back, err := drive.DecodeIdentify(drive.EncodeIdentify(d))
		require.NoError(t, err)
		require.Equal(t, d.Key(), back.Key(), name)
	}
}

// TestWatchedByHand: in a watched pool, members are replaced by hand, in reality as in a rehearsal: no order is given,
// and the swap closes when the pool shows the result.
func TestWatchedByHand(t *testing.T) {
	y := newYard(t, func(f *lab.Fleet) {
		for _, p := range f.Pools {
			p.Watched = p.Name == "soundscape"
		}
	})
	tail := y.tail("soundscape", "1.7")
	for _, at := range []*yard{y.rehearse(t, "soundscape"), y} {
		svc := at.r.service
		require.True(t, at.pool("soundscape").Watched)
		_, err := at.fleet.JoinByHand("logbook", "data.1", tail)
		require.Error(t, err, "that one takes orders, or is not there")
		w, err := svc.Swaps.PlanSwap("ida", tail)
		require.NoError(t, err)
		require.True(t, w.ByHand)
		_, err = svc.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "as the screen says", NoBackup: true})
		require.NoError(t, err)
		var label, from string
		for range 400 {
			w, err = svc.Swaps.Swap(w.Id)
			require.NoError(t, err)
			switch {
			case !w.Open:
			case w.Phase == api.SwapPhasePull && w.Hold == "":
				m, err := at.fleet.Pull(tail)
				require.NoError(t, err)
				from = m.Bay
			case w.Phase == api.SwapPhaseInsert:
				label = at.insert(from, lab.NewDrive{Like: tail}).Tail
			case w.Phase == api.SwapPhaseConfirm:
				_, err := svc.Swaps.ConfirmSwap("ida", w.Id, "", api.ConfirmTail{Tail: label, Reason: "so"})
				require.NoError(t, err)
			case w.Phase == api.SwapPhaseJoin:
				require.Contains(t, said(w), "confirmed")
				_, err := at.fleet.JoinByHand("soundscape", "1.7", label)
				require.NoError(t, err)
			default:
				at.pass(20 * time.Minute)
			}
			at.pass(10 * time.Second)
		}
		require.Equal(t, api.SwapPhaseClosed, w.Phase, said(w))
		require.NotContains(t, said(w), "the agent made it")
		require.NoError(t, at.fleet.ReadBack("soundscape"))
	}
}
