package year

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/service"
	"lantern/internal/service/fleet"
	"lantern/internal/store"
)

// at is a clock that stands.
type at struct {
	clock.Clock
	now time.Time
}

func (a at) Now() time.Time { return a.now }

// BenchmarkStart says how long a service takes to be ready when it has LANTERN_DRIVES drives (10,000 where that is not
// said) with a year of hourly readings each, how long the first round then takes, and what memory it holds. The drives
// are copies of those of one host that lived through that year.
func BenchmarkStart(b *testing.B) {
	drives := 10000
	if n, err := strconv.Atoi(os.Getenv("LANTERN_DRIVES")); err == nil {
		drives = n
	}
	dir := b.TempDir()
	y, err := Live(b.Context(), dir, "petrel", nil)
	require.NoError(b, err)
	page, err := y.Service.Views.Drives(api.ListDrivesParams{Host: []string{y.Host}, Limit: 100})
	require.NoError(b, err)
	copies := (drives + len(page.Drives) - 1) / len(page.Drives)
	require.NoError(b, y.Store.Close())
	st, err := store.Open(filepath.Join(dir, "lantern.db"))
	require.NoError(b, err)
	multiply(b, st, copies)
	require.NoError(b, st.Close())
	end := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	for b.Loop() {
		runtime.GC()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		begun := time.Now()
		st, err := store.Open(filepath.Join(dir, "lantern.db"))
		require.NoError(b, err)
		s, err := service.New(st, at{clock.Real{}, end}, slog.New(slog.DiscardHandler))
		require.NoError(b, err)
		b.ReportMetric(time.Since(begun).Seconds(), "s/start")
		begun = time.Now()
		s.Views.Round()
		b.ReportMetric(time.Since(begun).Seconds(), "s/first-round")
		peak := residentPeak(b)
		runtime.GC()
		runtime.ReadMemStats(&after)
		b.ReportMetric(float64(after.HeapAlloc-min(before.HeapAlloc, after.HeapAlloc))/1e6, "MB/held")
		b.ReportMetric(peak/1e6, "MB/peak")
		found, err := s.Views.Drives(api.ListDrivesParams{Limit: 1})
		require.NoError(b, err)
		require.GreaterOrEqual(b, found.Total, drives)
		require.NoError(b, st.Close())
	}
	size, err := os.Stat(filepath.Join(dir, "lantern.db"))
	require.NoError(b, err)
	b.ReportMetric(float64(size.Size())/1e6, "MB/records")
}

// residentPeak is the most memory that this process had, in bytes (VmHWM of proc(5)).
func residentPeak(b *testing.B) float64 {
	text, err := os.ReadFile("/proc/self/status")
	require.NoError(b, err)
	_, rest, _ := strings.Cut(string(text), "VmHWM:")
	kib, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
	require.NoError(b, err)
	return kib * 1024
}

// multiply makes so many hosts of one: each with drives, readings and blocks of its own, the same but for their names.
func multiply(b *testing.B, st *store.Store, copies int) {
	hosts, err := store.All[store.Host](st, "name", "")
	require.NoError(b, err)
	drives, err := store.All[store.Drive](st, "key", "")
	require.NoError(b, err)
	blocks, err := store.All[store.Block](st, "drive, first", "")
	require.NoError(b, err)
	readings, err := store.All[store.Reading](st, "drive, at", "")
	require.NoError(b, err)
	records, err := store.All[store.DriveRecord](st, "drive", "")
	require.NoError(b, err)
	require.Len(b, records, len(drives), "kept with the blocks")
	for c := 1; c < copies; c++ {
		batch := &store.Batch{}
		h := hosts[0]
		h.Name = fmt.Sprintf("annex-%04d", c)
		batch.Put(&h)
		keys := map[string]string{}
		for i, d := range drives {
			var f fleet.Facts
			require.NoError(b, json.Unmarshal(d.Doc, &f))
			f.Desc.Identity.WWN = fmt.Sprintf("5%015x", c*1000+i+1)
			f.Desc.Identity.Serial = fmt.Sprintf("%s%05d", f.Desc.Identity.Serial[:3], c*100+i)
			f.Host = h.Name
			key := f.Desc.Key()
			keys[d.Key] = key
			doc, err := json.Marshal(f)
			require.NoError(b, err)
			batch.Put(&store.Drive{Key: key, Doc: doc})
		}
		for _, x := range blocks {
			x.Drive = keys[x.Drive]
			batch.Add(&x)
		}
		for _, x := range records {
			x.Drive = keys[x.Drive]
			batch.Put(&x)
		}
		for _, x := range readings {
			x.Drive = keys[x.Drive]
			batch.Add(&x)
		}
		require.NoError(b, st.Write(batch))
	}
}
