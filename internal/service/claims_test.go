package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// other is what a second host, petrel, reports: some of the drives that fulmar has, and pools.
func (b *bench) other(pools []api.PoolReport, drives ...int) api.Report {
	r := b.next()
	r.Id, r.Host, r.Pools, r.Drives = r.Id+"-petrel", "petrel", pools, nil
	for _, i := range drives {
		d := b.drives[i]
		d.Path = "/dev/petrel"
		r.Drives = append(r.Drives, d)
	}
	return r
}

func (b *bench) take(r api.Report) {
	b.t.Helper()
	b.clock.forward(time.Second)
	require.NoError(b.t, b.s.TakeReport(r.Host, r))
}

func (b *bench) drive(tail string) api.Drive {
	b.t.Helper()
	d, err := b.s.Views.Drive(tail)
	require.NoError(b.t, err)
	return d
}

func newTwo(t *testing.T) *bench {
	b := newBench(t)
	_, err := b.s.Fleet.Enrol("test", "petrel", false)
	require.NoError(t, err)
	b.clock.forward(2 * time.Minute) // after the time after a start in which no notice is sent
	b.report()
	return b
}

// TestSharedDrive: a shelf that is attached to two hosts. Both are shown, the drive stays with the first, and there is
// no alarm; when the first host no longer sees it, it belongs to the other.
func TestSharedDrive(t *testing.T) {
	b := newTwo(t)
	for range 3 {
		b.take(b.other(nil, 0))
		b.take(b.next())
		d := b.drive("AA001")
		require.Equal(t, "fulmar/front/1", d.Bay)
		require.Equal(t, api.Sound, d.Verdict, d.Says)
		require.Len(t, d.Claims, 1)
		require.Equal(t, "petrel/front/1", d.Claims[0].Bay)
		require.Empty(t, d.Claims[0].Differs)
		require.NoError(t, b.s.Tick())
		require.Empty(t, b.told())
	}
	first := b.drives[0]
	b.drives = b.drives[1:]
	b.take(b.next())
	b.drives = append([]api.DriveReport{first}, b.drives...)
	d := b.drive("AA001")
	require.Equal(t, "petrel/front/1", d.Bay, "its first host does not see it any more")
	require.True(t, d.Present)
	require.Empty(t, d.Claims)
	b.take(b.other(nil, 0))
	require.Equal(t, "petrel/front/1", b.drive("AA001").Bay)
}

func (b *bench) told() (says []string) {
	open, err := b.s.Notices.Notices(false)
	require.NoError(b.t, err)
	for _, n := range open {
		says = append(says, n.Says)
	}
	return says
}

// TestSharedShelf: of two hosts that see a drive, it belongs to the one with it in a pool; orders about the pool go to
// that host, also while the other still sees it.
func TestSharedShelf(t *testing.T) {
	b := newTwo(t)
	spare := b.disk("DD004", 4)
	b.drives = append(b.drives, spare)
	b.take(b.next())
	require.Equal(t, "fulmar", b.drive("DD004").Host)
	p := b.pool
	p.Id, p.Name = "p2", "krill"
	p.Groups = []api.GroupReport{{Name: "mirror", Protection: api.Protection{Words: "single drive"},
		Members: []api.MemberReport{b.member("1", "DD004")}}}
	for range 3 {
		b.take(b.other([]api.PoolReport{p}, 3))
		b.take(b.next())
		d := b.drive("DD004")
		require.Equal(t, "petrel", d.Host)
		require.Equal(t, "krill", d.Pool)
		require.Equal(t, "fulmar", d.Claims[0].Host)
		require.Equal(t, "fulmar", b.drive("AA001").Host)
	}
	require.NoError(t, b.s.Tick())
	require.Equal(t, []string{"DD004 is in petrel/front/4 now; it was in fulmar/front/4"}, b.told())
}

// TestContestedDrive: two hosts report one identity and differ. The drive stays where it was and is unknown, and so is
// the margin of its pool; no orders are given for it, and there is a notice.
func TestContestedDrive(t *testing.T) {
	for _, differ := range []func(*api.DriveReport){
		func(d *api.DriveReport) { d.CapacityBytes = 4e12 },
		func(d *api.DriveReport) { d.Firmware = "other" },
		func(d *api.DriveReport) {
			d.Reading.Metrics = map[string]float64{"power_on_hours": 90000, "pending_sectors": 4000}
		},
	} {
		b := newTwo(t)
		for range 2 {
			r := b.other(nil, 0)
			differ(&r.Drives[0])
			b.take(r)
			b.take(b.next())
		}
		require.NoError(t, b.s.Tick())
		d := b.drive("AA001")
		require.Equal(t, "fulmar/front/1", d.Bay)
		require.Equal(t, api.Unknown, d.Verdict)
		require.Contains(t, d.Says, "is reported by fulmar and by petrel at once")
		require.NotEmpty(t, d.Claims[0].Differs)
		for _, m := range d.Metrics {
			if m.Name == "pending_sectors" {
				require.Zero(t, m.Value, "what the other host read is not believed")
			}
		}
		p := b.s.Views.AllPools()[0]
		require.False(t, p.Margin.Known)
		require.Contains(t, b.told()[0], "AA001 is reported by fulmar and by petrel at once")
		w, err := b.s.Swaps.PlanSwap("ida", "BB002")
		if err == nil {
			_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "now", NoBackup: true})
		}
		require.Error(t, err, "no member of this pool may be pulled now")
		// It ends by itself when petrel no longer says so.
		b.take(b.other(nil))
		b.take(b.next())
		require.NoError(t, b.s.Tick())
		require.Equal(t, api.Sound, b.drive("AA001").Verdict)
		require.True(t, b.s.Views.AllPools()[0].Margin.Known)
		require.Empty(t, b.told())
	}
}

// TestContestedStays: not every report has a reading. The values of one are valid until the next.
func TestContestedStays(t *testing.T) {
	b := newTwo(t)
	r := b.other(nil, 0)
	r.Drives[0].Reading.Metrics = map[string]float64{"power_on_hours": 90000}
	b.take(r)
	for range 3 {
		b.take(b.next())
		r = b.other(nil, 0)
		r.Drives[0].Reading = api.Reading{}
		b.take(r)
		require.Equal(t, api.Unknown, b.drive("AA001").Verdict)
		require.False(t, b.s.Views.AllPools()[0].Margin.Known)
	}
}

// TestClaimedPool: a host that reports another's pool does not get it, and with a different account makes it unknown;
// when the first host is silent, only a host that sees its drives takes it over.
func TestClaimedPool(t *testing.T) {
	b := newTwo(t)
	bad := b.pool
	bad.Groups = []api.GroupReport{
		{Name: "mirror", Protection: api.Protection{Words: "none"}, Members: bad.Groups[0].Members[:1]},
	}
	b.take(b.other([]api.PoolReport{b.pool}))
	b.take(b.next())
	require.Equal(t, "can lose 2 more drives", b.s.Views.AllPools()[0].Margin.Words, "the same account changes nothing")
	b.take(b.other([]api.PoolReport{bad}))
	b.take(b.next())
	b.take(b.other([]api.PoolReport{bad}))
	b.take(b.next())
	require.NoError(t, b.s.Tick())
	require.False(t, b.s.Views.AllPools()[0].Margin.Known)
	require.Contains(t, b.told()[0], "plankton is reported by fulmar and by petrel at once")
	b.take(b.other(nil))
	b.take(b.next())
	require.NoError(t, b.s.Tick())
	require.True(t, b.s.Views.AllPools()[0].Margin.Known)

	b.clock.forward(5 * time.Minute) // fulmar is silent
	require.NoError(t, b.s.Tick())
	b.take(b.other([]api.PoolReport{bad}))
	require.NotEqual(t, "cannot lose another drive", b.s.Views.AllPools()[0].Margin.Words)
	require.Len(t, b.s.Views.AllPools()[0].Groups[0].Members, 3, "petrel sees none of its drives")
	b.take(b.other([]api.PoolReport{b.pool}, 0, 1, 2))
	p := b.s.Views.AllPools()[0]
	require.True(t, p.Margin.Known, "the shelf was moved to petrel")
	require.Equal(t, "petrel/front/1", b.drive("AA001").Bay)
}

// TestPastOfAnother: a host cannot write into the time in which a drive was not its own.
func TestPastOfAnother(t *testing.T) {
	b := newTwo(t)
	r := b.other(nil, 0)
	r.Past, r.At = true, b.clock.Now().Add(-time.Minute)
	r.Drives[0].Reading = api.Reading{At: r.At, Metrics: map[string]float64{"pending_sectors": 500}}
	require.NoError(t, b.s.TakeReport("petrel", r))
	require.Equal(t, api.Sound, b.drive("AA001").Verdict)
	trend, err := b.s.Views.Trend("AA001", "pending_sectors", 24)
	require.NoError(t, err)
	for _, p := range trend.Points {
		require.Zero(t, p.Value)
	}
}
