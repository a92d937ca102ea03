package views

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/record"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// Report is the record of a swap: observations and actions, by whom and when, and the time at each margin.
func (s *Service) Report(id string) (api.SwapReport, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	w := s.swaps.SwapByID[id]
	if w == nil {
		return api.SwapReport{}, problem.New(
			404,
			"no-swap",
			"List them with: lantern swap list",
			"No swap %q.",
			id,
		)
	}
	now := s.Clock.Now()
	end := w.EndedAt
	if end.IsZero() {
		end = now
	}
	out := api.SwapReport{
		Practice:  s.fleet.Practice,
		Swap:      s.swaps.ViewSwap(w),
		WrittenAt: now,
		Steps:     []api.StepTaken{},
		Margins:   []api.MarginStood{},
		People:    []string{},
	}
	titles := map[swap.Phase]string{}
	for _, st := range w.Steps() {
		titles[st.Phase] = st.Title
	}
	for i, v := range w.Visited {
		until := end
		if i+1 < len(w.Visited) {
			until = w.Visited[i+1].At
		}
		if v.Phase.Open() {
			out.Steps = append(
				out.Steps,
				api.StepTaken{
					Phase:   string(v.Phase),
					Title:   titles[v.Phase],
					From:    v.At,
					Seconds: until.Sub(v.At).Seconds(),
				},
			)
		}
	}
	for i, m := range w.Margins {
		until := end
		if i+1 < len(w.Margins) {
			until = w.Margins[i+1].At
		}
		out.Margins = append(
			out.Margins,
			api.MarginStood{Margin: wire.Margin(m.Margin, m.Known), From: m.At, Seconds: until.Sub(m.At).Seconds()},
		)
	}
	for _, e := range w.Log {
		if e.Who != record.Seen && !slices.Contains(out.People, e.Who) {
			out.People = append(out.People, e.Who)
		}
	}
	if d := s.fleet.Drives[w.Old.Key()]; d != nil {
		out.Old = s.viewDrive(d, s.judging.Places()[d.Key()], true)
	}
	if w.New != nil && w.Phase != swap.Confirm {
		if d := s.fleet.Drives[w.New.Key()]; d != nil {
			out.New = s.viewDrive(d, s.judging.Places()[d.Key()], true)
			if a := s.stock.AcceptanceByID[d.Accepted.ID]; a != nil {
				out.Accepted = s.stock.ViewAcceptance(a)
			}
		}
	}
	return out, nil
}

// EvidenceFile is one file of a bundle of evidence.
type EvidenceFile struct {
	Name  string
	At    time.Time
	Bytes []byte
}

// Evidence supports the return of a drive under warranty: its identity, its findings with their times, every reading,
// every self-test, the raw pages that could not be decoded, and the record of its swap.
func (s *Service) Evidence(id string) (files []EvidenceFile, tail string, err error) {
	r, err := s.Report(id)
	if err != nil {
		return nil, "", err
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	w := s.swaps.SwapByID[id]
	d := s.fleet.Drives[w.Old.Key()]
	if d == nil {
		return nil, "", problem.New(404, "no-drive", "", "Nothing is known of %s.", w.Old.Tail())
	}
	files, err = s.evidenceOf(d, r.Old)
	swap, _ := json.MarshalIndent(r, "", "  ")
	return append(files, EvidenceFile{"swap.json", s.Clock.Now(), swap}), d.Tail(), err
}

// EvidenceNow is the same for any drive in its present state, with or without a swap.
func (s *Service) EvidenceNow(name string) (files []EvidenceFile, tail string, err error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	d, err := s.fleet.FindDrive(name)
	if err != nil {
		return nil, "", err
	}
	files, err = s.evidenceOf(d, s.viewDrive(d, s.judging.Places()[d.Key()], true))
	return files, d.Tail(), err
}

// evidenceOf gives the data of a drive as files: its identity and findings as displayed, and all data behind them.
func (s *State) evidenceOf(d *fleet.Drive, shown api.Drive) (files []EvidenceFile, err error) {
	now, key := s.Clock.Now(), d.Key()
	add := func(name string, b []byte) { files = append(files, EvidenceFile{name, now, b}) }
	text := func(v any) []byte {
		b, _ := json.MarshalIndent(v, "", "  ")
		return b
	}
	add("summary.txt", []byte(s.evidenceSummary(d, shown)))
	add("drive.json", text(shown))
	var csv strings.Builder
	csv.WriteString("at,metric,value\n")
	for _, n := range slices.Sorted(maps.Keys(d.Record)) {
		for _, p := range d.Record[n] {
			fmt.Fprintf(&csv, "%s,%s,%v\n", p.At().UTC().Format(time.RFC3339), n, p.Value)
		}
	}
	add("readings.csv", []byte(csv.String()))
	runs, err := store.All[store.TestRun](s.Store, "id", "drive = ?", key)
	if err != nil {
		return nil, err
	}
	var tests []json.RawMessage
	for _, t := range runs {
		tests = append(tests, t.Doc)
	}
	add("self-tests.json", text(map[string]any{"log": dated(d), "runs": tests}))
	pages, err := store.All[store.BadPage](s.Store, "at", "drive = ?", key)
	if err != nil {
		return nil, err
	}
	for i, p := range pages {
		add(fmt.Sprintf("page-%03d-%s.bin", i+1, p.Kind), p.Bytes)
	}
	return files, nil
}

// evidenceSummary is the first file of a bundle, for people.
func (s *State) evidenceSummary(d *fleet.Drive, shown api.Drive) string {
	var sum strings.Builder
	if s.fleet.Practice.Pool != "" {
		fmt.Fprintf(&sum, "REHEARSAL on a copy of %s: none of this happened.\n\n", s.fleet.Practice.Pool)
	}
	fmt.Fprintf(
		&sum,
		"%s, serial %s\nWWN %s, firmware %s, %d bytes\n",
		d.Desc.Model,
		d.Desc.Serial,
		d.Desc.WWN,
		d.Desc.Firmware,
		uint64(d.Desc.Capacity),
	)
	if p, ok := d.Record["power_on_hours"].Last(); ok {
		fmt.Fprintf(&sum, "power-on hours %.0f, read %s\n", p.Value, p.At().UTC().Format(time.RFC3339))
	}
	if v, ok := s.inventory.ViewOf(d); ok {
		for _, name := range []string{"purchased", "supplier", "order", "warranty", "price", "currency", "asset", "batch",
			"contract"} {
			if text := v.Fields[name]; text != "" {
				fmt.Fprintf(&sum, "%s %s\n", name, text)
			}
		}
	}
	fmt.Fprintf(&sum, "\nWhat was found:\n")
	for _, f := range shown.Findings {
		fmt.Fprintf(&sum, "- %s: %s, since %s\n", f.Verdict, f.Says, f.Since.UTC().Format(time.RFC3339))
		for _, e := range f.Evidence {
			fmt.Fprintf(&sum, "    %s (%s, %s)\n", e.Says, e.Source, e.At.UTC().Format(time.RFC3339))
		}
	}
	if len(shown.Findings) == 0 {
		fmt.Fprintf(&sum, "nothing\n")
	}
	if tests := dated(d); len(tests) > 0 {
		fmt.Fprintf(&sum, "\nIts own log of self-tests:\n")
		for _, t := range tests {
			at := fmt.Sprintf("at %d power-on hours", t.Hours)
			if !t.At.IsZero() {
				at += ", " + map[bool]string{true: "about "}[t.About] + t.At.UTC().Format("2006-01-02 15:04Z")
			}
			fmt.Fprintf(&sum, "- %s: %s, %s\n", t.Kind, t.Result, at)
		}
	}
	return sum.String()
}

// dated are the self-tests of a drive's own log, with the times computed from their power-on hours.
func dated(d *fleet.Drive) []api.SelfTest {
	out := slices.Clone(d.Reading.Tests)
	hours := d.Record["power_on_hours"]
	now, _ := hours.Last()
	for i := range out {
		out[i].At, out[i].About = hours.Reached(fleet.TestHours(out[i].Hours, now.Value))
	}
	return out
}
