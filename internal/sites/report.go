package sites

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/reliability"
	"lantern/internal/core/words"
	"lantern/internal/service/problem"
	"lantern/internal/service/views"
)

// mostReport is the largest report of a site, in bytes.
const mostReport = 64 << 20

// refused is the answer of a site that refuses a request of the headquarters.
type refused struct {
	site   string
	status int
	told   api.Problem
}

func (r *refused) Error() string {
	return fmt.Sprintf("%s answers %d: %s", r.site, r.status, r.told.Title)
}

// part is the report of one site, or the reason why there is none.
type part struct {
	site   string
	report api.PeriodReport
	err    error
}

// Report is the report on a period over all sites. Every site makes its own, for the same request. A site that does not
// answer is listed in Sites with the reason, and nothing of it is in the report (R7). A site without the pool or room
// that the request names is left out; it is an error if no site has it.
func (h *Headquarters) Report(ctx context.Context, asked api.GetReportParams) (api.PeriodReport, error) {
	query := url.Values{}
	for name, at := range map[string]time.Time{"from": asked.From, "to": asked.To} {
		if !at.IsZero() {
			query.Set(name, at.Format(time.RFC3339Nano))
		}
	}
	for name, text := range map[string]string{"pool": asked.Pool, "room": asked.Room} {
		if text != "" {
			query.Set(name, text)
		}
	}
	all := h.Sites()
	parts := make([]part, len(all))
	var asking sync.WaitGroup
	for i, x := range all {
		parts[i].site = x.Name
		asking.Go(func() {
			parts[i].report, parts[i].err = h.reportOf(ctx, x.Name, "/api/v1/report?"+query.Encode())
		})
	}
	asking.Wait()
	var missing []api.Site
	var without *problem.Problem
	answers := parts[:0]
	for i, p := range parts {
		var r *refused
		if p.err == nil {
			answers = append(answers, p)
			continue
		}
		if errors.As(p.err, &r) && (r.status == http.StatusNotFound || r.status == http.StatusUnprocessableEntity) {
			without = problem.New(r.status, string(r.told.Type), r.told.Detail, "%s: %s", r.site, r.told.Title)
			continue
		}
		missing = append(missing, unanswered(all[i], p.err))
	}
	if len(answers) == 0 {
		return api.PeriodReport{}, noReport(without, missing)
	}
	out := merge(answers, missing)
	out.Pool, out.Room = asked.Pool, asked.Room
	return out, nil
}

// noReport says why no site has made a report: refused is the refusal of one that answered, if any did.
func noReport(refused *problem.Problem, missing []api.Site) error {
	var silent []string
	for _, x := range missing {
		silent = append(silent, fmt.Sprintf("%s (%s)", x.Name, x.Says))
	}
	switch {
	case refused != nil && len(silent) > 0:
		refused.Title += " Sites that do not answer: " + strings.Join(silent, ", ") + "."
		return refused
	case refused != nil:
		return refused
	case len(silent) > 0:
		return problem.New(http.StatusServiceUnavailable, "site-unreachable",
			"Check that their services run and that the network between works: lantern site list",
			"No site answers, so there is no report: %s.", strings.Join(silent, ", "))
	}
	return problem.New(http.StatusConflict, "no-site", "Begin with: lantern site invite",
		"This headquarters has no sites yet, so there is nothing to report on.")
}

// reportOf gets the report of one site.
func (h *Headquarters) reportOf(ctx context.Context, site, path string) (out api.PeriodReport, err error) {
	var body bytes.Buffer
	err = h.inner(ctx, site, http.MethodGet, path, nil, func(part []byte) error {
		if body.Len()+len(part) > mostReport {
			return fmt.Errorf("the report of %s is larger than %d MiB", site, mostReport>>20)
		}
		body.Write(part)
		return nil
	})
	if err != nil {
		return out, err
	}
	if err := json.Unmarshal(body.Bytes(), &out); err != nil {
		return out, err
	}
	for _, m := range out.Money {
		if _, ok := new(big.Rat).SetString(m.Sum); !ok {
			return out, fmt.Errorf("the report of %s has the sum %q", site, m.Sum)
		}
	}
	return out, nil
}

// unanswered is a site that is not in a report, with the reason.
func unanswered(x api.Site, err error) api.Site {
	var r *refused
	switch {
	case errors.As(err, &r) && r.status == http.StatusForbidden:
		x.Says, x.Do = "its version cannot make a report for a headquarters", "Install a newer version there"
	case x.Says != "":
	case errors.Is(err, errUnreachable):
		x.Says, x.Do = "not reachable", "Check that its service runs and that the network between works"
	default:
		x.Says, x.Do = "its answer cannot be read", "Open the report at the site itself"
	}
	x.Reachable = false
	return x
}

// merge makes one report of the reports of sites, whose entries are marked with their site.
func merge(parts []part, missing []api.Site) api.PeriodReport {
	out := api.PeriodReport{First: []string{}, Sites: missing, Flagged: []api.PeriodFlag{}, Swaps: []api.PeriodSwap{},
		Recoveries: []api.PeriodRecovery{}, Capacity: []api.PeriodCapacity{}, Warranties: []api.InventoryItem{},
		Money: []api.PeriodMoney{}, Advice: api.StockAdvice{Kinds: []api.StockNeed{}, Uncovered: []string{},
			Cover: []api.StockCover{}}}
	for _, p := range parts {
		r, site := p.report, p.site
		if out.From.IsZero() || r.From.Before(out.From) {
			out.From = r.From
		}
		if r.To.After(out.To) {
			out.To = r.To
		}
		if out.WrittenAt.IsZero() || r.WrittenAt.Before(out.WrittenAt) {
			out.WrittenAt = r.WrittenAt // the oldest: all of it is at least this new
		}
		out.Flagged = appendMarked(out.Flagged, r.Flagged, func(v *api.PeriodFlag) { v.Site = site })
		out.Swaps = appendMarked(out.Swaps, r.Swaps, func(v *api.PeriodSwap) { v.Site = site })
		out.Recoveries = appendMarked(out.Recoveries, r.Recoveries, func(v *api.PeriodRecovery) { v.Site = site })
		out.Capacity = appendMarked(out.Capacity, r.Capacity, func(v *api.PeriodCapacity) { v.Site = site })
		out.Warranties = appendMarked(out.Warranties, r.Warranties, func(v *api.InventoryItem) { v.Site = site })
		a := r.Advice
		out.Advice.LeadDays, out.Advice.Confidence = a.LeadDays, a.Confidence
		out.Advice.Kinds = appendMarked(out.Advice.Kinds, a.Kinds, func(v *api.StockNeed) { v.Site = site })
		out.Advice.Cover = appendMarked(out.Advice.Cover, a.Cover, func(v *api.StockCover) { v.Site = site })
		for _, pool := range a.Uncovered {
			out.Advice.Uncovered = append(out.Advice.Uncovered, site+": "+pool)
		}
		t, n := &out.Tests, &out.Notices
		t.Passed, t.Failed, t.Other = t.Passed+r.Tests.Passed, t.Failed+r.Tests.Failed, t.Other+r.Tests.Other
		t.Overdue, t.Never = t.Overdue+r.Tests.Overdue, t.Never+r.Tests.Never
		n.Opened, n.Dead, n.Replace = n.Opened+r.Notices.Opened, n.Dead+r.Notices.Dead, n.Replace+r.Notices.Replace
		n.Watch, n.Seen, n.Unseen = n.Watch+r.Notices.Watch, n.Seen+r.Notices.Seen, n.Unseen+r.Notices.Unseen
		// Half of all were seen within the longest of the sites' medians, since half of each site's were.
		n.MedianSeenSeconds = max(n.MedianSeenSeconds, r.Notices.MedianSeenSeconds)
	}
	slices.SortStableFunc(out.Flagged, func(a, b api.PeriodFlag) int { return a.At.Compare(b.At) })
	slices.SortStableFunc(out.Swaps, func(a, b api.PeriodSwap) int { return a.EndedAt.Compare(b.EndedAt) })
	slices.SortStableFunc(out.Recoveries, func(a, b api.PeriodRecovery) int { return a.EndedAt.Compare(b.EndedAt) })
	slices.SortStableFunc(out.Warranties, func(a, b api.InventoryItem) int { return a.WarrantyDays - b.WarrantyDays })
	slices.SortStableFunc(out.Capacity, views.FullFirst)
	out.Money, out.Failures = mergeMoney(parts), mergeFailures(parts)
	out.First = first(parts, out)
	return out
}

// mergeMoney adds what was bought, by currency.
func mergeMoney(parts []part) []api.PeriodMoney {
	out := []api.PeriodMoney{}
	for _, p := range parts {
		for _, m := range p.report.Money {
			i := slices.IndexFunc(out, func(v api.PeriodMoney) bool { return v.Currency == m.Currency })
			if i < 0 {
				out = append(out, m)
				continue
			}
			a, _ := new(big.Rat).SetString(out[i].Sum) // reportOf has seen that it is a number
			b, _ := new(big.Rat).SetString(m.Sum)
			out[i].Sum, out[i].Drives = a.Add(a, b).FloatString(2), out[i].Drives+m.Drives
		}
	}
	slices.SortFunc(out, func(a, b api.PeriodMoney) int { return cmp.Compare(a.Currency, b.Currency) })
	return out
}

// mergeFailures makes rates over all sites from the failures and drive-years of each. Survival cannot be merged from
// curves, so there is none.
func mergeFailures(parts []part) api.Failures {
	out := api.Failures{Groups: []api.FailureRate{}, Survival: []api.SurvivalPoint{}}
	groups := map[string][]reliability.Rate{}
	var all []reliability.Rate
	var says, sites []string
	of := func(r api.FailureRate) reliability.Rate {
		return reliability.Rate{Drives: r.Drives, Years: r.DriveYears, Failures: r.Failures}
	}
	for _, p := range parts {
		f := p.report.Failures
		out.By, out.Counts, out.Confidence = f.By, f.Counts, f.Confidence
		all = append(all, of(f.All))
		for _, g := range f.Groups {
			groups[g.Name] = append(groups[g.Name], of(g))
		}
		says, sites = append(says, f.Says), append(sites, p.site+": "+f.Says)
	}
	if says = slices.Compact(says); len(says) > 1 {
		says = sites // they differ
	}
	out.Says = strings.Join(says, "; ")
	out.All = views.ViewRate("all", reliability.Together(all, out.Confidence))
	for name, rates := range groups {
		out.Groups = append(out.Groups, views.ViewRate(name, reliability.Together(rates, out.Confidence)))
	}
	slices.SortFunc(out.Groups, func(a, b api.FailureRate) int {
		return cmp.Or(cmp.Compare(b.Low, a.Low), cmp.Compare(b.PerYear, a.PerYear), cmp.Compare(a.Name, b.Name))
	})
	return out
}

// first is what a reader needs first: the sites that are missing, the sums, then what each site says.
func first(parts []part, r api.PeriodReport) []string {
	out := []string{}
	for _, x := range r.Sites {
		out = append(out, fmt.Sprintf("Nothing of %s is in this report: %s.", x.Name, x.Says))
	}
	dead := 0
	for _, f := range r.Flagged {
		if f.Verdict == api.Dead {
			dead++
		}
	}
	if len(parts) > 0 {
		out = append(out, fmt.Sprintf("%s: %s flagged replace or dead (%d dead); %s ended; %s failed.",
			words.Count(len(parts), "site"), words.Count(len(r.Flagged), "drive"), dead, words.Count(len(r.Swaps), "swap"),
			words.Count(r.Tests.Failed, "self-test")))
	}
	for _, p := range parts {
		out = append(out, p.site+": "+strings.Join(p.report.First, " "))
	}
	return out
}
