package agent

import (
	"context"
	"encoding/binary"
	"fmt"
	"lantern/internal/api"
	"lantern/internal/core/words"
	"strings"
)

// failedWords says how a surface test failed: what of each kind was found, and where the first is.
func failedWords(r api.SurfaceReport) string {
	var parts []string
	for _, kind := range []struct {
		what  api.SurfaceFaultWhat
		words string
	}{{api.FaultNotWritten, "could not be written (I/O error)"}, {api.FaultNotRead, "could not be read back " +
		"(I/O error)"}, {api.FaultDiffers, "gave back something else than was written"}} {
		places, bytes, first := 0, int64(0), int64(-1)
		for _, x := range r.Faults {
			if x.What == kind.what {
				if places++; first < 0 {
					first = x.At
				}
				bytes += x.Bytes
			}
		}
		if places > 0 {
			parts = append(
				parts,
				fmt.Sprintf(
					"%s, %d bytes together, %s, the first at byte %d",
					words.Count(places, "place"),
					bytes,
					kind.words,
					first,
				),
			)
		}
	}
	out := strings.Join(parts, "; ")
	if len(r.Faults) >= surfaceBad {
		out += fmt.Sprintf("; it was stopped there, as %d faults are enough", surfaceBad)
	}
	return out
}

// mostSplits bounds how often a stretch that fails is divided: a drive can take seconds for each try.
const mostSplits = 200

// stretch writes or verifies n bytes at an address; where that fails it is divided until the sectors that are at fault
// are known. err is the last that the device gave.
func stretch(
	ctx context.Context,
	dev Surface,
	pass api.SurfaceReportPass,
	at, n, sector int64,
	seed uint64,
) (out []api.SurfaceFault, err error) {
	tries := 0
	var try func(at, n int64)
	try = func(at, n int64) {
		if ctx.Err() != nil {
			return
		}
		what := api.SurfaceFaultWhat("")
		if pass == api.SurfaceReportPassWrite {
			if e := dev.Write(ctx, at, n, seed); e != nil {
				err, what = e, api.FaultNotWritten
			}
		} else {
			switch bad, e := dev.Verify(ctx, at, n, seed); {
			case e != nil:
				err, what = e, api.FaultNotRead
			case bad >= 0:
				what = api.FaultDiffers
			}
		}
		if what == "" {
			return
		}
		if tries++; n > sector && tries < mostSplits {
			half := (n/2 + sector - 1) / sector * sector
			if half < n {
				try(at, half)
				try(at+half, n-half)
				return
			}
		}
		if k := len(out) - 1; k >= 0 && out[k].What == what && out[k].At+out[k].Bytes == at {
			out[k].Bytes += n
			return
		}
		out = append(out, api.SurfaceFault{At: at, Bytes: n, What: what})
	}
	try(at, n)
	return out, err
}

// there reports whether a device still answers at all.
func (f Found) there() bool { return f.Read == nil || f.Read(0, make([]byte, 4096)) == nil }

// Pattern fills b, which lies at an address, with what nobody else writes: each 8 bytes follow from their own address
// and seed, so that what was written to the wrong place shows as well (splitmix64, Steele, Lea, Flood 2014).
func Pattern(b []byte, at int64, seed uint64) {
	step := uint64(0x9e3779b97f4a7c15)
	eight := 8 * step // by which it grows with eight bytes of address
	x := seed + uint64(at)*step
	for ; len(b) >= 8; b = b[8:] {
		y := (x ^ x>>30) * 0xbf58476d1ce4e5b9
		y = (y ^ y>>27) * 0x94d049bb133111eb
		binary.LittleEndian.PutUint64(b, y^y>>31)
		x += eight
	}
}
