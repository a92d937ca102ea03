package judging

import (
	"maps"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/service/fleet"
)

// changes updates the places, sections and hosts of a judgement, and gives the keys of the drives whose grounds may
// have changed: drives with new data, their peers and neighbours, drives that do not answer, and drives whose turn it
// is.
func (s *State) changes(j *judgement, elapsed time.Duration, now time.Time) (look, moved, aged map[string]bool) {
	look, moved, aged = map[string]bool{}, map[string]bool{}, map[string]bool{}
	came := s.lookAtDrives(j, elapsed, look, moved)
	s.lookAtPools(j, look, moved)
	groups := map[*string]bool{} // by the first key in the list of a group
	for _, d := range came {
		peers := j.places[d.Key()].Peers
		if len(peers) == 0 || groups[&peers[0]] {
			continue
		}
		groups[&peers[0]] = true
		for _, peer := range peers {
			look[peer] = true
		}
	}
	s.lookAtReadings(j, came, look, aged)
	s.lookAtHosts(j, now, look)
	for _, shifts := range []map[string]health.Shift{s.Shifts, j.shifts} {
		for key := range shifts {
			if s.Shifts[key] != j.shifts[key] {
				look[key] = true
			}
		}
	}
	j.shifts = maps.Clone(s.Shifts)
	for _, keys := range []map[string]bool{look, moved, aged} {
		for key := range keys {
			if s.fleet.Drives[key] == nil {
				delete(keys, key)
			}
		}
	}
	return look, moved, aged
}

// lookAtDrives finds the drives with new data, new drives (which count as moved as well), drives that do not answer,
// and some whose turn it is.
func (s *State) lookAtDrives(
	j *judgement,
	elapsed time.Duration,
	look, moved map[string]bool,
) (came []*fleet.Drive) {
	see := func(d *fleet.Drive) {
		key := d.Key()
		look[key] = true
		was, known := j.seen[key]
		if known && was.drive == d && was.version == d.Version() {
			return
		}
		came = append(came, d)
		if !known {
			moved[key] = true
		}
		j.seen[key] = seenDrive{d, d.Version()}
		if j.absent[key] = true; d.Present {
			delete(j.absent, key)
		}
	}
	changed := s.fleet.TakeChanged()
	if len(j.seen) == 0 { // the first judgement
		for _, d := range s.fleet.Drives {
			see(d)
		}
	}
	for _, d := range changed {
		if s.fleet.Drives[d.Key()] == d {
			see(d)
		}
	}
	for key := range j.absent {
		look[key] = true
	}
	for _, key := range s.turns(j, elapsed) {
		if d := s.fleet.Drives[key]; d != nil {
			see(d)
		}
	}
	return came
}

// turns are some of the unchanged drives, so many that each has its turn within wholeFor.
func (s *State) turns(j *judgement, elapsed time.Duration) (keys []string) {
	if len(j.turn) == 0 {
		j.turn = slices.AppendSeq(make([]string, 0, len(j.seen)), maps.Keys(j.seen))
	}
	share := min(1, float64(elapsed)/float64(s.Clock.AtLeast(wholeFor, 10*time.Second)))
	n := min(len(j.turn), TurnAtLeast+int(share*float64(len(j.seen))))
	if share == 1 {
		n = len(j.turn)
	}
	keys, j.turn = j.turn[:n], j.turn[n:]
	return keys
}

// lookAtPools finds the pools that were reported again or no longer exist, and updates the places of their drives.
func (s *State) lookAtPools(j *judgement, look, moved map[string]bool) {
	again := map[string]bool{} // drives whose places must be sorted
	drop := func(id string) {
		for key := range j.pools[id].places {
			again[key] = true
		}
		delete(j.pools, id)
	}
	for id := range s.poolsToLookAt(j) {
		p := s.fleet.Pools[id]
		if p == nil {
			drop(id)
			delete(j.layered, id)
			continue
		}
		if delete(j.layered, id); p.Layered() {
			j.layered[id] = true
		}
		margin := -1 << 20
		if m, known := s.fleet.Margin(p); known {
			margin = int(m)
		}
		was := j.pools[id]
		if was.pool == p && was.margin == margin {
			continue
		}
		drop(id)
		x := seenPool{pool: p, margin: margin, places: map[string][]fleet.Place{}}
		s.recoveries.PlacesOf(p, x.places)
		for key := range x.places {
			again[key] = true
		}
		j.pools[id] = x
	}
	for key := range again {
		look[key] = true
		at, in := s.inOrder(j, key)
		if (j.places[key].Pool != nil) != in {
			moved[key] = true
		}
		if j.places[key] = at; !in {
			delete(j.places, key)
		}
	}
	scrubs, version := s.recoveries.CleanScrubs()
	if j.scrubsOf == version {
		return
	}
	j.scrubsOf = version
	for id, p := range j.pools {
		if !scrubs[id].Equal(j.scrubs[id]) {
			for key := range p.places {
				look[key] = true
			}
		}
	}
	j.scrubs = scrubs
}

// poolsToLookAt are the ids of the pools that were added, changed or removed, and of those on other pools, which change
// with these.
func (s *State) poolsToLookAt(j *judgement) map[string]bool {
	ids, next, all := s.fleet.ChangedPools(j.poolsSeen)
	out := maps.Clone(j.layered)
	for _, id := range ids {
		out[id] = true
	}
	if all || len(j.pools) == 0 {
		for id := range j.pools {
			out[id] = true
		}
		for id := range s.fleet.Pools {
			out[id] = true
		}
	}
	j.poolsSeen = next
	return out
}

// inOrder are the places of a drive, the worst first. Pools are visited in a fixed order, so that the result is
// deterministic.
func (s *State) inOrder(j *judgement, key string) (at fleet.Place, in bool) {
	margins := map[string]int{}
	for _, p := range s.fleet.PoolsWith(key) {
		x := j.pools[p.ID]
		margins[p.ID] = x.margin
		for _, place := range x.places[key] {
			switch {
			case !in:
				at, in = place, true
			case place.WorseThan(at, margins):
				place.Also = append(
					slices.Clip(at.Also),
					fleet.Place{
						Pool:    at.Pool,
						Member:  at.Member,
						Group:   at.Group,
						Peers:   at.Peers,
						Filling: at.Filling,
					},
				)
				at = place
			default:
				at.Also = append(slices.Clip(at.Also), place)
			}
		}
	}
	return at, in
}

// lookAtReadings finds drives with other power-on hours, updates the temperatures of drives with new data, and adds all
// drives of a section whose temperatures changed.
func (s *State) lookAtReadings(j *judgement, came []*fleet.Drive, look, aged map[string]bool) {
	changed := map[*section]bool{}
	for _, d := range came {
		key := d.Key()
		was, hours, at := j.of[key], -1.0, ""
		if p, told := d.Record["power_on_hours"].Last(); told {
			hours = p.Value
		}
		if was.hours != hours {
			aged[key] = true
		}
		if d.Section != "" {
			at = d.Host + "/" + d.Section
		}
		if was.hours != hours || was.section != at {
			if old := j.sections[was.section]; old != nil && was.section != at {
				delete(old.drives, key)
				delete(old.degrees, key)
				changed[old] = true
			}
			was.hours, was.section = hours, at
			j.of[key] = was
		}
		if at == "" {
			continue
		}
		sec := j.sections[at]
		if sec == nil {
			sec = &section{degrees: map[string]float64{}, drives: map[string]bool{}}
			j.sections[at] = sec
		}
		sec.drives[key] = true
		before, had := sec.degrees[key]
		last, has := d.Record["temperature_celsius"].Last()
		has = has && d.Present
		if has {
			sec.degrees[key] = last.Value
		} else {
			delete(sec.degrees, key)
		}
		if has != had || has && last.Value != before {
			changed[sec] = true
		}
	}
	for sec := range changed {
		group := health.Robust(slices.Collect(maps.Values(sec.degrees)))
		if group != sec.group {
			sec.group = group
			for key := range sec.drives {
				look[key] = true
			}
		}
	}
}

// lookAtHosts adds the drives of hosts that stopped reporting, or report again.
func (s *State) lookAtHosts(j *judgement, now time.Time, look map[string]bool) {
	turned := map[string]bool{}
	for name, h := range s.fleet.Hosts {
		if late := s.fleet.Late(h, now); late != j.late[name] {
			j.late[name] = late
			turned[name] = true
		}
	}
	if len(turned) == 0 {
		return
	}
	for key, d := range s.fleet.Drives {
		if turned[d.Host] {
			look[key] = true
		}
	}
}

// relate finds the drives that count as failed now, and adds the drives whose failed siblings changed. moved are drives
// that are new, joined a pool or left all pools; aged are those with other power-on hours.
func (s *State) relate(j *judgement, look, moved, aged, settle map[string]bool, now time.Time) {
	// drives that count as failed, whose siblings must be found again
	batch, hours := map[string]bool{}, map[string]bool{}
	for key := range look {
		d := s.fleet.Drives[key]
		f := failure(j.of[key].hits, d.Standing)
		was, bad := j.bad[key]
		switch {
		case f == nil && bad:
			s.unrelate(j, key, settle)
		case f != nil:
			since := f.Since
			if since.IsZero() {
				if since = now; bad {
					since = was.since
				}
			}
			if !bad || !since.Equal(was.since) {
				batch[key], hours[key] = true, true
			}
			was.since = since
			j.bad[key] = was
		}
	}
	pools := map[*fleet.Pool]bool{}
	for _, keys := range []map[string]bool{moved, aged} {
		for key := range keys {
			pools[j.places[key].Pool] = true
		}
	}
	delete(pools, nil)
	for p := range pools { // its hours may equal those of another now
		p.Everyone(func(_ string, m *pool.Member) {
			if _, bad := j.bad[m.Drive]; bad {
				hours[m.Drive] = true
			}
		})
	}
	for key := range moved {
		for _, of := range []map[string]health.Sibling{j.batch[key], j.hours[key]} {
			for bad := range of {
				batch[bad], hours[bad] = true, true
			}
		}
		d := s.fleet.Drives[key]
		for _, k := range append(s.fleet.Bought(d), s.fleet.Batches[fleet.Batch(d)]...) {
			if _, bad := j.bad[k]; bad {
				batch[k] = true
			}
		}
	}
	for key := range batch {
		s.relateOne(j, key, false, s.sameBatch, settle)
	}
	for key := range hours {
		s.relateOne(j, key, true, s.sameHours, settle)
	}
}

// unrelate removes a drive that no longer counts as failed from its siblings.
func (s *State) unrelate(j *judgement, key string, settle map[string]bool) {
	nobody := func(*fleet.Drive, fleet.Place) []string { return nil }
	s.relateOne(j, key, false, nobody, settle)
	s.relateOne(j, key, true, nobody, settle)
	delete(j.bad, key)
}

// relateOne finds the siblings of one drive that counts as failed: those made together with it, or with the same hours.
func (s *State) relateOne(
	j *judgement,
	key string,
	byHours bool,
	find func(*fleet.Drive, fleet.Place) []string,
	settle map[string]bool,
) {
	f, bad := j.bad[key]
	if !bad {
		return
	}
	d := s.fleet.Drives[key]
	was, of, why := f.batch, j.batch, ""
	if byHours {
		was, of = f.hours, j.hours
	}
	now := map[string]bool{}
	if d != nil {
		for _, target := range find(d, j.places[key]) {
			now[target] = j.places[target].Pool != nil && s.fleet.Drives[target] != nil
		}
		why = "same model and serials near " + d.Desc.Serial
		if byHours {
			why = "same model and nearly equal power-on hours"
		}
	}
	for target := range was {
		if !now[target] {
			delete(of[target], key)
			if s.fleet.Drives[target] != nil {
				settle[target] = true
			}
		}
	}
	kept := map[string]bool{}
	for target, counts := range now {
		if !counts {
			continue
		}
		kept[target] = true
		x := health.Sibling{Tail: d.Tail(), At: f.since, Why: why, Hours: byHours}
		if !byHours && slices.Contains(s.fleet.Bought(d), target) {
			x.Why = "bought in one batch"
		}
		if of[target] == nil {
			of[target] = map[string]health.Sibling{}
		}
		if of[target][key] != x {
			of[target][key] = x
			settle[target] = true
		}
	}
	if byHours {
		f.hours = kept
	} else {
		f.batch = kept
	}
	j.bad[key] = f
}

// siblingsOf are the failed siblings of a drive, each once: made together takes precedence over equal hours.
func (j *judgement) siblingsOf(key string) []health.Sibling {
	var out []health.Sibling
	for bad, x := range j.hours[key] {
		if _, both := j.batch[key][bad]; !both {
			out = append(out, x)
		}
	}
	out = slices.AppendSeq(out, maps.Values(j.batch[key]))
	slices.SortFunc(out, func(a, b health.Sibling) int { return strings.Compare(a.Tail, b.Tail) })
	return out
}
