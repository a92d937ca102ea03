package views

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/service/fleet"
	"lantern/internal/service/inventory"
	"lantern/internal/service/judging"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// mostHappenings bounds the entries of one drive's past.
const mostHappenings = 200

// notesOf are people's notes about a drive, at the times of their events.
func (s *State) notesOf(d *fleet.Drive) (out []api.Happening, events map[string]bool) {
	out, events = []api.Happening{}, map[string]bool{}
	if i := s.inventory.Of(d); i != nil {
		for _, n := range i.Notes {
			out = append(out, api.Happening{At: n.When(), Kind: api.HappeningKindNote, Says: n.By + " noted: " + n.Text})
			events[inventory.NoteWords(n.By, i.Serial, n.Text)] = true
		}
	}
	return out, events
}

// happenings are the events of a drive: places, self-tests, swaps, and counter resets; the newest first.
func (s *State) happenings(d *fleet.Drive) []api.Happening {
	key := d.Key()
	rows, err := store.Newest[store.Event](
		s.Store,
		mostHappenings,
		"subject = ? and kind = ?",
		key,
		string(api.EventKindDrive),
	)
	if err != nil {
		s.Log.Error("what happened to a drive cannot be read", "drive", key, "error", err)
	}
	out, noted := s.notesOf(d)
	for _, e := range rows {
		if !noted[e.Says] {
			out = append(out, api.Happening{At: e.At, Kind: api.HappeningKindPlace, Says: e.Says})
		}
	}
	logs, err := store.Newest[store.FoundLog](s.Store, mostHappenings, "drive = ?", key)
	if err != nil {
		s.Log.Error("what was found of a drive cannot be read", "drive", key, "error", err)
	}
	for _, l := range logs {
		var f health.Finding
		if json.Unmarshal(l.Doc, &f) != nil || f.Verdict == health.Sound {
			continue // a remark is no event
		}
		out = append(
			out,
			api.Happening{
				At:   l.At,
				Kind: api.HappeningKindFinding,
				Says: fmt.Sprintf("%s %s: %s", l.Rule, l.Turn, f.Says),
			},
		)
	}
	hours := d.Record["power_on_hours"]
	now, _ := hours.Last()
	for _, t := range d.Reading.Tests {
		at, about := hours.Reached(fleet.TestHours(t.Hours, now.Value))
		if at.IsZero() {
			continue // the drive does not report its age
		}
		out = append(
			out,
			api.Happening{
				At:    at,
				Kind:  api.HappeningKindTest,
				Says:  fmt.Sprintf("%s self-test: %s", t.Kind, t.Result),
				About: about,
			},
		)
	}
	for _, m := range drive.Catalogue {
		if m.Kind != drive.Counter {
			continue
		}
		for _, at := range d.Record[m.Name].Resets() {
			out = append(out, api.Happening{At: at, Kind: api.HappeningKindReset, Says: string(m.Name) + " was reset"})
		}
	}
	for _, w := range s.swaps.SwapByID {
		as := "is replaced"
		if w.New != nil && w.New.Key() == key {
			as = "comes in"
		} else if w.Old.Key() != key {
			continue
		}
		what := strings.Trim(fmt.Sprintf("in %s, slot %s", w.Pool, w.Slot), " ")
		if !w.StartedAt.IsZero() {
			out = append(
				out,
				api.Happening{
					At:   w.StartedAt,
					Kind: api.HappeningKindSwap,
					Says: "a swap begins in which it " + as + ", " + what,
				},
			)
		}
		if !w.EndedAt.IsZero() {
			out = append(
				out,
				api.Happening{
					At:   w.EndedAt,
					Kind: api.HappeningKindSwap,
					Says: fmt.Sprintf("that swap is %s, %s", w.Phase, what),
				},
			)
		}
	}
	slices.SortStableFunc(out, func(a, b api.Happening) int {
		return cmp.Or(b.At.Compare(a.At), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Says, b.Says))
	})
	return out[:min(len(out), mostHappenings)]
}

// Drive is one drive with all its data.
func (s *Service) Drive(name string) (api.Drive, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	d, err := s.fleet.FindDrive(name)
	if err != nil {
		return api.Drive{}, err
	}
	return s.viewDrive(d, s.judging.Places()[d.Key()], true), nil
}

func (s *State) viewDrive(d *fleet.Drive, at fleet.Place, whole bool) api.Drive {
	key := d.Key()
	j := s.judging.Judge()[key]
	out := api.Drive{
		Key:           key,
		Tail:          d.Tail(),
		Identity:      wire.Identity(d.Desc.Identity),
		Firmware:      d.Desc.Firmware,
		Medium:        string(d.Desc.Medium),
		RotationRpm:   d.Desc.RotationRPM,
		FormFactor:    d.Desc.FormFactor,
		CapacityBytes: int64(d.Desc.Capacity),
		LogicalSectorBytes: int(
			d.Desc.LogicalSector,
		),
		PhysicalSectorBytes: int(d.Desc.PhysicalSector),
		Host:                d.Host,
		Path:                d.Path,
		Bay:                 d.BayName(),
		BayConfirmed:        d.Section != "" && d.How.Sure(),
		BayHow:              string(d.How),
		Role:                api.DriveRoleNone,
		Holds:               d.Holds,
		Present:             d.Present,
		SeenAt:              d.SeenAt,
		FirstSeenAt:         d.FirstAt,
		Before:              identities(d.Before),
		ReadAt:              d.Reading.At,
		Verdict:             api.Verdict(j.Verdict),
		Findings:            []api.Finding{},
	}
	if v, ok := s.inventory.ViewOf(d); ok {
		out.Inventory = v
	}
	if d.Present {
		if h := s.fleet.Hosts[d.Host]; h != nil {
			out.SeenAt = h.SeenAt
		}
	}
	for _, f := range j.Findings {
		out.Findings = append(out.Findings, fleet.ViewFinding(f))
	}
	out.Says = sayVerdict(j)
	if h := s.fleet.Hosts[d.Host]; d.Present && h != nil && !s.fleet.Late(h, s.Clock.Now()) {
		out.Looked = d.Looked // earlier findings do not hold for an absent drive or a silent host
	}
	if at.Pool != nil {
		s.viewPlace(&out, key, at, whole)
	}
	if p, ok := d.Record["power_on_hours"].Last(); ok {
		out.PowerOnHours = int(p.Value)
	}
	if p, ok := d.Record["temperature_celsius"].Last(); ok {
		out.TemperatureCelsius = int(p.Value)
	}
	for _, l := range s.bays.LightByID {
		if l.Bay == out.Bay && out.Bay != "" && l.State != api.LightStateGoing {
			out.LitUntil = l.Until
		}
	}
	out.Swap = s.swaps.ByDrive()[key]
	out.Uses, out.Claims = s.fleet.ViewUses(d), s.fleet.ViewClaims(d)
	if !whole {
		return out
	}
	s.detailDrive(&out, d, at)
	return out
}

// sayVerdict is the summary of all findings: the worst one, or what is missing where the verdict is unknown.
func sayVerdict(j judging.Judged) string {
	says := "no findings"
	if len(j.Findings) > 0 {
		says = j.Findings[0].Says
	}
	if j.Verdict == health.Unknown && len(j.Findings) > 0 {
		for _, f := range j.Findings {
			if f.Verdict == health.Unknown {
				says = f.Says
				break
			}
		}
	}
	return says
}

// viewPlace gives the drive's place in its pool.
func (s *State) viewPlace(out *api.Drive, key string, at fleet.Place, whole bool) {
	out.Pool, out.Group, out.Slot, out.State = at.Pool.Name, at.Group, at.Member.Slot, string(at.Member.State)
	out.Role = api.DriveRoleMember
	if at.Group == "" {
		out.Role = api.DriveRoleSpare
		for _, l := range at.Pool.Logs {
			if l.Slot == at.Member.Slot {
				out.Role = api.DriveRoleLog
			}
		}
	}
	if whole {
		out.Margin, out.MarginAfter = s.judging.Margins(at, key)
	}
}

// detailDrive adds what only the page of one drive shows.
func (s *State) detailDrive(out *api.Drive, d *fleet.Drive, at fleet.Place) {
	out.Siblings = s.judging.BatchOf(d)
	out.Places, out.Paths, out.Layout = s.fleet.ViewPlaces(d.Key()), d.Paths, d.Layout
	out.Testing, out.Busy = d.Reading.Testing, d.Busy
	out.SelfTests, _ = s.selftests.DriveTests(
		d,
		at,
		s.selftests.CorePlans(nil, ""),
		s.selftests.TestsOf(d.Key()),
		s.Clock.Now(),
	)
	if d.Failed != nil {
		out.FailedAt = *d.Failed
	}
	out.TestKinds = slices.Sorted(maps.Keys(d.Reading.TestMinutes))
	out.Names, out.Blind, out.Happened = d.Names, d.Blind, s.happenings(d)
	out.Attributes, out.Tests, out.Unreadable = d.Reading.Attributes, dated(d), d.Reading.Unreadable
	out.Metrics = s.viewMetrics(d)
}

func (s *State) viewMetrics(d *fleet.Drive) []api.MetricValue {
	var out []api.MetricValue
	life, err := s.readings.Life(d)
	if err != nil {
		s.Log.Error("the life-long totals of a drive cannot be made out", "drive", d.Key(), "error", err)
	}
	for _, m := range drive.Catalogue {
		v, ok := s.fleet.ViewMetric(d, m)
		if !ok {
			continue
		}
		if m.Kind == drive.Counter || m.Unit == "sectors" {
			for _, g := range d.Record[m.Name].Rates(v.At, m.Kind == drive.Counter) {
				v.Growth = append(v.Growth, api.Growth{Hours: int(g.Over.Hours()), Grown: g.Grown, Whole: g.Whole})
			}
		}
		if m.Kind == drive.Counter {
			v.Total, v.Resets = life[m.Name].Total(v.Value), life[m.Name].Resets
		}
		out = append(out, v)
	}
	return out
}

// Trend is one metric of a drive over time, with its group's other members beside it.
func (s *Service) Trend(name, metric string, hours int) (api.Trend, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	d, err := s.fleet.FindDrive(name)
	if err != nil {
		return api.Trend{}, err
	}
	m, ok := drive.MetricByName(drive.MetricName(metric))
	if !ok {
		no := noMetric(metric)
		no.Status = 404 // it is part of the path
		return api.Trend{}, no
	}
	if hours <= 0 {
		hours = 30 * 24
	}
	since := s.Clock.Now().Add(-time.Duration(hours) * time.Hour)
	out := api.Trend{
		Drive:    d.Key(),
		Tail:     d.Tail(),
		Metric:   metric,
		Unit:     m.Unit,
		Means:    m.Means,
		MeansNot: m.MeansNot,
		Source:   d.Source(m.Name),
		Resets:   []time.Time{},
	}
	series, err := s.readings.Series(d.Key(), m.Name, since)
	if err != nil {
		return out, err
	}
	out.Points = points(series)
	if m.Kind == drive.Counter {
		out.Resets = append(out.Resets, series.Resets()...)
	}
	for _, k := range s.judging.Places()[d.Key()].Peers {
		if peer := s.fleet.Drives[k]; peer != nil && peer != d && len(out.Peers) < 24 {
			if ps := peer.Record[m.Name].Since(since); len(ps) > 0 {
				out.Peers = append(out.Peers, api.PeerTrend{Tail: peer.Tail(), Points: points(ps)})
			}
		}
	}
	return out, nil
}

func points(in history.Series) []api.Point {
	out := make([]api.Point, len(in))
	for i, p := range in {
		out[i] = api.Point{At: p.At(), Value: p.Value}
	}
	return out
}

func identities(all []drive.Identity) (out []api.Identity) {
	for _, i := range all {
		out = append(out, wire.Identity(i))
	}
	return out
}
