package health

import (
	"fmt"
	"slices"
	"strings"
)

// Setting is a threshold that people can set, for all drives, a model or a pool.
type Setting struct {
	Name  string  `json:"name"`
	Unit  string  `json:"unit"`
	Usual float64 `json:"usual"`
	Least float64 `json:"least"`
	Most  float64 `json:"most"`
	Means string  `json:"means"`
	of    func(*Thresholds) *float64
}

// Thresholds are what rules compare with.
type Thresholds struct {
	ManySectors, BurstSectors, SpreadSectors float64
	DamageDays                               float64
	ManyPoolErrors                           float64
	SlowFactor, SlowFloor, SlowMinutes       float64
	SlowPast                                 float64
	LinkErrors, Timeouts, Drops              float64
	HotLimit, HotApart                       float64
	ServiceYears, LoadCycles                 float64
	Wear, Spare                              float64
	ShortDays, ExtendedDays                  float64
	off                                      map[string]bool
}

// Settings is every threshold.
var Settings = []Setting{
	{
		"many_sectors",
		"sectors",
		100,
		1,
		1e9,
		"damaged sectors in all that mean \"replace\", even if the number does not grow",
		func(t *Thresholds) *float64 { return &t.ManySectors },
	},
	{
		"burst_sectors",
		"sectors in 24 h",
		8,
		1,
		1e9,
		"new bad sectors per day that mean \"replace\"",
		func(t *Thresholds) *float64 { return &t.BurstSectors },
	},
	{
		"spread_sectors",
		"sectors in 7 days",
		12,
		1,
		1e9,
		"new bad sectors per week, some of them today, that mean \"replace\"",
		func(t *Thresholds) *float64 { return &t.SpreadSectors },
	},
	{
		"damage_days",
		"days of 30",
		6,
		2,
		30,
		"days of the last 30 with new bad sectors that mean \"replace\"",
		func(t *Thresholds) *float64 { return &t.DamageDays },
	},
	{
		"many_pool_errors",
		"errors in 24 h",
		100,
		1,
		1e9,
		"errors counted by the pool per day that mean \"replace\"",
		func(t *Thresholds) *float64 { return &t.ManyPoolErrors },
	},
	{
		"slow_factor",
		"times",
		10,
		2,
		1e6,
		"a read that takes so many times the median of its group is slow",
		func(t *Thresholds) *float64 { return &t.SlowFactor },
	},
	{
		"slow_floor",
		"s",
		0.02,
		0,
		60,
		"no read that takes less is called slow",
		func(t *Thresholds) *float64 { return &t.SlowFloor },
	},
	{
		"slow_minutes",
		"min",
		15,
		0,
		10080,
		"a drive is slow when it was for so long",
		func(t *Thresholds) *float64 { return &t.SlowMinutes },
	},
	{
		"slow_past",
		"times",
		3,
		1.5,
		1e6,
		"reads that take so many times as long as they took this drive before, for two days, are told",
		func(t *Thresholds) *float64 { return &t.SlowPast },
	},
	{
		"link_errors",
		"errors in 7 days",
		5,
		1,
		1e9,
		"fewer damaged transfers within a week are ignored",
		func(t *Thresholds) *float64 { return &t.LinkErrors },
	},
	{
		"timeouts",
		"commands in 24 h",
		3,
		1,
		1e9,
		"fewer commands that were not finished in time are ignored",
		func(t *Thresholds) *float64 { return &t.Timeouts },
	},
	{
		"drops",
		"drops in 7 days",
		3,
		1,
		1e9,
		"a drive that left the bus and came back so often within a week is to be replaced",
		func(t *Thresholds) *float64 { return &t.Drops },
	},
	{
		"hot_limit",
		"°C",
		60,
		20,
		120,
		"too hot for a drive that does not report its own limit",
		func(t *Thresholds) *float64 { return &t.HotLimit },
	},
	{
		"hot_apart",
		"°C",
		10,
		2,
		100,
		"so much warmer than the median of its neighbours is far from them",
		func(t *Thresholds) *float64 { return &t.HotApart },
	},
	{
		"service_years",
		"years",
		6,
		1,
		50,
		"hours of power beyond which a drive is old",
		func(t *Thresholds) *float64 { return &t.ServiceYears },
	},
	{
		"load_cycles",
		"cycles",
		600_000,
		1000,
		1e9,
		"load cycles beyond which a drive is worn",
		func(t *Thresholds) *float64 { return &t.LoadCycles },
	},
	{
		"wear",
		"%",
		100,
		1,
		255,
		"so much of its rated endurance used is to be watched",
		func(t *Thresholds) *float64 { return &t.Wear },
	},
	{
		"spare",
		"%",
		10,
		0,
		100,
		"remaining spare that means \"replace\"",
		func(t *Thresholds) *float64 { return &t.Spare },
	},
	{
		"short_days",
		"days",
		30,
		1,
		3650,
		"a short self-test longer ago than this is remarked",
		func(t *Thresholds) *float64 { return &t.ShortDays },
	},
	{
		"extended_days",
		"days",
		100,
		1,
		3650,
		"an extended self-test longer ago than this is remarked",
		func(t *Thresholds) *float64 { return &t.ExtendedDays },
	},
}

// Usual are the default thresholds.
func Usual() (t Thresholds) {
	for _, s := range Settings {
		*s.of(&t) = s.Usual
	}
	return t
}

// SettingByName finds a setting; the error names the most similar one.
func SettingByName(name string) (Setting, error) {
	i := slices.IndexFunc(Settings, func(s Setting) bool { return s.Name == name })
	if i < 0 {
		var names []string
		for _, s := range Settings {
			names = append(names, s.Name)
		}
		return Setting{}, fmt.Errorf("no setting %q; those there are: %s", name, strings.Join(names, ", "))
	}
	return Settings[i], nil
}

// Set sets the value of a setting; an invalid value is refused.
func (t *Thresholds) Set(name string, v float64) error {
	s, err := SettingByName(name)
	if err != nil {
		return err
	}
	if v < s.Least || v > s.Most || v != v {
		return fmt.Errorf("%s can be %s to %s %s, not %s", name, number(s.Least), number(s.Most), s.Unit, number(v))
	}
	*s.of(t) = v
	return nil
}

// IsOff reports whether a rule is switched off.
func (t *Thresholds) IsOff(id string) bool { return t.off[id] }

// Off switches a rule off; ok is false when there is none of that id.
func (t *Thresholds) Off(id string) (ok bool) {
	if ruleOf(id) == nil {
		return false
	}
	off := map[string]bool{id: true}
	for k := range t.off {
		off[k] = true
	}
	t.off = off
	return true
}
