package service

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"os"
	"reflect"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/bounds"
)

// mangler puts random and extreme values into a report: what a host could send whose token somebody stole.
type mangler struct {
	*rand.Rand
	names []string // of existing things
}

func (m *mangler) text() string {
	switch m.IntN(4) {
	case 0:
		return m.names[m.IntN(len(m.names))]
	case 1:
		return strings.Repeat("\x1b]0;x\a\u202e", m.IntN(300))
	case 2:
		return string(rune(m.IntN(0x3000)))
	}
	return []string{"", "online", "missing", "running", "front", "/", "..", "-1", "NaN", "front/1", "rows",
		"top-left"}[m.IntN(12)]
}

func (m *mangler) number() float64 {
	return []float64{0, 1, -1, 2, 12, 1e3, 1e12, 8e12, math.MaxInt64, math.MinInt64, 1e300, -1e300, 0.1}[m.IntN(13)]
}

// mangle changes a value somewhere, or everywhere.
func (m *mangler) mangle(v reflect.Value, rate float64) {
	hit := m.Float64() < rate
	switch v.Kind() {
	case reflect.String:
		if hit {
			v.SetString(m.text())
		}
	case reflect.Bool:
		if hit {
			v.SetBool(m.IntN(2) == 0)
		}
	case reflect.Int, reflect.Int32, reflect.Int64:
		if hit {
			v.SetInt(int64(m.number()))
		}
	case reflect.Float64:
		if hit {
			v.SetFloat(m.number())
		}
	case reflect.Struct:
		if at, ok := v.Addr().Interface().(*time.Time); ok {
			if hit {
				*at = time.Unix(int64(m.IntN(1<<33)), 0).UTC()
			}
			return
		}
		for i := range v.NumField() {
			m.mangle(v.Field(i), rate)
		}
	case reflect.Slice:
		if hit {
			n := []int{0, 1, 2, v.Len() * 2, 40}[m.IntN(5)]
			s := reflect.MakeSlice(v.Type(), n, n)
			for i := range n {
				if v.Len() > 0 {
					s.Index(i).Set(v.Index(m.IntN(v.Len())))
				}
			}
			v.Set(s)
		}
		for i := range v.Len() {
			m.mangle(v.Index(i), rate)
		}
	case reflect.Map:
		if hit && v.Type().Elem().Kind() == reflect.Float64 {
			if v.IsNil() {
				v.Set(reflect.MakeMap(v.Type()))
			}
			v.SetMapIndex(reflect.ValueOf(m.names[m.IntN(len(m.names))]), reflect.ValueOf(m.number()))
		}
	case reflect.Pointer:
		if !v.IsNil() {
			m.mangle(v.Elem(), rate)
		}
	}
}

// TestHostileReporter: whatever a host reports, the data of others do not change, and it costs little. For
// LANTERN_HOSTILE_FOR, else for a few seconds.
func TestHostileReporter(t *testing.T) {
	lasting := 5 * time.Second
	if d, err := time.ParseDuration(os.Getenv("LANTERN_HOSTILE_FOR")); err == nil {
		lasting = d
	}
	b := newTwo(t)
	w, err := b.s.Swaps.PlanSwap("ida", "BB002")
	require.NoError(t, err)
	seed := uint64(time.Now().UnixNano())
	m := &mangler{
		rand.New(rand.NewPCG(seed, 0)),
		[]string{"fulmar", "petrel", "plankton", "p1", "AA001", "KH3AA001", "pending_sectors",
			"power_on_hours", "1", "2", b.pool.Groups[0].Members[0].Drive, b.drives[0].Identity.Wwn, "temperature_celsius"},
	}
	var before runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	n, taken, refused := 0, 0, 0
	for end := time.Now().Add(lasting); time.Now().Before(end); {
		r := b.other([]api.PoolReport{b.pool}, 0, 1, 2)
		raw, err := json.Marshal(r)
		require.NoError(t, err)
		r = api.Report{}
		require.NoError(t, json.Unmarshal(raw, &r)) // nothing of it is shared with the next
		m.mangle(reflect.ValueOf(&r).Elem(), []float64{0.01, 0.05, 0.3, 1}[m.IntN(4)])
		r.Host = "petrel"
		if n++; n%20 == 0 {
			b.clock.forward(5 * time.Second)
			b.report()
			require.NoError(t, b.s.Tick())
		}
		begin := time.Now()
		if err := bounds.Check(r); err != nil {
			refused++
			continue
		}
		if err := b.s.TakeReport("petrel", r); err != nil {
			refused++
		} else {
			taken++
		}
		_, err = b.s.Bays.Bays("petrel")
		_ = err // an error is allowed; it must not take long
		b.s.Views.Round()
		require.Less(t, time.Since(begin), 5*time.Second, "seed %d", seed)
		for i := range 3 {
			d := b.drive(b.pool.Groups[0].Members[i].Drive)
			require.Equal(t, "fulmar", d.Host, "seed %d: %+v", seed, d)
			require.True(t, d.Present)
			require.Equal(t, "plankton", d.Pool, "seed %d", seed)
			require.Equal(t, "online", d.State, "seed %d", seed)
			require.Len(t, d.Places, 1, "seed %d: %v", seed, d.Places)
			require.Equal(t, b.drives[i].Bay, bayOf(t, d))
			require.EqualValues(t, 8e12, d.CapacityBytes)
			for _, x := range d.Metrics {
				if x.Name == "pending_sectors" {
					require.Zero(t, x.Value, "seed %d", seed)
				}
			}
		}
		p, err := b.s.Views.Pool("p1")
		require.NoError(t, err)
		require.Len(t, p.Groups[0].Members, 3)
		got, err := b.s.Swaps.Swap(w.Id)
		require.NoError(t, err)
		require.Equal(t, w.Phase, got.Phase)
	}
	t.Logf("%d reports taken, %d refused", taken, refused)
	require.Positive(t, taken)
	runtime.GC()
	var after runtime.MemStats
	runtime.ReadMemStats(&after)
	require.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(512<<20))
	b.report()
	b.restart()
	require.Equal(t, "fulmar", b.drive(b.pool.Groups[0].Members[0].Drive).Host)
}
