package agent

import (
	"context"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/core/drive"
)

// rotten is a surface of which some sectors cannot be written, some cannot be read, and some give back something else.
type rotten struct {
	size, stretch int64
	bad           map[int64]api.SurfaceFaultWhat // by sector
	written       map[int64]bool
}

const sector = 512

func (r *rotten) Stretch() int64 { return r.stretch }

func (r *rotten) Sync(context.Context) error { return nil }

func (r *rotten) each(at, n int64, f func(sector int64)) {
	for x := at / sector; x < (at+n)/sector; x++ {
		f(x)
	}
}

func (r *rotten) Write(_ context.Context, at, n int64, _ uint64) (err error) {
	r.each(at, n, func(x int64) {
		if r.bad[x] == api.FaultNotWritten {
			err = errors.New("input/output error")
		}
	})
	if err == nil {
		r.each(at, n, func(x int64) { r.written[x] = true })
	}
	return err
}

func (r *rotten) Verify(_ context.Context, at, n int64, _ uint64) (first int64, err error) {
	first = -1
	r.each(at, n, func(x int64) {
		switch {
		case r.bad[x] == api.FaultNotRead:
			err = errors.New("input/output error")
		case first < 0 && (r.bad[x] == api.FaultDiffers || !r.written[x]):
			first = x * sector
		}
	})
	return first, err
}

func (r *rotten) Blank(context.Context, int64) error { return nil }
func (r *rotten) Close() error                       { return nil }

// TestFaultsToTheSector: whichever sectors fail in any way, exactly those are reported with their failures, neighbours
// together.
func TestFaultsToTheSector(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	for range 200 {
		dev := &rotten{
			size:    64 * sector,
			stretch: 32 * sector,
			bad:     map[int64]api.SurfaceFaultWhat{},
			written: map[int64]bool{},
		}
		for range r.IntN(5) {
			dev.bad[r.Int64N(64)] = []api.SurfaceFaultWhat{api.FaultNotWritten, api.FaultNotRead, api.FaultDiffers}[r.IntN(3)]
		}
		for _, pass := range []api.SurfaceReportPass{api.SurfaceReportPassWrite, api.SurfaceReportPassVerify} {
			got := map[int64]api.SurfaceFaultWhat{}
			last := int64(-1)
			for at := int64(0); at < dev.size; at += dev.stretch {
				found, _ := stretch(t.Context(), dev, pass, at, dev.stretch, sector, 1)
				for _, x := range found {
					require.Greater(t, x.At, last)
					last = x.At + x.Bytes - 1
					for b := x.At; b < x.At+x.Bytes; b += sector {
						got[b/sector] = x.What
					}
				}
			}
			want := map[int64]api.SurfaceFaultWhat{}
			for x, what := range dev.bad {
				switch {
				case pass == api.SurfaceReportPassWrite && what != api.FaultNotWritten:
				case pass == api.SurfaceReportPassVerify && what == api.FaultNotWritten:
					want[x] = api.FaultDiffers // it was never written
				default:
					want[x] = what
				}
			}
			require.Equal(t, want, got, pass)
		}
	}
	dead := &rotten{size: 1 << 20, stretch: 1 << 20, bad: map[int64]api.SurfaceFaultWhat{}, written: map[int64]bool{}}
	for x := range int64(2048) {
		dead.bad[x] = api.FaultNotWritten
	}
	found, err := stretch(t.Context(), dead, api.SurfaceReportPassWrite, 0, 1<<20, sector, 1)
	require.Error(t, err)
	sum := int64(0)
	for _, x := range found {
		sum += x.Bytes
	}
	require.EqualValues(
		t,
		1<<20,
		sum,
		"of a stretch that is dead from end to end all is told, without trying every sector",
	)
	words := failedWords(
		api.SurfaceReport{
			Faults: []api.SurfaceFault{
				{At: 4096, Bytes: 512, What: api.FaultNotWritten},
				{At: 9216, Bytes: 1024, What: api.FaultDiffers},
			},
		},
	)
	require.Equal(
		t,
		"1 place, 512 bytes together, could not be written (I/O error), the first at byte 4096; 1 place, 1024 "+
			"bytes together, gave back something else than was written, the first at byte 9216",
		words,
	)
}

// TestPattern: each eight bytes are the splitmix64 of their own address and seed, the same since the first version, so
// that a test under way continues after an upgrade of the agent.
func TestPattern(t *testing.T) {
	of := func(at int64, seed uint64) uint64 {
		x := seed + uint64(at)*0x9e3779b97f4a7c15
		x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
		x = (x ^ x>>27) * 0x94d049bb133111eb
		return x ^ x>>31
	}
	for range 200 {
		at, seed := rand.Int64N(1<<50)&^7, rand.Uint64()
		b := make([]byte, 8*(1+rand.IntN(600)))
		Pattern(b, at, seed)
		for i := 0; i < len(b); i += 8 {
			require.Equal(t, of(at+int64(i), seed), binary.LittleEndian.Uint64(b[i:]))
		}
	}
}

// BenchmarkPattern makes the pattern of a surface test.
func BenchmarkPattern(b *testing.B) {
	buf := make([]byte, 1<<20)
	b.SetBytes(int64(len(buf)))
	for i := 0; b.Loop(); i++ {
		Pattern(buf, int64(i)<<20, 7)
	}
}

// cached is a surface with a cache of its own, whose Sync fails when it is told to.
type cached struct {
	rotten
	fails error
}

func (c *cached) Sync(context.Context) error { return c.fails }

// TestSurfacePowerCut: the recorded progress of a surface test includes only data that are on the drive's medium; a
// failure to write them is reported.
func TestSurfacePowerCut(t *testing.T) {
	dir := t.TempDir()
	s, err := openSurfaces(dir)
	require.NoError(t, err)
	x := &surfaceTest{Drive: drive.Identity{WWN: "5000000000000001"}}
	x.Pass, x.State, x.SizeBytes, x.DoneBytes = api.SurfaceReportPassWrite, api.SurfaceReportStateRunning, 4096, 3000
	dev := &cached{}
	kept := func() int64 {
		require.NoError(t, s.note(x))
		again, err := openSurfaces(dir)
		require.NoError(t, err)
		return again.of[x.Drive.Key()].DoneBytes
	}
	require.Zero(t, kept())
	s.sync(dev, x)
	require.EqualValues(t, 3000, kept())
	x.DoneBytes = 3500
	require.EqualValues(t, 3000, kept())
	dev.fails = errors.New("input/output error")
	s.sync(dev, x)
	require.Equal(t, []api.SurfaceFault{{At: 3000, Bytes: 500, What: api.FaultNotWritten}}, x.Faults)
	require.Equal(t, []int64{3000}, x.Bad)
	x.Pass, x.DoneBytes = api.SurfaceReportPassVerify, 900 // verifying does not write
	require.EqualValues(t, 900, kept())
}
