package service

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/record"
	"lantern/internal/core/swap"
	"lantern/internal/store"
	"lantern/internal/wire"
)

func viewSwapDrive(d swap.Drive) api.SwapDrive {
	return api.SwapDrive{Key: d.Key(), Tail: d.Tail(), Model: d.Model, Serial: d.Serial, CapacityBytes: int64(d.Capacity), Bay: d.Bay}
}

func viewChecks(in []record.Check) []api.Check {
	out := make([]api.Check, len(in))
	for i, c := range in {
		out[i] = api.Check{Id: c.ID, Title: c.Title, Looked: c.Looked, Found: c.Found, Do: c.Do, Result: api.CheckResult(c.Result), Loses: c.Loses}
	}
	return out
}

func viewLog(in []record.Entry) []api.LogEntry {
	out := []api.LogEntry{}
	for _, e := range in {
		out = append(out, api.LogEntry{At: e.At, Who: e.Who, Says: e.Says})
	}
	return out
}

func (s *Service) viewSwap(w *swapState) api.Swap {
	out := api.Swap{Id: w.ID, Version: w.version, Phase: api.SwapPhase(w.Phase), Open: w.Phase.Open(), Pool: w.Pool, Slot: w.Slot, Host: w.Host,
		Old: viewSwapDrive(w.Old), OldGone: w.OldGone, NeedsBytes: int64(w.Needs), AtMostBytes: int64(w.AtMost), Lead: w.Lead, Refused: w.Refused, RefusedTail: w.RefusedTail,
		Checks: []api.Check{}, Closing: viewChecks(w.Closing), Steps: []api.Step{}, Log: viewLog(w.Log), Recipe: w.Recipe.Name, Why: w.Recipe.Why, Into: w.Recipe.Into,
		Held: w.Held, Hold: w.Hold, Stuck: w.Stuck, Loses: w.Loses, Backup: w.Backup, Gate: viewChecks(w.Gate), Began: viewChecks(w.Began), Admitted: viewChecks(w.Admitted),
		PlannedAt: w.PlannedAt, BegunAt: w.BegunAt, EndedAt: w.EndedAt, Places: s.viewSeats(w), ByHand: w.Recipe.Hand, Spare: w.Recipe.Spare}
	if w.Phase == swap.Planned {
		out.Checks = viewChecks(swap.Checks(s.situation(w.State)))
	}
	if w.New != nil {
		out.New = viewSwapDrive(*w.New)
		if w.Phase == swap.Confirm || w.Phase == swap.Planned {
			// Whoever confirms must have read the label, not this answer (R3).
			out.New.Tail, out.New.Serial = "", ""
		}
	}
	if _, looked := s.newcomer(w); looked != nil {
		out.Gate = viewChecks(looked)
	}
	for _, x := range w.Wrong {
		says := fmt.Sprintf("Put %s back into %s.", x.Tail(), cmp.Or(x.Bay, "its place"))
		says += " Without it, " + w.Pool + ": " + x.Margin.String() + "."
		old := x.Key() == w.Old.Key()
		if old && w.Phase != swap.Planned {
			says += " If it died, go on without it, with a reason: lantern swap next " + x.Tail() + " --reason \"it died\"."
		} else if old {
			says += " If it died, begin with a reason."
		}
		out.Wrong = append(out.Wrong, api.WrongDrive{Tail: x.Tail(), Bay: x.Bay, At: x.At, Old: old, Says: says})
	}
	rank := w.Recipe.Rank(w.Phase)
	for i, st := range w.Steps() {
		state := api.StepStateNext
		switch {
		case w.Phase == swap.Closed || i < rank:
			state = api.StepStatePast
		case i == rank:
			state = api.StepStateNow
		}
		out.Steps = append(out.Steps, api.Step{Phase: string(st.Phase), Kind: api.StepKind(st.Kind), Title: st.Title, What: st.What, Why: st.Why, Expect: st.Expect,
			Needs: st.Needs, Takes: s.takes(w, st), IfNot: st.IfNot, Acts: st.Acts && !(w.Begun || w.Ordered), State: state})
	}
	if c := s.recov[w.Recovery]; c != nil {
		out.Recovery = s.viewRecovery(c, w.Phase.Open())
	} else if c := s.newest(w.PoolID, ""); c != nil && running(c) && w.Phase.Open() && w.Phase != swap.Planned && (w.Hold != "" || slices.Contains(awaited[w.Phase], string(c.Kind))) {
		out.Recovery = s.viewRecovery(c, true) // a drain, a scrub: what the step waits for, or is held by
	}
	for _, l := range s.lights {
		if l.Bay == w.Old.Bay && w.Old.Bay != "" {
			out.Light = l.Light
		}
	}
	if w.Fate != nil {
		out.Fate = api.OldFate{Fate: api.OldFateFate(w.Fate.Kind), At: w.Fate.At, By: w.Fate.By, Note: w.Fate.Note}
	}
	if w.Phase == swap.Closed {
		out.Siblings = s.kin(w.Old.Key())
	}
	for _, c := range s.campaigns {
		for _, it := range c.Items {
			if it.Swap == w.ID {
				out.Campaign = c.ID
			}
		}
	}
	return out
}

// awaited are the kinds of recovery that a step waits for.
var awaited = map[swap.Phase][]string{swap.Recover: {"resilver", "rebuild", "rebalance"}, swap.Refill: {"rebalance"}, swap.Drain: {"drain"}, swap.Scrub: {"scrub"}}

// takes is how long a step usually takes: from this pool's own past where there is one.
func (s *Service) takes(w *swapState, st swap.Step) string {
	kinds := awaited[st.Phase]
	var least, most time.Duration
	n := 0
	for _, c := range s.recov {
		if c.PoolID != w.PoolID || !slices.Contains(kinds, string(c.Kind)) || c.State != "finished" {
			continue
		}
		d := c.EndedAt.Sub(c.StartedAt).Round(time.Minute)
		if n++; n == 1 || d < least {
			least = d
		}
		most = max(most, d)
	}
	switch {
	case n == 0 || most < time.Minute:
		return st.Takes
	case n == 1:
		return fmt.Sprintf("%s took %s the last time", kindWords(kinds), short(most))
	}
	return fmt.Sprintf("%s to %s, as %d times before", short(least), short(most), n)
}

func kindWords(kinds []string) string {
	if len(kinds) == 1 {
		return "the " + kinds[0]
	}
	return "it"
}

// short writes a duration in hours and minutes.
func short(d time.Duration) string {
	if d < time.Hour {
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

// kin are the drives of the same batch, and how they are.
func (s *Service) kin(key string) []api.Sibling {
	d := s.drives[key]
	if d == nil {
		return nil
	}
	var out []api.Sibling
	of := s.judge()
	for _, k := range s.batchOf(d) {
		x := s.drives[k]
		if k == key || x == nil {
			continue
		}
		v := api.Sibling{Key: k, Tail: x.tail(), Bay: x.bay(), Verdict: api.Verdict(of[k].verdict)}
		if p, _, _ := s.member(k); p != nil {
			v.Pool = p.Name
		}
		if fs := of[k].findings; len(fs) > 0 {
			v.Says = fs[0].Says
		}
		out = append(out, v)
	}
	return out
}

// Report is the record of a swap: what was seen, done and said, by whom and when, and how long at which margin.
func (s *Service) Report(id string) (api.SwapReport, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	w := s.swaps[id]
	if w == nil {
		return api.SwapReport{}, problem(404, "no-swap", "List them with: lantern swap list", "There is no swap %q.", id)
	}
	now := s.clock.Now()
	end := w.EndedAt
	if end.IsZero() {
		end = now
	}
	out := api.SwapReport{Practice: s.practice, Swap: s.viewSwap(w), WrittenAt: now, Steps: []api.StepTaken{}, Margins: []api.MarginStood{}, People: []string{}}
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
			out.Steps = append(out.Steps, api.StepTaken{Phase: string(v.Phase), Title: titles[v.Phase], From: v.At, Seconds: until.Sub(v.At).Seconds()})
		}
	}
	for i, m := range w.Margins {
		until := end
		if i+1 < len(w.Margins) {
			until = w.Margins[i+1].At
		}
		out.Margins = append(out.Margins, api.MarginStood{Margin: wire.Margin(m.Margin, m.Known), From: m.At, Seconds: until.Sub(m.At).Seconds()})
	}
	for _, e := range w.Log {
		if e.Who != record.Seen && !slices.Contains(out.People, e.Who) {
			out.People = append(out.People, e.Who)
		}
	}
	if d := s.drives[w.Old.Key()]; d != nil {
		out.Old = s.viewDrive(d, s.places()[d.Desc.Key()], true)
	}
	if w.New != nil && w.Phase != swap.Confirm {
		if d := s.drives[w.New.Key()]; d != nil {
			out.New = s.viewDrive(d, s.places()[d.Desc.Key()], true)
			if a := s.acceptances[d.Accepted.ID]; a != nil {
				out.Accepted = s.viewAcceptance(a)
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

// Evidence is what the return of a drive under warranty is argued with: what it is, what was found and since when, every
// reading, every self-test, the pages that could not be read as they came, and the record of its swap.
func (s *Service) Evidence(id string) (files []EvidenceFile, tail string, err error) {
	r, err := s.Report(id)
	if err != nil {
		return nil, "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	w := s.swaps[id]
	d := s.drives[w.Old.Key()]
	if d == nil {
		return nil, "", problem(404, "no-drive", "", "Nothing is known of %s.", w.Old.Tail())
	}
	now := s.clock.Now()
	add := func(name string, b []byte) { files = append(files, EvidenceFile{name, now, b}) }
	text := func(v any) []byte {
		b, _ := json.MarshalIndent(v, "", "  ")
		return b
	}
	var sum strings.Builder
	if s.practice.Pool != "" {
		fmt.Fprintf(&sum, "PRACTICE on a copy of %s: none of this happened.\n\n", s.practice.Pool)
	}
	fmt.Fprintf(&sum, "%s, serial %s\nWWN %s, firmware %s, %d bytes\n", d.Desc.Model, d.Desc.Serial, d.Desc.WWN, d.Desc.Firmware, uint64(d.Desc.Capacity))
	if p, ok := d.record["power_on_hours"].Last(); ok {
		fmt.Fprintf(&sum, "power-on hours %.0f, read %s\n", p.Value, p.At.UTC().Format(time.RFC3339))
	}
	fmt.Fprintf(&sum, "\nWhat was found:\n")
	for _, f := range r.Old.Findings {
		fmt.Fprintf(&sum, "- %s: %s, since %s\n", f.Verdict, f.Says, f.Since.UTC().Format(time.RFC3339))
		for _, e := range f.Evidence {
			fmt.Fprintf(&sum, "    %s (%s, %s)\n", e.Says, e.Source, e.At.UTC().Format(time.RFC3339))
		}
	}
	add("summary.txt", []byte(sum.String()))
	add("drive.json", text(r.Old))
	add("swap.json", text(r))
	var csv strings.Builder
	csv.WriteString("at,metric,value\n")
	for _, n := range slices.Sorted(maps.Keys(d.record)) {
		for _, p := range d.record[n] {
			fmt.Fprintf(&csv, "%s,%s,%v\n", p.At.UTC().Format(time.RFC3339), n, p.Value)
		}
	}
	add("readings.csv", []byte(csv.String()))
	runs, err := store.All[store.TestRun](s.store, "id", "drive = ?", w.Old.Key())
	if err != nil {
		return nil, "", err
	}
	var tests []json.RawMessage
	for _, t := range runs {
		tests = append(tests, t.Doc)
	}
	add("self-tests.json", text(map[string]any{"log": d.Reading.Tests, "runs": tests}))
	pages, err := store.All[store.BadPage](s.store, "at", "drive = ?", w.Old.Key())
	if err != nil {
		return nil, "", err
	}
	for i, p := range pages {
		add(fmt.Sprintf("page-%03d-%s.bin", i+1, p.Kind), p.Bytes)
	}
	return files, w.Old.Tail(), nil
}
