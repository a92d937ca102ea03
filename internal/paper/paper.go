// Package paper writes reports as pages that print well.
package paper

import (
	_ "embed"
	"fmt"
	"html/template"
	"net/url"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"lantern/internal/api"
	"lantern/internal/core/words"
)

//go:embed report.html
var reportPage string

// Report is a report as one HTML page without references to other files. With links, its figures link to their sources
// in the console at base, which may be empty for the address of the page itself. Times are in zone.
func Report(r api.PeriodReport, links bool, base string, zone *time.Location) (string, error) {
	t, err := template.New("report").Funcs(template.FuncMap{
		"day":       func(t time.Time) string { return t.In(zone).Format(time.DateOnly) },
		"moment":    func(t time.Time) string { return t.In(zone).Format("2006-01-02 15:04") },
		"span":      span,
		"bytes":     func(n int64) string { return humanize.SIWithDigits(float64(n), 2, "B") },
		"share":     func(a, b int64) string { return fmt.Sprintf("%.0f %%", 100*float64(a)/float64(max(b, 1))) },
		"gigabytes": func(v float64) string { return fmt.Sprintf("%.1f GB", v/1e9) },
		"join":      func(s []string) string { return strings.Join(s, ", ") },
		"rate":      rate,
		"roomier":   roomier,
		"count":     words.Count,
		"at": func(site string) string { // the name of a site before its objects, at a headquarters
			if site == "" {
				return ""
			}
			return site + ": "
		},
		"to": func(site string, path ...string) string {
			if site != "" {
				site = "/sites/" + url.PathEscape(site)
			}
			return site + strings.Join(path, "")
		},
		"link": func(path, text string) template.HTML {
			safe := template.HTMLEscapeString(text)
			if !links || text == "" {
				return template.HTML(safe) //nolint:gosec // it was escaped
			}
			return template.HTML(
				`<a href="` + template.HTMLEscapeString(base+path) + `">` + safe + `</a>`,
			) //nolint:gosec // both were escaped
		},
	}).Parse(reportPage)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	err = t.Execute(&out, r)
	return out.String(), err
}

func rate(v float64) string {
	if v >= api.MostRate {
		return "any"
	}
	return fmt.Sprintf("%.1f %%", 100*v)
}

// span is a length of time in its two largest units.
func span(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second)).Round(time.Second)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d d %d h", int(d.Hours())/24, int(d.Hours())%24)
}

// roomier are the pools that will be full, and the ways to give them room.
func roomier(all []api.PeriodCapacity) (out []api.PeriodCapacity) {
	for _, c := range all {
		if !c.Soonest.IsZero() && len(c.Ways) > 0 {
			out = append(out, c)
		}
	}
	return out
}
