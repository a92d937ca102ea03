package judging

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// stand stores the findings of a drive, and records what changed, to be written.
func (s *State) stand(key string, d *fleet.Drive, standing []health.Standing) {
	was := d.Standing
	d.Standing = standing
	same := len(was) == len(standing)
	for i := 0; same && i < len(standing); i++ {
		a, b := was[i], standing[i]
		seen, over := b.Seen, a.Grave.Equal(b.Grave) &&
			b.Grave.After(d.StandingKept) // the time since which it no longer holds is stored
		for _, x := range []*health.Standing{&a, &b} { // these times are stored once an hour
			x.At, x.Seen, x.Grave = time.Time{}, time.Time{}, time.Time{}
		}
		same = !over && seen.Sub(d.StandingKept) < time.Hour && reflect.DeepEqual(a, b)
	}
	if !same {
		s.unwritten[key] = true
	}
	s.logFindings(key, was, standing)
	for _, x := range standing {
		if bay := d.BayName(); bay != "" && (x.Rule == "link-crc" || x.Rule == "link-follows-drive") &&
			!slices.Contains(d.BadLinks, bay) {
			d.BadLinks = append(d.BadLinks, bay)
			s.fleet.BadLink(key, d, bay)
			s.unwritten[key] = true
		}
		if x.Verdict.Gravity() >= health.Replace.Gravity() && x.Rule != "vanished" {
			if d.Remember(
				fleet.Past{At: x.Seen, Says: fmt.Sprintf("had the verdict %s (%s)", x.Verdict, health.TitleOf(x.Rule))},
			) {
				s.unwritten[key] = true
			}
		}
	}
}

// logFindings records findings that were raised, changed their verdict or were cleared, to be written.
func (s *State) logFindings(key string, was, is []health.Standing) {
	now := s.Clock.Now()
	note := func(x health.Standing, turn string) {
		s.foundLog = append(
			s.foundLog,
			&store.FoundLog{Drive: key, At: now, Rule: x.Rule, Turn: turn, Doc: ledger.Document(x.Finding(now))},
		)
	}
	for _, x := range is {
		i := slices.IndexFunc(was, func(w health.Standing) bool { return w.Rule == x.Rule })
		switch {
		case i < 0:
			note(x, "raised: "+string(x.Verdict))
		case was[i].Verdict != x.Verdict:
			note(x, "became "+string(x.Verdict))
		}
	}
	for _, w := range was {
		if !slices.ContainsFunc(is, func(x health.Standing) bool { return x.Rule == w.Rule }) {
			note(w, "cleared")
		}
	}
}

// WriteStanding adds changed findings to a batch.
func (s *State) WriteStanding(b *store.Batch) {
	now := s.Clock.Now()
	for key := range s.unwritten {
		if d := s.fleet.Drives[key]; d != nil {
			d.StandingKept = now
			b.Put(&store.Standing{Drive: key, Doc: ledger.Document(d.Standing)})
			b.Put(d.Row())
		}
	}
	for _, row := range s.foundLog {
		b.Add(row)
	}
	s.foundLog = nil
	clear(s.unwritten)
}

// failure is the finding by which a drive counts as failed for its siblings: not a bad link, and not that it was
// pulled.
func failure(hits []health.Hit, standing []health.Standing) *health.Hit {
	for i, h := range hits {
		if health.Failed(h) {
			return &hits[i]
		}
	}
	for i, h := range standing {
		if health.Failed(h.Hit) {
			return &standing[i].Hit
		}
	}
	return nil
}

func (s *State) loadStanding() error {
	rows, err := store.All[store.Standing](s.Store, "drive", "")
	if err != nil {
		return err
	}
	for _, row := range rows {
		d := s.fleet.Drives[row.Drive]
		if d == nil {
			continue
		}
		if err := json.Unmarshal(row.Doc, &d.Standing); err != nil {
			return fmt.Errorf("findings of drive %s: %w", row.Drive, err)
		}
	}
	return nil
}

// Margins of the pools of a drive, now and without it: the least of them. A spare, and a drive whose share was restored
// elsewhere, costs no margin.
func (s *State) Margins(at fleet.Place, key string) (now, after api.Margin) {
	first := true
	least := func(a, b api.Margin) api.Margin {
		if first || a.Known && (!b.Known || b.Members < a.Members) {
			return b
		}
		return a
	}
	at.Every(func(x fleet.Place) {
		n := wire.Margin(s.fleet.Margin(x.Pool))
		a := n
		if x.Member.State != pool.Out && x.Member.State != pool.Standby {
			left, _, known := s.fleet.Without(x.Pool, key, x.Member.Slot)
			a = wire.Margin(left, known)
		}
		now, after = least(now, n), least(after, a)
		first = false
	})
	return now, after
}
