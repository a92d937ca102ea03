package wire

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// fill gives every field of a value something of its own, so that one forgotten on the way shows.
func fill(r *rand.Rand, v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		v.SetString(string(rune('a'+r.IntN(26))) + string(rune('a'+r.IntN(26))))
	case reflect.Int, reflect.Int64:
		v.SetInt(int64(1 + r.IntN(1000)))
	case reflect.Uint64, reflect.Uint8, reflect.Uint16:
		v.SetUint(uint64(1 + r.IntN(200)))
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		for i := range 2 {
			fill(r, v.Index(i))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				fill(r, v.Field(i))
			}
		}
	}
}

// through sends a value over the wire.
func through[T any](t *testing.T, v T) (out T) {
	t.Helper()
	b, err := json.Marshal(v)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &out))
	return out
}

// TestNothingIsLost: what the core knows of a pool, a drive and its tests arrives as it was.
func TestNothingIsLost(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 20 {
		var p pool.Pool
		fill(r, reflect.ValueOf(&p).Elem())
		p.Everyone(
			func(_ string, m *pool.Member) { m.State = pool.Failing },
		) // a known state: others arrive as unknown
		require.Equal(t, p, ToPool(through(t, Pool(p, nil))))

		var d drive.Description
		fill(r, reflect.ValueOf(&d).Elem())
		d.SMARTSupported, d.SMARTEnabled, d.SelfTests, d.GeneralLogs = false, false, false, false // the agent's own business
		require.Equal(t, d, ToDescription(through(t, Description(d))))

		var tests []drive.SelfTest
		fill(r, reflect.ValueOf(&tests).Elem())
		require.Equal(t, tests, ToSelfTests(through(t, SelfTests(tests))))
	}
	m := map[drive.MetricName]float64{"read_latency_seconds": 0.00712, "bytes_read": 1 << 52}
	require.Equal(t, Metrics(m), through(t, api.Reading{Metrics: Metrics(m)}).Metrics, "numbers keep every digit")
}
