package cli

import (
	"fmt"
	"strings"
	"time"
)

func span(d time.Duration) string {
	d = max(d, -d)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	case d < 100*24*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	}
	return fmt.Sprintf("%d months", int(d.Hours()/24/30.44))
}

// age writes hours as years, months and days: a year has 365 days, a month a twelfth of that.
func age(hours int) string {
	days := hours / 24
	y, rest := days/365, days%365
	m := rest * 12 / 365
	d := rest - (m*365+11)/12
	var parts []string
	for _, p := range []struct {
		n    int
		unit string
	}{{y, "y"}, {m, "mo"}, {d, "d"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.unit))
		}
	}
	if len(parts) == 0 {
		return "under a day"
	}
	return strings.Join(parts, " ")
}

// size writes bytes in decimal units and exactly, as needed to compare sizes of drives.
func size(b int64) string {
	return fmt.Sprintf("%s (%s)", decimal(b), binary(b))
}

func decimal(b int64) string { return scaled(float64(b), 1000, "B", "kB", "MB", "GB", "TB", "PB") }

func binary(b int64) string {
	return scaled(float64(b), 1024, "B", "KiB", "MiB", "GiB", "TiB", "PiB")
}

func scaled(v, by float64, units ...string) string {
	i := 0
	for v >= by && i < len(units)-1 {
		v /= by
		i++
	}
	if i == 0 {
		return fmt.Sprintf("%.0f %s", v, units[i])
	}
	return fmt.Sprintf("%.2f %s", v, units[i])
}
