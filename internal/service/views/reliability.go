package views

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/inventory"
	"lantern/internal/core/reliability"
	"lantern/internal/nearest"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// What counts as a failure.
const (
	countsReplace = "replace" // a strong finding with the verdict replace or dead
	countsDead    = "dead"    // a finding with the verdict dead
	countsGone    = "gone"    // it was sent back or destroyed
)

// The groupings of rates.
var ratesBy = []string{"model", "age", "batch", "supplier", "enclosure", "position"}

// ageBands are where bands of age begin, in years.
var ageBands = []float64{1, 2, 3, 4, 5}

// sureOf is the default confidence of ranges.
const sureOf = 0.95

// lived is a life with its grouping keys.
type lived struct {
	reliability.Life
	model, batch, supplier, enclosure, position string
	capacity                                    drive.Bytes
	medium                                      string
}

// failedAt is when each drive first counted as failed, by key.
func (s *State) failedAt(counts string) (map[string]time.Time, error) {
	out := map[string]time.Time{}
	if counts == countsGone {
		return out, nil
	}
	rows, err := store.All[store.FoundLog](s.Store, "id", "turn like '%dead' or turn like '%replace'")
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		verdict := health.Replace
		if strings.HasSuffix(row.Turn, string(health.Dead)) {
			verdict = health.Dead
		}
		if counts == countsDead && verdict != health.Dead || !health.Failed(health.Hit{Rule: row.Rule, Verdict: verdict}) {
			continue
		}
		if _, known := out[row.Drive]; !known {
			out[row.Drive] = row.At
		}
	}
	return out, nil
}

// lives are the lives of all drives: of drives that are or were seen, and of drives that are only in the inventory.
func (s *State) lives(counts string) ([]lived, error) {
	failed, err := s.failedAt(counts)
	if err != nil {
		return nil, err
	}
	now := s.Clock.Now()
	var out []lived
	seen := map[string]bool{}
	for k, d := range s.fleet.Drives {
		l := lived{Life: reliability.Life{Drive: d.Tail(), Entered: d.FirstAt, Left: now, Age: -1}, model: d.Desc.Model,
			capacity: d.Desc.Capacity, medium: string(d.Desc.Medium)}
		seen[strings.ToUpper(d.Desc.Serial)] = true
		if !d.Present {
			l.Left = d.SeenAt
		}
		if d.Section != "" {
			l.enclosure, l.position = d.Host+"/"+d.Section, fmt.Sprintf("bay %d", d.Bay)
		}
		if p, ok := d.Record["power_on_hours"].Last(); ok {
			l.Age = max(0, p.Value-p.At().Sub(l.Entered).Hours())
		}
		if i := s.inventory.Of(d); i != nil {
			l.written(i, counts)
		}
		if at, is := failed[k]; is && at.Before(l.Left) {
			l.Left, l.Failed = at, true
		} else if is {
			l.Failed = true
		}
		out = append(out, l)
	}
	for serial, i := range s.inventory.Items() {
		if seen[serial] || i.State == inventory.Ordered || i.StateDay == "" || i.Purchased == "" {
			continue
		}
		l := lived{Life: reliability.Life{Drive: i.Serial}, model: i.Model}
		l.Left, _ = time.Parse(inventory.Day, i.StateDay) // it was set as a day
		l.written(i, counts)
		// For a drive that was never seen, only its fate in the inventory shows that it failed.
		l.Failed = i.State == inventory.SentBack || i.State == inventory.Returned || i.State == inventory.Destroyed
		out = append(out, l)
	}
	slices.SortFunc(
		out,
		func(a, b lived) int { return cmp.Or(cmp.Compare(a.Drive, b.Drive), a.Entered.Compare(b.Entered)) },
	)
	return out, nil
}

// written adds the inventory record of a drive: it counts from its day of purchase.
func (l *lived) written(i *inventory.Item, counts string) {
	l.batch, l.supplier = i.Batch, i.Supplier
	if at, err := time.Parse(inventory.Day, i.Purchased); err == nil && (at.Before(l.Entered) || l.Entered.IsZero()) {
		l.Entered, l.Age = at, 0
	}
	if counts == countsGone && (i.State == inventory.SentBack || i.State == inventory.Destroyed) {
		if at, err := time.Parse(inventory.Day, i.StateDay); err == nil {
			l.Left, l.Failed = at, true
		}
	}
}

func (l lived) group(by string) string {
	name := map[string]string{"model": l.model, "batch": l.batch, "supplier": l.supplier, "enclosure": l.enclosure,
		"position": l.position}[by]
	return cmp.Or(name, "unknown")
}

// checkRates refuses an unknown grouping.
func checkRates(by, counts string, confidence float64) error {
	switch {
	case !slices.Contains(ratesBy, by):
		return problem.New(
			422,
			"bad-question",
			"By "+strings.Join(ratesBy, ", ")+".",
			"There are no rates by %q%s",
			by,
			nearest.Meant(by, ratesBy),
		)
	case !slices.Contains([]string{countsReplace, countsDead, countsGone}, counts):
		return problem.New(
			422,
			"bad-question",
			"It is replace, dead or gone.",
			"%q is not a kind of failure.",
			counts,
		)
	case confidence < 0.5 || confidence > 0.999:
		return problem.New(422, "bad-question", "Such as 0.95.", "The confidence is from 0.5 to 0.999.")
	}
	return nil
}

// grouped are lives by group; for groups by age each life is split, so that each part counts in its band.
func grouped(all []lived, by string) map[string][]reliability.Life {
	groups := map[string][]reliability.Life{}
	for _, l := range all {
		switch {
		case by != "age":
			groups[l.group(by)] = append(groups[l.group(by)], l.Life)
		case l.Age < 0:
			groups["unknown"] = append(groups["unknown"], l.Life)
		default:
			for band, part := range reliability.Split(l.Life, hours(ageBands)) {
				groups[bandName(band)] = append(groups[bandName(band)], part)
			}
		}
	}
	return groups
}

// Failures gives failure rates by group, and the survival by age.
func (s *Service) Failures(p api.GetFailuresParams) (api.Failures, error) {
	by, counts, confidence := cmp.Or(p.By, "model"), cmp.Or(p.Counts, countsReplace), cmp.Or(p.Confidence, sureOf)
	if err := checkRates(by, counts, confidence); err != nil {
		return api.Failures{}, err
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	all, err := s.lives(counts)
	if err != nil {
		return api.Failures{}, err
	}
	if p.Model != "" {
		all = slices.DeleteFunc(all, func(l lived) bool { return l.model != p.Model })
		if len(all) == 0 {
			return api.Failures{}, problem.Missing("no-model", "model", p.Model, s.models())
		}
	}
	out := api.Failures{
		By:         by,
		Counts:     counts,
		Confidence: confidence,
		Groups:     []api.FailureRate{},
		Survival:   []api.SurvivalPoint{},
	}
	bare := make([]reliability.Life, 0, len(all))
	bought := 0
	for _, l := range all {
		bare = append(bare, l.Life)
		if l.Age == 0 {
			bought++
		}
	}
	out.All = ViewRate("all", reliability.RateOf(bare, confidence))
	for name, g := range grouped(all, by) {
		out.Groups = append(out.Groups, ViewRate(name, reliability.RateOf(g, confidence)))
	}
	slices.SortFunc(out.Groups, func(a, b api.FailureRate) int {
		if by == "age" {
			return cmp.Compare(a.Name, b.Name)
		}
		return cmp.Or(cmp.Compare(b.Low, a.Low), cmp.Compare(b.PerYear, a.PerYear), cmp.Compare(a.Name, b.Name))
	})
	for _, pt := range reliability.Survival(bare, reliability.Quantile(confidence)) {
		out.Survival = append(
			out.Survival,
			api.SurvivalPoint{
				Hours:  pt.Hours,
				Well:   pt.Well,
				Low:    pt.Low,
				High:   pt.High,
				AtRisk: pt.AtRisk,
				Failed: pt.Failed,
			},
		)
	}
	out.Says = fmt.Sprintf(
		"%d of %d drives count from their purchase, the others from the day on which they were first seen",
		bought,
		len(all),
	)
	return out, nil
}

func (s *State) models() (out []string) {
	for _, d := range s.fleet.Drives {
		out = append(out, d.Desc.Model)
	}
	return out
}

func hours(years []float64) (out []float64) {
	for _, y := range years {
		out = append(out, y*reliability.Year.Hours())
	}
	return out
}

func bandName(band int) string {
	if band == len(ageBands) {
		return fmt.Sprintf("%.0f years and more", ageBands[band-1])
	}
	return fmt.Sprintf("%d to %d years", band, band+1)
}

// ViewRate is a rate with its name, for display.
func ViewRate(name string, r reliability.Rate) api.FailureRate {
	if math.IsInf(r.High, 1) {
		r.High = api.MostRate
	}
	return api.FailureRate{
		Name:       name,
		Drives:     r.Drives,
		DriveYears: r.Years,
		Failures:   r.Failures,
		PerYear:    r.PerYear,
		Low:        r.Low,
		High:       r.High,
	}
}
