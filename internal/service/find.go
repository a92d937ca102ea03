package service

import (
	"cmp"
	"encoding/json"
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
)

func fromDocument[T any](b []byte) (v T, err error) { return v, json.Unmarshal(b, &v) }

// findDrive finds a drive by its key, its serial, the end of its serial, or the bay it is in. s.mu is held.
func (s *Service) findDrive(name string) (*disk, error) {
	if d := s.drives[name]; d != nil {
		return d, nil
	}
	if a, err := enclosure.ParseAddress(strings.TrimSpace(name)); err == nil {
		return s.inBay(a)
	}
	want := strings.ToUpper(strings.TrimSpace(name))
	var fits []*disk
	for _, d := range s.drives {
		if want != "" && strings.HasSuffix(strings.ToUpper(d.Desc.Serial), want) {
			fits = append(fits, d)
		}
	}
	switch {
	case len(fits) == 1:
		return fits[0], nil
	case len(fits) == 0:
		return nil, problem(404, "no-drive", "Look for it with: lantern drives --find "+name, "No drive has a serial that ends in %q.", name)
	}
	slices.SortFunc(fits, func(a, b *disk) int { return cmp.Compare(a.Desc.Serial, b.Desc.Serial) })
	var serials []string
	for _, d := range fits[:min(len(fits), 6)] {
		serials = append(serials, d.Desc.Serial)
	}
	return nil, problem(409, "ambiguous", "Give more characters.", "%d serials end in %q: %s.", len(fits), name, strings.Join(serials, ", "))
}

// inBay is the drive that is in a bay, where that is sure: a guess names no drive.
func (s *Service) inBay(a enclosure.Address) (*disk, error) {
	d := s.occupants(a.Host)[a]
	switch {
	case d == nil:
		return nil, problem(404, "no-drive", "Look at the map: lantern bays "+a.Host, "No drive is known in %s.", a)
	case !d.Present:
		return nil, problem(404, "no-drive", "To look at what was there, name it: "+d.tail()+".", "%s is empty now; %s was the last drive there.", a, d.tail())
	case !d.How.Sure():
		return nil, problem(409, "guessed-bay", "Name it by its label tail.", "Which drive is in %s is a guess.", a)
	}
	return d, nil
}

// findPool finds a pool by its id or its name.
func (s *Service) findPool(name string) (*poolState, error) {
	if p := s.pools[name]; p != nil {
		return p, nil
	}
	var fits []*poolState
	for _, p := range s.pools {
		if p.Name == name {
			fits = append(fits, p)
		}
	}
	switch len(fits) {
	case 1:
		return fits[0], nil
	case 0:
		return nil, problem(404, "no-pool", "See: lantern pools", "There is no pool %q.", name)
	}
	ids := make([]string, len(fits))
	for i, p := range fits {
		ids[i] = p.ID
	}
	slices.Sort(ids)
	return nil, problem(409, "ambiguous", "Use the id.", "%d pools are named %q: %s.", len(fits), name, strings.Join(ids, ", "))
}

// byPlace puts drives in order of their bays.
func byPlace(a, b *disk) int {
	return cmp.Or(cmp.Compare(a.Host, b.Host), cmp.Compare(a.Section, b.Section), cmp.Compare(a.Bay, b.Bay), cmp.Compare(a.Desc.Key(), b.Desc.Key()))
}

// Drives lists drives that fit, a page at a time, in order of their serials' pool, host and bay.
func (s *Service) Drives(f api.ListDrivesParams) (api.DrivePage, error) {
	where, err := history.ParseWhere(f.Where)
	if err != nil {
		return api.DrivePage{}, problem(422, "bad-where", "All metrics: lantern metrics", "%s.", err)
	}
	metric := drive.MetricName(strings.TrimPrefix(f.Sort, "-"))
	if _, ok := drive.MetricByName(metric); !ok && metric != "" && metric != "verdict" && metric != "place" {
		return api.DrivePage{}, problem(422, "bad-sort", "All metrics: lantern metrics", "Drives can be sorted by place, verdict or a metric, not by %q; did you mean %s?", metric, drive.Nearest(string(metric)))
	}
	var with []drive.Metric
	for _, n := range strings.FieldsFunc(f.With, func(r rune) bool { return r == ',' }) {
		m, ok := drive.MetricByName(drive.MetricName(n))
		if !ok {
			return api.DrivePage{}, problem(422, "no-metric", "All metrics: lantern metrics", "There is no metric %q; did you mean %s?", n, drive.Nearest(n))
		}
		with = append(with, m)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	verdicts := s.judge()
	places := s.places()
	var fits []*disk
	for key, d := range s.drives {
		name := ""
		if p := places[key].pool; p != nil {
			name = p.Name
		}
		if f.Host != "" && d.Host != f.Host || f.Pool != "" && name != f.Pool ||
			f.Verdict != "" && string(verdicts[key].verdict) != string(f.Verdict) || !d.matches(f.Q, name) {
			continue
		}
		if !slices.ContainsFunc(where, func(c history.Comparison) bool { return !c.Holds(d.record) }) {
			fits = append(fits, d)
		}
	}
	slices.SortFunc(fits, func(a, b *disk) int {
		way := 1
		if strings.HasPrefix(f.Sort, "-") {
			way = -1
		}
		by := 0
		switch metric {
		case "", "place":
		case "verdict":
			by = cmp.Compare(verdicts[a.Desc.Key()].verdict.Gravity(), verdicts[b.Desc.Key()].verdict.Gravity())
		default:
			// A drive that never told the metric comes last, whichever way.
			x, hasX := a.record[metric].Last()
			y, hasY := b.record[metric].Last()
			if hasX != hasY {
				if hasX {
					return -1
				}
				return 1
			}
			by = cmp.Compare(x.Value, y.Value)
		}
		return cmp.Or(way*by, byPlace(a, b))
	})
	page := api.DrivePage{Drives: []api.Drive{}, Total: len(fits)}
	from := 0
	if f.Cursor != "" {
		i := slices.IndexFunc(fits, func(d *disk) bool { return d.Desc.Key() == f.Cursor })
		if i < 0 {
			return page, problem(422, "bad-cursor", "Begin again without a cursor.", "The cursor is of another list.")
		}
		from = i + 1
	}
	limit := f.Limit
	if limit == 0 {
		limit = 200
	}
	for _, d := range fits[from:] {
		if len(page.Drives) == limit {
			page.Next = page.Drives[limit-1].Key
			break
		}
		one := s.viewDrive(d, places[d.Desc.Key()], false)
		for _, m := range with {
			if v, ok := s.viewMetric(d, m); ok {
				one.Metrics = append(one.Metrics, v)
			}
		}
		page.Drives = append(page.Drives, one)
	}
	return page, nil
}

// matches says whether any of what people know of a drive holds q.
func (d *disk) matches(q, poolName string) bool {
	q = strings.ToUpper(strings.TrimSpace(q))
	if q == "" {
		return true
	}
	for _, s := range []string{d.Desc.Serial, d.Desc.WWN, d.Desc.Model, d.bay(), poolName, d.Host} {
		if strings.Contains(strings.ToUpper(s), q) {
			return true
		}
	}
	return false
}

// Search finds drives, pools, hosts and bays by any part of their names: the best twenty, those that end in q first.
func (s *Service) Search(q string) []api.Hit {
	s.mu.Lock()
	defer s.mu.Unlock()
	type scored struct {
		api.Hit
		score int
	}
	want := strings.ToUpper(strings.TrimSpace(q))
	var hits []scored
	add := func(h api.Hit, name string) {
		name = strings.ToUpper(name)
		switch {
		case strings.HasSuffix(name, want) || strings.HasPrefix(name, want):
			hits = append(hits, scored{h, 2})
		case strings.Contains(name, want):
			hits = append(hits, scored{h, 1})
		}
	}
	verdicts := s.judge()
	for _, p := range s.pools {
		add(api.Hit{Kind: api.HitKindPool, Title: p.Name, Detail: "pool, " + p.Kind, To: "/pools/" + p.Name}, p.Name)
	}
	for name := range s.hosts {
		add(api.Hit{Kind: api.HitKindHost, Title: name, Detail: "host", To: "/bays/" + name}, name)
	}
	for key, d := range s.drives {
		detail := d.Desc.Serial + " · " + placeWords(d)
		if v := verdicts[key].verdict; v != health.Sound {
			detail += " · " + string(v)
		}
		h := api.Hit{Kind: api.HitKindDrive, Title: d.tail(), Detail: detail, To: "/drives/" + key}
		before := len(hits)
		for _, name := range []string{d.Desc.Serial, d.Desc.WWN, d.bay(), d.Desc.Model} {
			if add(h, name); len(hits) > before {
				break
			}
		}
	}
	slices.SortFunc(hits, func(a, b scored) int {
		return cmp.Or(-cmp.Compare(a.score, b.score), -cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Title, b.Title))
	})
	out := []api.Hit{}
	for _, h := range hits[:min(20, len(hits))] {
		out = append(out, h.Hit)
	}
	return out
}
