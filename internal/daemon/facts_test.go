package daemon

import (
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"lantern/internal/agent"
	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/bounds"
	"lantern/internal/core/swap"
	"lantern/internal/lab"
	"lantern/internal/service"
	"lantern/internal/store"
)

// stated are the statements of a service, each with a number that is higher the safer it sounds.
type stated map[string]int

func (s stated) margin(what string, m api.Margin) {
	if s[what] = -1; m.Known {
		s[what] = m.Members
	}
}

// outcomes are the outcomes of a loss, from unknown and bad to good.
var outcomes = []api.PoolOutcome{api.StaysUnknown, api.StaysLost, api.StaysUnreachable, api.StaysReduced, api.StaysSafe}

// states gives the statements of a service that got the first reports, if there are any, and then the others.
func states(t *testing.T, fleet *lab.Fleet, first, reports []api.Report) stated {
	dir, err := os.MkdirTemp("", "facts") // removed at once: each has a large file that reserves disk space
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	st, err := store.Open(filepath.Join(dir, "lantern.db"))
	require.NoError(t, err)
	defer st.Close()
	s, err := service.New(st, fleet.Clock(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	for _, h := range fleet.Hosts {
		_, err := s.Fleet.Enrol("ida", h.Name, false)
		require.NoError(t, err)
	}
	if first != nil {
		for _, r := range first {
			require.NoError(t, s.TakeReport(r.Host, r))
		}
		require.NoError(t, s.Tick())
		for i := range reports {
			reports[i].Id += "again"
		}
	}
	for _, r := range reports {
		_ = s.TakeReport(r.Host, r) // a refused report changes nothing
	}
	require.NoError(t, s.Tick())
	out := stated{}
	drives, err := s.Views.Drives(api.ListDrivesParams{})
	require.NoError(t, err)
	for _, d := range drives.Drives {
		if out["sound: "+d.Tail] = 0; d.Verdict == api.Sound {
			out["sound: "+d.Tail] = 1
		}
	}
	pools, _, err := s.Views.Pools(api.ListPoolsParams{})
	require.NoError(t, err)
	for _, p := range pools {
		p, err := s.Views.Pool(p.Id)
		require.NoError(t, err)
		out.margin("margin of pool "+p.Name, p.Margin)
		for _, g := range p.Groups {
			out.margin("margin of group "+p.Name+"/"+g.Name, g.Margin)
		}
		for _, v := range p.Volumes {
			out.margin("margin of volume "+p.Name+"/"+v.Name, v.Margin)
		}
		fit, err := s.Views.Fit(p.Id)
		require.NoError(t, err)
		for _, f := range fit {
			for _, c := range f.Candidates {
				out["fits "+p.Name+"/"+f.Slot+": "+c.Tail] = 1
			}
			if len(f.Candidates) > 0 {
				out["size of "+p.Name+"/"+f.Slot] = int(-f.LeastBytes >> 20)
			}
			w, err := s.Views.WhatIf(p.Id, []string{f.Slot}, 0, 0)
			if err != nil {
				continue
			}
			what := "loss of " + p.Name + "/" + f.Slot
			out[what] = slices.Index(outcomes, w.Outcome)
			for _, e := range w.Effects {
				out[what+" for "+e.Group+"/"+e.Volume] = slices.Index(outcomes, e.Outcome)
			}
		}
	}
	for _, d := range drives.Drives {
		what := "swap of " + d.Tail
		out[what] = 0
		w, err := s.Swaps.PlanSwap("ida", d.Key)
		if err != nil {
			if out["pull "+d.Tail] = 0; strings.Contains(err.Error(), "can be pulled") {
				out["pull "+d.Tail] = 1
			}
			continue
		}
		out[what] = 1
		for _, c := range w.Checks {
			if c.Result == api.Stops {
				out[what] = 0
			}
			out[what+": "+c.Id] = slices.Index([]api.CheckResult{api.Stops, api.Warns, api.Passes}, c.Result)
		}
		_, err = s.Swaps.ActOnSwap(swap.AbandonIt, "ida", w.Id, "", "the next one")
		require.NoError(t, err)
	}
	return out
}

// reportsOf are the reports of all hosts of a fleet, as JSON.
func reportsOf(t *testing.T, fleet *lab.Fleet) (out []string) {
	for _, h := range fleet.Hosts {
		a, err := agent.New(agent.Config{Host: h.Name, Machine: h,
			Pools: []pools.Driver{lab.Keeper{Fleet: fleet, Host: h.Name}}, Clock: fleet.Clock(),
			Log: slog.New(slog.DiscardHandler), Dir: t.TempDir(), Interval: time.Minute})
		require.NoError(t, err)
		r, err := a.Report(t.Context())
		require.NoError(t, err)
		r.Id = "of-" + h.Name
		text, err := json.Marshal(r)
		require.NoError(t, err)
		out = append(out, string(text))
	}
	return out
}

// place is a place in a JSON value: names, and the numbers of entries.
type place []any

func (p place) String() string {
	var b strings.Builder
	for _, x := range p {
		if name, ok := x.(string); ok {
			b.WriteString("." + name)
		} else {
			b.WriteString("[]")
		}
	}
	return b.String()
}

// placesIn are all places in a value, without the value itself.
func placesIn(v any, at place) (out []place) {
	add := func(key, x any) {
		next := append(slices.Clip(at), key)
		out = append(append(out, next), placesIn(x, next)...)
	}
	switch v := v.(type) {
	case map[string]any:
		for name, x := range v {
			add(name, x)
		}
	case []any:
		for i, x := range v {
			add(i, x)
		}
	}
	return out
}

// without removes what is at a place from a value.
func without(v any, at place) any {
	switch v := v.(type) {
	case map[string]any:
		name := at[0].(string)
		if len(at) == 1 {
			delete(v, name)
		} else if x, ok := v[name]; ok {
			v[name] = without(x, at[1:])
		}
		return v
	case []any:
		i := at[0].(int)
		if i >= len(v) {
			return v
		}
		if len(at) == 1 {
			return slices.Delete(v, i, i+1)
		}
		v[i] = without(v[i], at[1:])
		return v
	}
	return v
}

// lessNews are the places in a report whose absence has a meaning of its own, such as "no recovery was seen": a report
// without one states something else, and not less. Each has what its absence states.
var lessNews = map[string]string{
	".drives[].reading.tests":                "the drive has run no test",
	".drives[].reading.tests[]":              "the drive has run one test less",
	".pools[]":                               "the host has no such pool; a drive in no pool has no siblings there",
	".pools[].groups[]":                      "the same for a group",
	".pools[].groups[].members[]":            "the same for a member",
	".pools[].groups[].members[].drive":      "the same: which drive it is on is not known",
	".pools[].groups[].members[].log":        "it depends on no log device",
	".pools[].groups[].protection.domains":   "it does not spread over hosts",
	".pools[].limit":                         "the pool may be filled",
	".pools[].offers":                        "the pool takes no orders: the recipe is another, by hand",
	".pools[].offers[]":                      "the same",
	".pools[].recoveries":                    "no recovery was ever seen",
	".pools[].recoveries[]":                  "the same",
	".pools[].volumes[]":                     "there is one volume less to lose",
	".pools[].groups[].members[].bad_blocks": "none",
}

// lessEverywhere are the places whose absence has such a meaning if they are left out everywhere.
var lessEverywhere = map[string]string{
	".drives[].medium":       "virtual disks, whose kind is not known: all are taken as the same kind",
	".drives[].identity.wwn": "drives that have none: those in pools are not found, and have no siblings there",
}

// TestFewerFacts: a report that lacks something never makes the service sound safer. No margin is greater, no other
// drive is sound, fits or can be pulled, no loss has a better outcome, and no other check passes. Every kind of place in
// the demo's reports is left out in two ways: for one drive, pool or member after a whole report, and everywhere in the
// first report.
func TestFewerFacts(t *testing.T) {
	now := time.Now().UTC().Truncate(time.Second)
	fleet, err := lab.Open(filepath.Join(t.TempDir(), "lab.json"), now, 0, lab.HeronPoint(0))
	require.NoError(t, err)
	texts := reportsOf(t, fleet)
	parse := func() (out []any) {
		for _, text := range texts {
			var v any
			require.NoError(t, json.Unmarshal([]byte(text), &v))
			out = append(out, v)
		}
		return out
	}
	// accepted are the reports that the API takes.
	accepted := func(values []any) (out []api.Report) {
		for _, v := range values {
			text, err := json.Marshal(v)
			require.NoError(t, err)
			var r api.Report
			if missing, err := bounds.Missing(text, "Report"); err == nil && missing == "" &&
				json.Unmarshal(text, &r) == nil && bounds.Check(r) == nil {
				out = append(out, r)
			}
		}
		return out
	}
	require.Len(t, accepted(parse()), len(fleet.Hosts), "whole reports are accepted")
	whole := states(t, fleet, nil, accepted(parse()))
	good := 0
	for _, v := range whole {
		good += min(1, max(0, v))
	}
	require.Greater(t, good, 1000)

	type where struct {
		host int
		at   place
	}
	forms := map[string][]where{}
	for host, v := range parse() {
		for _, at := range placesIn(v, nil) {
			form := at.String()
			// Which values and attributes a drive has depends on its maker.
			if strings.Contains(form, ".metrics.") || strings.Contains(form, ".attributes[]") || lessNews[form] != "" {
				continue
			}
			forms[form] = append(forms[form], where{host, at})
		}
	}
	require.Greater(t, len(forms), 150)
	var tried atomic.Int32
	var work errgroup.Group
	work.SetLimit(2)
	for form, all := range forms {
		for first, some := range map[bool][]where{true: {all[len(all)/2]}, false: all} {
			if !first && lessEverywhere[form] != "" {
				continue
			}
			work.Go(func() error {
				values := parse()
				for _, x := range slices.Backward(some) { // so that the numbers of entries stay right
					values[x.host] = without(values[x.host], x.at)
				}
				less := accepted(values)
				if len(less) == 0 {
					return nil // the hosts do not report
				}
				tried.Add(1)
				var before []api.Report
				if first {
					before = accepted(parse())
				}
				for what, is := range states(t, fleet, before, less) {
					was, known := whole[what]
					// If the health of other members is not known, the check of their health says so.
					if strings.HasSuffix(what, ": only-matter") && strings.HasPrefix(form, ".drives[].reading") {
						continue
					}
					if known && is > was || !known && strings.HasPrefix(what, "fits ") {
						t.Errorf("without %s, %d of %d: %q is %d, and was %d (%t)", form, len(some), len(all), what, is, was, known)
					}
				}
				return nil
			})
		}
	}
	require.NoError(t, work.Wait())
	require.Greater(t, int(tried.Load()), 150)
}
