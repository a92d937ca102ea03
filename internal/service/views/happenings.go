package views

import (
	"cmp"
	"encoding/json"
	"fmt"
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/service/fleet"
	"lantern/internal/store"
	"slices"
	"strings"
)

// mostHappenings bounds what is told of one drive's past.
const mostHappenings = 200

// happenings are what happened to a drive: where it came and went, its self-tests, swaps, and counters that began anew; the
// newest first.
func (s *State) happenings(d *fleet.Drive) []api.Happening {
	out := []api.Happening{}
	key := d.Desc.Key()
	rows, err := store.Newest[store.Event](s.Store, mostHappenings, "subject = ? and kind = ?", key, string(api.EventKindDrive))
	if err != nil {
		s.Log.Error("what happened to a drive cannot be read", "drive", key, "error", err)
	}
	for _, e := range rows {
		out = append(out, api.Happening{At: e.At, Kind: api.HappeningKindPlace, Says: e.Says})
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
		out = append(out, api.Happening{At: l.At, Kind: api.HappeningKindFinding, Says: fmt.Sprintf("%s %s: %s", l.Rule, l.Turn, f.Says)})
	}
	hours := d.Record["power_on_hours"]
	now, _ := hours.Last()
	for _, t := range d.Reading.Tests {
		at, about := hours.Reached(fleet.TestHours(t.Hours, now.Value))
		if at.IsZero() {
			continue // the drive does not say how old it is
		}
		out = append(out, api.Happening{At: at, Kind: api.HappeningKindTest, Says: fmt.Sprintf("%s self-test: %s", t.Kind, t.Result), About: about})
	}
	for _, m := range drive.Catalogue {
		if m.Kind != drive.Counter {
			continue
		}
		for _, at := range d.Record[m.Name].Resets() {
			out = append(out, api.Happening{At: at, Kind: api.HappeningKindReset, Says: string(m.Name) + " began anew"})
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
		if !w.BegunAt.IsZero() {
			out = append(out, api.Happening{At: w.BegunAt, Kind: api.HappeningKindSwap, Says: "a swap begins in which it " + as + ", " + what})
		}
		if !w.EndedAt.IsZero() {
			out = append(out, api.Happening{At: w.EndedAt, Kind: api.HappeningKindSwap, Says: fmt.Sprintf("that swap is %s, %s", w.Phase, what)})
		}
	}
	slices.SortStableFunc(out, func(a, b api.Happening) int {
		return cmp.Or(b.At.Compare(a.At), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Says, b.Says))
	})
	return out[:min(len(out), mostHappenings)]
}
