package lab

import (
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent/pools"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

var t0 = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func station(t *testing.T, speed float64) (*Fleet, string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "lab.json")
	f, err := Open(file, t0, speed, HeronPoint(0))
	require.NoError(t, err)
	return f, file
}

func (f *Fleet) named(name string) *Pool {
	return f.Pools[slices.IndexFunc(f.Pools, func(p *Pool) bool { return p.Name == name })]
}

// TestStation is the scenario: four hosts, six pools of different kinds, one bay a drive, nothing named twice.
func TestStation(t *testing.T) {
	f, _ := station(t, 0)
	require.Len(t, f.Hosts, 4)
	require.Len(t, f.Pools, 6)
	tails, keys, bays := map[string]bool{}, map[string]bool{}, map[Stay]bool{}
	for _, d := range f.Drives {
		require.False(t, tails[d.Desc.Tail()], "label tail %s twice", d.Desc.Tail())
		require.False(t, keys[d.key()])
		tails[d.Desc.Tail()], keys[d.key()] = true, true
		s := d.Stays[0]
		at := Stay{Host: s.Host, Section: s.Section, Bay: s.Bay}
		require.False(t, bays[at], "%v twice", at)
		bays[at] = true
	}
	members := 0
	for _, p := range f.Pools {
		p.Everyone(func(_ string, m *pool.Member) {
			members++
			require.True(t, keys[m.Drive], "%s %s", p.Name, m.Slot)
		})
		_, known := p.Margin()
		require.True(t, known)
	}
	require.Equal(t, 19+5+8+7+24+5, members)
	margin, _ := f.named("tidegauge").Margin()
	require.Equal(t, pool.Margin(0), margin, "it resilvers")
	margin, _ = f.named("driftnet").Margin()
	require.Equal(t, pool.Margin(2), margin, "what vanished was copied again")
	again, _ := station(t, 0)
	require.Equal(t, f.Drives[17].Desc, again.Drives[17].Desc, "it is the same every time")

	large, err := Open(filepath.Join(t.TempDir(), "lab.json"), t0, 0, HeronPoint(1000))
	require.NoError(t, err)
	require.Len(t, large.Drives, len(f.Drives)+1000)
}

// TestSwapInTheLab: a member is pulled, another drive joins, the resilver slows towards the inner tracks, ends, and
// leaves the margin whole; everything survives a restart in the middle.
func TestSwapInTheLab(t *testing.T) {
	f, file := station(t, 0)
	k := Keeper{f, "skerry"}
	p := f.named("soundscape")
	out, err := f.Pull("skerry/front/7")
	require.NoError(t, err)
	require.Equal(t, "ZU006", out.Tail)
	margin, _ := p.Margin()
	require.Equal(t, pool.Margin(1), margin)
	_, err = f.Pull("skerry/front/7")
	require.ErrorContains(t, err, "is empty")
	in, err := f.Insert("skerry/front/7", NewDrive{})
	require.NoError(t, err)
	_, err = f.Insert("skerry/front/7", NewDrive{})
	require.ErrorContains(t, err, "is taken by "+in.Tail)
	_, err = f.Insert("skerry/inner/9", NewDrive{})
	require.ErrorContains(t, err, "no bay")
	fresh := f.Drives[len(f.Drives)-1]
	target := pools.Target{Key: fresh.key(), Size: fresh.Desc.Capacity}
	_, err = Keeper{f, "guillemot"}.Join(t.Context(), f.named("logbook").ID, "data.1", target)
	require.ErrorContains(t, err, "still online", "a member that is there is not thrown out")
	_, err = Keeper{f, "petrel"}.Join(t.Context(), p.ID, "1.7", target)
	require.ErrorIs(t, err, pools.ErrNoSuchPool)
	_, err = k.Join(t.Context(), p.ID, "1.7", target)
	require.NoError(t, err)
	require.Equal(t, []string{"member of soundscape"}, fresh.Holds)

	rate := func(from, to time.Time) float64 {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.advance(from)
		before := p.Recs[len(p.Recs)-1].Done
		f.advance(to)
		return float64(p.Recs[len(p.Recs)-1].Done-before) / to.Sub(from).Seconds()
	}
	f.advance(t0.Add(15 * time.Minute)) // it searches for the missing ones first
	outer := rate(t0.Add(15*time.Minute), t0.Add(25*time.Minute))
	require.NoError(t, f.Save())
	f, err = Open(file, t0, 0, func(time.Time) *Fleet { t.Fatal("it was kept"); return nil })
	require.NoError(t, err)
	p = f.named("soundscape")
	f.last = t0.Add(25 * time.Minute)
	f.mu.Lock()
	for h := 1; h <= 5*6; h++ {
		f.advance(t0.Add(time.Duration(25+8*h) * time.Minute))
	}
	f.mu.Unlock()
	inner := rate(t0.Add(265*time.Minute), t0.Add(275*time.Minute))
	require.Less(t, inner, 0.75*outer, "inner tracks are slower")
	f.mu.Lock()
	for h := range 20 {
		f.advance(t0.Add(time.Duration(6+h) * time.Hour))
	}
	f.mu.Unlock()
	r := p.Recs[len(p.Recs)-1]
	require.Equal(t, recovery.Finished, r.State)
	require.Equal(t, r.Todo, r.Done)
	margin, _ = p.Margin()
	require.Equal(t, pool.Margin(2), margin)
	_, err = Keeper{f, "skerry"}.Stop(t.Context(), p.ID)
	require.ErrorContains(t, err, "nothing runs")
	_, err = Keeper{f, "skerry"}.Begin(t.Context(), p.ID, pools.Task{Kind: recovery.Scrub})
	require.NoError(t, err)
	_, err = Keeper{f, "skerry"}.Begin(t.Context(), p.ID, pools.Task{Kind: recovery.Scrub})
	require.ErrorContains(t, err, "a scrub is running")
}

// TestHotSpare: the spare replaces a missing member, the margin is restored, and after a new drive is inserted the
// spare works until that one has all data, and then stands by again. All data can be read at any time.
func TestHotSpare(t *testing.T) {
	f, _ := station(t, 0)
	p := f.named("soundscape")
	k := Keeper{f, "skerry"}
	at := t0
	forward := func(d time.Duration, n int) {
		f.mu.Lock()
		defer f.mu.Unlock()
		for range n {
			at = at.Add(d)
			f.advance(at)
		}
	}
	margin := func() pool.Margin { m, _ := p.Margin(); return m }
	whole := func() {
		v := p.laid().ReadBack(p.bench(at).There)
		require.Zero(t, v.Wrong)
		require.Empty(t, v.Lost)
	}
	forward(time.Second, 1)
	out, err := f.Pull("skerry/front/7")
	require.NoError(t, err)
	forward(time.Minute, 5)
	require.Equal(t, pool.Margin(1), margin())
	require.Len(t, p.Spares, 1, "it may come back")
	forward(time.Minute, 10)
	require.Empty(t, p.Spares)
	m, group, ok := p.Pool.Slot("spare.1")
	require.True(t, ok)
	require.Equal(t, "group 1", group)
	require.Equal(t, pool.Recovering, m.State)
	require.Equal(t, pool.Margin(1), margin())
	whole()
	forward(10*time.Minute, 60)
	require.Equal(t, pool.Margin(2), margin(), "the spare carries its share")
	m, _, _ = p.Pool.Slot("1.7")
	require.Equal(t, pool.Out, m.State)
	require.Equal(t, out.Tail, f.byKey[m.Drive].Desc.Tail(), "whose place it was is not forgotten")

	in, err := f.Insert("skerry/front/7", NewDrive{})
	require.NoError(t, err)
	var fresh *Drive
	for _, d := range f.Drives {
		if d.Desc.Tail() == in.Tail {
			fresh = d
		}
	}
	_, err = k.Join(t.Context(), p.ID, "1.7", pools.Target{Key: fresh.key(), Size: fresh.Desc.Capacity})
	require.NoError(t, err)
	forward(time.Minute, 30)
	m, _, _ = p.Pool.Slot("1.7")
	require.Equal(t, pool.Recovering, m.State)
	require.Equal(t, pool.Margin(2), margin(), "nothing is lost while the spare carries on")
	whole()
	forward(10*time.Minute, 60)
	m, _, _ = p.Pool.Slot("1.7")
	require.Equal(t, pool.Online, m.State)
	require.Len(t, p.Spares, 1)
	require.Equal(t, pool.Standby, p.Spares[0].State)
	require.Len(t, p.Groups[0].Members, 9)
	require.Equal(t, pool.Margin(2), margin())
	whole()
}

// TestBytes: a lab drive answers with pages, at any moment the same; one that is gone answers nothing.
func TestBytes(t *testing.T) {
	f, _ := station(t, 0)
	var host *Host
	for _, h := range f.Hosts {
		if h.Name == "guillemot" {
			host = h
		}
	}
	gone := f.byKey[f.named("driftnet").Groups[0].Members[17].Drive]
	v := device{f, gone, host}
	page := make([]byte, drive.PageSize)
	_, err := v.Execute(t.Context(), drive.EncodePassThrough(drive.IdentifyDevice, true), page)
	require.ErrorIs(t, err, errGone)
	host.Past(t0.Add(-24 * time.Hour))
	_, err = v.Execute(t.Context(), drive.EncodePassThrough(drive.IdentifyDevice, true), page)
	require.NoError(t, err, "yesterday it was there")
	d, err := drive.DecodeIdentify(page)
	require.NoError(t, err)
	require.Equal(t, gone.Desc, d)
	_, err = v.Execute(t.Context(), drive.EncodePassThrough(drive.SmartReadData, true), page)
	require.NoError(t, err)
	s, err := drive.DecodeSmartData(page)
	require.NoError(t, err)
	require.Equal(t, 0.0, drive.Metrics(s.Attributes)["pending_sectors"])
	_, err = v.Execute(t.Context(), drive.EncodePassThrough(drive.Registers{Command: 0x35}, false), nil)
	require.ErrorContains(t, err, "aborted", "it is never written to")
}
