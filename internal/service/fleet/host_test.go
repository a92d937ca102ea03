package fleet

import (
	"encoding/json"
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// fill sets everything in a value to something that is not zero.
func fill(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		v.SetString("x")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64:
		v.SetInt(7)
	case reflect.Float64:
		v.SetFloat(7)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(v.Index(0))
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				fill(v.Field(i))
			}
		}
	}
}

// TestLasts: a report is kept again when any field differs that is kept of it, of the report, of a drive or of a part of
// a drive; and only then.
func TestLasts(t *testing.T) {
	kept := func(r api.Report) string {
		text, err := json.Marshal(withoutReadings(r))
		require.NoError(t, err)
		return string(text)
	}
	base := api.Report{Drives: []api.DriveReport{{}, {}}, Pools: []api.PoolReport{{}}}
	last := withoutReadings(base)
	same := base
	require.True(t, lasts(&same, &last))
	differ := 0
	each := func(of reflect.Type, set func(r *api.Report, field int)) {
		for i := range of.NumField() {
			r := base
			r.Drives = append([]api.DriveReport(nil), base.Drives...)
			set(&r, i)
			want := kept(r) == kept(base)
			require.Equal(t, want, lasts(&r, &last), "%s of a %s", of.Field(i).Name, of.Name())
			if !want {
				differ++
			}
		}
	}
	each(reflect.TypeFor[api.Report](), func(r *api.Report, i int) { fill(reflect.ValueOf(r).Elem().Field(i)) })
	each(reflect.TypeFor[api.DriveReport](), func(r *api.Report, i int) {
		fill(reflect.ValueOf(&r.Drives[1]).Elem().Field(i))
	})
	each(reflect.TypeFor[api.Identity](), func(r *api.Report, i int) {
		fill(reflect.ValueOf(&r.Drives[1].Identity).Elem().Field(i))
	})
	each(reflect.TypeFor[api.PartitionTable](), func(r *api.Report, i int) {
		fill(reflect.ValueOf(&r.Drives[1].Layout).Elem().Field(i))
	})
	require.Greater(t, differ, 30)
}
