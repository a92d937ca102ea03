package service

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/words"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// Limits of a report's period.
const (
	usualPeriod = 30 * 24 * time.Hour
	mostPeriod  = 5 * 366 * 24 * time.Hour
)

// period is the scope of a report.
type period struct {
	from, to time.Time
	pool     string
	pools    map[string]bool // included pools; nil for all
	room     string
	inRoom   map[string]bool // hosts; nil for all
	now      time.Time
	fleet    []api.Pool
	drivesOf map[string]api.Drive // by key
}

func (p period) has(at time.Time) bool { return !at.Before(p.from) && at.Before(p.to) }

func (p period) about(pool string) bool { return p.pools == nil || p.pools[pool] }

// Period makes a report on the time between two moments: failures and replacements, self-tests, notices and how fast
// they were seen, and what must be bought.
func (s *Service) Period(asked api.GetReportParams) (out api.PeriodReport, err error) {
	p, err := s.period(asked)
	if err != nil {
		return out, err
	}
	out = api.PeriodReport{From: p.from, To: p.to, WrittenAt: p.now, Pool: p.pool, Room: p.room, Practice: s.practice()}
	for _, part := range []func(period, *api.PeriodReport) error{
		s.periodFlags, s.periodSwaps, s.periodRecoveries, s.periodTests, s.periodNotices, s.periodCapacity, s.periodInventory,
		s.periodAdvice,
	} {
		if err := part(p, &out); err != nil {
			return out, err
		}
	}
	out.First = periodFirst(p, out)
	return out, nil
}

func (s *Service) practice() api.Practice {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.Fleet.Practice
}

// period parses the request, and finds its scope.
func (s *Service) period(asked api.GetReportParams) (p period, err error) {
	p = period{
		from:  asked.From,
		to:    asked.To,
		pool:  asked.Pool,
		room:  asked.Room,
		now:   s.Clock.Now(),
		fleet: s.Views.AllPools(),
	}
	if p.to.IsZero() || p.to.After(p.now) {
		p.to = p.now
	}
	if p.from.IsZero() {
		p.from = p.to.Add(-usualPeriod)
	}
	if !p.from.Before(p.to) || p.to.Sub(p.from) > mostPeriod {
		return p, problem.New(
			422,
			"bad-span",
			"Such as from 2026-11-01 to 2026-12-01.",
			"A report covers a period of up to five years that has begun.",
		)
	}
	if err := s.narrow(&p); err != nil {
		return p, err
	}
	p.drivesOf = map[string]api.Drive{}
	for cursor := ""; ; {
		page, err := s.Views.Drives(api.ListDrivesParams{Limit: 500, Cursor: cursor})
		if err != nil {
			return p, err
		}
		for _, d := range page.Drives {
			p.drivesOf[d.Key] = d
		}
		if cursor = page.Next; cursor == "" {
			return p, nil
		}
	}
}

// narrow finds the pools of a pool or room name.
func (s *Service) narrow(p *period) error {
	if p.room != "" {
		p.inRoom = map[string]bool{}
		for _, h := range s.Views.Hosts() {
			if h.Room == p.room {
				p.inRoom[h.Name] = true
			}
		}
		if len(p.inRoom) == 0 {
			return problem.New(404, "no-room", "See the rooms: lantern host list", "No host stands in a room %q.", p.room)
		}
	}
	if p.pool != "" || p.room != "" {
		p.pools = map[string]bool{}
		for _, x := range p.fleet {
			if (p.pool == "" || x.Name == p.pool) &&
				(p.room == "" || slices.ContainsFunc(x.Hosts, func(h string) bool { return p.inRoom[h] })) {
				p.pools[x.Name] = true
			}
		}
		if p.pool != "" && len(p.pools) == 0 {
			if _, err := s.Views.Pool(p.pool); err != nil {
				return err
			}
		}
	}
	return nil
}

// periodFlags are the drives that became "replace" or "dead", each once with the worst verdict.
func (s *Service) periodFlags(p period, out *api.PeriodReport) error {
	out.Flagged = []api.PeriodFlag{}
	rows, err := store.All[store.FoundLog](
		s.Store,
		"id",
		"(turn like '%dead' or turn like '%replace') and at >= ? and at < ?",
		p.from,
		p.to,
	)
	if err != nil {
		return err
	}
	at := map[string]int{}
	for _, row := range rows {
		verdict := health.Replace
		if strings.HasSuffix(row.Turn, string(health.Dead)) {
			verdict = health.Dead
		}
		d, known := p.drivesOf[row.Drive]
		var f health.Finding
		if !known || !p.about(d.Pool) || json.Unmarshal(row.Doc, &f) != nil {
			continue
		}
		v := api.PeriodFlag{
			At:      row.At,
			Drive:   d.Key,
			Tail:    d.Tail,
			Place:   d.Bay,
			Pool:    d.Pool,
			Verdict: api.Verdict(verdict),
			Says:    f.Says,
		}
		if i, told := at[row.Drive]; told {
			if verdict == health.Dead && out.Flagged[i].Verdict != api.Dead {
				out.Flagged[i] = v
			}
			continue
		}
		at[row.Drive] = len(out.Flagged)
		out.Flagged = append(out.Flagged, v)
	}
	return nil
}

func (s *Service) periodSwaps(p period, out *api.PeriodReport) error {
	out.Swaps = []api.PeriodSwap{}
	for _, w := range s.Swaps.Swaps(false) {
		if w.EndedAt.IsZero() || !p.has(w.EndedAt) || !p.about(w.Pool) {
			continue
		}
		r, err := s.Views.Report(w.Id)
		if err != nil {
			return err
		}
		v := api.PeriodSwap{
			Id:      w.Id,
			Pool:    w.Pool,
			Old:     w.Old.Tail,
			New:     w.New.Tail,
			Phase:   string(w.Phase),
			Lead:    w.Lead,
			EndedAt: w.EndedAt,
			Fate:    string(w.Fate.Fate),
			Margins: r.Margins,
		}
		if !w.BegunAt.IsZero() {
			v.Seconds = w.EndedAt.Sub(w.BegunAt).Seconds()
		}
		out.Swaps = append(out.Swaps, v)
	}
	return nil
}

func (s *Service) periodRecoveries(p period, out *api.PeriodReport) error {
	out.Recoveries = []api.PeriodRecovery{}
	all, err := s.Progress.Recoveries("", 0)
	if err != nil {
		return err
	}
	for _, r := range all {
		if r.EndedAt.IsZero() || !p.has(r.EndedAt) || !p.about(r.Pool) {
			continue
		}
		out.Recoveries = append(
			out.Recoveries,
			api.PeriodRecovery{Id: r.Id, Pool: r.Pool, Kind: string(r.Kind), State: string(r.State), EndedAt: r.EndedAt,
				Seconds: r.EndedAt.Sub(r.StartedAt).Seconds(), DoneBytes: r.DoneBytes, Unrepairable: r.Unrepairable},
		)
	}
	return nil
}

func (s *Service) periodTests(p period, out *api.PeriodReport) error {
	runs, err := s.Selftests.TestRuns("")
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.EndedAt.IsZero() || !p.has(r.EndedAt) || !p.about(r.Pool) {
			continue
		}
		switch string(r.State) {
		case "passed":
			out.Tests.Passed++
		case "failed":
			out.Tests.Failed++
		default:
			out.Tests.Other++
		}
	}
	standing, err := s.Selftests.TestStanding(api.GetTestStandingParams{Pool: p.pool, Limit: 1})
	out.Tests.Overdue, out.Tests.Never = standing.Counts["overdue"], standing.Counts["never"]
	return err
}

func (s *Service) periodNotices(p period, out *api.PeriodReport) error {
	all, err := s.Notices.Notices(true)
	if err != nil {
		return err
	}
	var took []float64
	for _, n := range all {
		if !p.has(n.OpenedAt) || !p.about(n.Pool) && n.Pool != "" {
			continue
		}
		out.Notices.Opened++
		switch n.Worst {
		case api.Dead:
			out.Notices.Dead++
		case api.Replace:
			out.Notices.Replace++
		default:
			out.Notices.Watch++
		}
		if n.AcknowledgedAt.IsZero() {
			out.Notices.Unseen++
			continue
		}
		out.Notices.Seen++
		took = append(took, n.AcknowledgedAt.Sub(n.OpenedAt).Seconds())
	}
	if len(took) > 0 {
		slices.Sort(took)
		out.Notices.MedianSeenSeconds = took[len(took)/2]
	}
	return nil
}

func (s *Service) periodCapacity(p period, out *api.PeriodReport) (err error) {
	out.Capacity, err = s.capacityOf(slices.DeleteFunc(slices.Clone(p.fleet),
		func(x api.Pool) bool { return !p.about(x.Name) }), 0)
	return err
}

// periodInventory are warranties that end soon, and the cost of purchases.
func (s *Service) periodInventory(p period, out *api.PeriodReport) error {
	out.Warranties, out.Money = []api.InventoryItem{}, []api.PeriodMoney{}
	all, err := s.Inventory.InventoryItems("", "")
	if err != nil {
		return err
	}
	sums, counts := map[string]*big.Rat{}, map[string]int{}
	for _, v := range all {
		if v.Fields["warranty"] != "" && v.WarrantyDays >= 0 && v.WarrantyDays < 90 && v.Seen == api.InventoryItemSeenNow &&
			p.about(v.Pool) {
			out.Warranties = append(out.Warranties, v)
		}
		day, err := time.Parse(time.DateOnly, v.Fields["purchased"])
		price, ok := new(big.Rat).SetString(v.Fields["price"])
		if err != nil || !ok || !p.has(day) || p.pools != nil {
			continue
		}
		c := v.Fields["currency"]
		if sums[c] == nil {
			sums[c] = new(big.Rat)
		}
		sums[c].Add(sums[c], price)
		counts[c]++
	}
	for c, sum := range sums {
		out.Money = append(out.Money, api.PeriodMoney{Currency: c, Drives: counts[c], Sum: sum.FloatString(2)})
	}
	slices.SortFunc(out.Money, func(a, b api.PeriodMoney) int { return cmp.Compare(a.Currency, b.Currency) })
	slices.SortFunc(out.Warranties, func(a, b api.InventoryItem) int {
		return cmp.Or(cmp.Compare(a.WarrantyDays, b.WarrantyDays), cmp.Compare(a.Serial, b.Serial))
	})
	return nil
}

func (s *Service) periodAdvice(_ period, out *api.PeriodReport) (err error) {
	if out.Advice, err = s.Views.Advice(0, 0); err != nil {
		return err
	}
	out.Failures, err = s.Views.Failures(api.GetFailuresParams{})
	return err
}

// periodFirst is the summary for the reader.
func periodFirst(p period, r api.PeriodReport) (out []string) {
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	low, unknown := []string{}, []string{}
	for _, x := range p.fleet {
		switch {
		case !p.about(x.Name):
		case !x.Margin.Known || x.Stale:
			unknown = append(unknown, x.Name)
		case x.Margin.Members == 0 && x.FullMargin > 0:
			low = append(low, x.Name)
		}
	}
	if len(unknown) > 0 {
		say("The state of %s is not known now.", strings.Join(unknown, ", "))
	}
	if len(low) > 0 {
		say("%s cannot lose another drive now.", strings.Join(low, ", "))
	}
	dead := 0
	for _, f := range r.Flagged {
		if f.Verdict == api.Dead {
			dead++
		}
	}
	switch {
	case len(r.Flagged) == 0:
		say("No drive was flagged replace or dead in this period.")
	default:
		say(
			"%s flagged replace or dead (%d dead); %s ended.",
			words.Count(len(r.Flagged), "drive"),
			dead,
			words.Count(len(r.Swaps), "swap"),
		)
	}
	if r.Tests.Failed > 0 || r.Tests.Overdue > 0 {
		say(
			"%s failed; those of %s are overdue.",
			words.Count(r.Tests.Failed, "self-test"),
			words.Count(r.Tests.Overdue, "drive"),
		)
	}
	for _, k := range r.Advice.Kinds {
		if k.Buy > 0 {
			say("Buy %s of %s: %s.", words.Count(k.Buy, strings.TrimSpace(k.Medium+" drive")), size(k.CapacityBytes), k.Says)
		}
	}
	for _, c := range r.Capacity {
		if !c.Soonest.IsZero() && c.Soonest.Before(p.now.AddDate(0, 3, 0)) {
			say("%s may be full by %s.", c.Pool, c.Soonest.Format(time.DateOnly))
		}
	}
	if n := len(r.Warranties); n > 0 {
		say("The warranty of %s ends in the next 90 days.", words.Count(n, "drive"))
	}
	return out
}

func size(bytes int64) string { return fmt.Sprintf("%.3g TB", float64(bytes)/1e12) }

// SendReports sends the reports on a period that are due; page makes a page of one.
func (s *Service) SendReports(page func(api.PeriodReport) (string, error)) error {
	due, err := s.Notices.DueReports()
	for _, r := range due {
		one := func() error {
			v, err := s.Period(api.GetReportParams{From: r.From, To: r.To, Pool: r.Pool})
			if err != nil {
				return err
			}
			whole, err := page(v)
			if err != nil {
				return err
			}
			return s.Notices.SendReport(r, v, whole)
		}
		if failed := one(); failed != nil {
			err = errors.Join(err, fmt.Errorf("the report for the channel %s: %w", r.Channel, failed))
		}
	}
	return err
}
