package views

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/inventory"
	"lantern/internal/nearest"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
)

// Drives lists drives that fit, a page at a time, in order of their serials' pool, host and bay.
func (s *Service) Drives(f api.ListDrivesParams) (api.DrivePage, error) {
	where, known, err := conditions(f.Where)
	if err != nil {
		return api.DrivePage{}, err
	}
	metric := drive.MetricName(strings.TrimPrefix(f.Sort, "-"))
	if _, ok := drive.MetricByName(metric); !ok && metric != "" && metric != "verdict" && metric != "place" {
		return api.DrivePage{}, problem.New(
			422,
			"bad-sort",
			"All metrics: lantern metrics",
			"Drives can be sorted by place, verdict or a metric, not by %q%s",
			metric,
			nearest.Meant(string(metric), append(drive.Names(), "place", "verdict")),
		)
	}
	with, err := metricsNamed(f.With)
	if err != nil {
		return api.DrivePage{}, err
	}
	for _, names := range []*[]string{&f.Host, &f.Pool, &f.Model} {
		*names = slices.DeleteFunc(*names, func(n string) bool { return n == "" }) // an empty one asks for nothing
	}
	f.Verdict = slices.DeleteFunc(f.Verdict, func(v api.Verdict) bool { return v == "" })
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.namesThere(f); err != nil {
		return api.DrivePage{}, err
	}
	places := s.judging.Places()
	fits := s.fitting(f, where, known)
	s.sortDrives(fits, f.Sort)
	page := api.DrivePage{Drives: []api.Drive{}, Total: len(fits)}
	from := 0
	if f.Cursor != "" {
		i := slices.IndexFunc(fits, func(d *fleet.Drive) bool { return d.Desc.Key() == f.Cursor })
		if i < 0 {
			return page, problem.New(
				422,
				"bad-cursor",
				"Begin again without a cursor.",
				"The cursor is of another list.",
			)
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
			if v, ok := s.fleet.ViewMetric(d, m); ok {
				one.Metrics = append(one.Metrics, v)
			}
		}
		page.Drives = append(page.Drives, one)
	}
	return page, nil
}

// conditions reads what a list asks for: of metrics, and of the inventory.
func conditions(text string) (metrics []history.Comparison, known []inventory.Condition, err error) {
	var rest []string
	for _, part := range strings.Split(text, ",") {
		c, ours, err := inventory.ParseCondition(part)
		switch {
		case err != nil:
			return nil, nil, problem.New(
				422,
				"bad-where",
				"What can be asked for: "+strings.Join(inventory.Comparable(), ", "),
				"%s.",
				err,
			)
		case ours:
			known = append(known, c)
		default:
			rest = append(rest, part)
		}
	}
	if metrics, err = history.ParseWhere(strings.Join(rest, ",")); err != nil {
		return nil, nil, problem.New(
			422,
			"bad-where",
			"All metrics: lantern metrics; of the inventory: "+strings.Join(inventory.Comparable(), ", "),
			"%s.",
			err,
		)
	}
	return metrics, known, nil
}

// metricsNamed are the metrics of a list with commas.
func metricsNamed(list string) (with []drive.Metric, err error) {
	for _, n := range strings.FieldsFunc(list, func(r rune) bool { return r == ',' }) {
		m, ok := drive.MetricByName(drive.MetricName(n))
		if !ok {
			return nil, problem.New(
				422,
				"no-metric",
				"All metrics: lantern metrics",
				"No metric %q%s",
				n,
				nearest.Meant(n, drive.Names()),
			)
		}
		with = append(with, m)
	}
	return with, nil
}

// oneOf says whether a value is among those that a filter names; a filter that names none lets all through.
func oneOf[T comparable](names []T, v T) bool { return len(names) == 0 || slices.Contains(names, v) }

// namesThere refuses a filter by a host, pool or model that is not there: it is a slip, and an empty list would say
// that nothing is wrong.
func (s *State) namesThere(f api.ListDrivesParams) error {
	var models []string
	for _, d := range s.fleet.Drives {
		models = append(models, d.Desc.Model)
	}
	for _, x := range []struct {
		kind        string
		what        string
		asked, have []string
	}{
		{"no-host", "host", f.Host, slices.Collect(maps.Keys(s.fleet.Hosts))},
		{"no-pool", "pool", f.Pool, fleet.PoolNames(s.fleet)}, {"no-model", "model", f.Model, models},
	} {
		for _, name := range x.asked {
			if !slices.Contains(x.have, name) {
				return problem.Missing(x.kind, x.what, name, x.have)
			}
		}
	}
	return nil
}

// fitting are the drives that fit every filter, in no order.
func (s *State) fitting(
	f api.ListDrivesParams,
	where []history.Comparison,
	known []inventory.Condition,
) (fits []*fleet.Drive) {
	verdicts := s.judging.Judge()
	places := s.judging.Places()
	for key, d := range s.fleet.Drives {
		name := ""
		if p := places[key].Pool; p != nil {
			name = p.Name
		}
		if !oneOf(f.Host, d.Host) || !oneOf(f.Pool, name) || !oneOf(f.Model, d.Desc.Model) ||
			!oneOf(f.Verdict, api.Verdict(verdicts[key].Verdict)) || !d.Matches(f.Q, name) {
			continue
		}
		if !slices.ContainsFunc(where, func(c history.Comparison) bool { return !c.Holds(d.Record) }) &&
			s.inventory.Fits(d, known) {
			fits = append(fits, d)
		}
	}
	return fits
}

// sortDrives sorts by place, verdict or a metric; a minus turns the order round.
func (s *State) sortDrives(fits []*fleet.Drive, sort string) {
	metric := drive.MetricName(strings.TrimPrefix(sort, "-"))
	verdicts := s.judging.Judge()
	slices.SortFunc(fits, func(a, b *fleet.Drive) int {
		way := 1
		if strings.HasPrefix(sort, "-") {
			way = -1
		}
		by := 0
		switch metric {
		case "", "place":
		case "verdict":
			by = cmp.Compare(verdicts[a.Desc.Key()].Verdict.Gravity(), verdicts[b.Desc.Key()].Verdict.Gravity())
		default:
			// A drive that never told the metric comes last, whichever way.
			x, hasX := a.Record[metric].Last()
			y, hasY := b.Record[metric].Last()
			if hasX != hasY {
				if hasX {
					return -1
				}
				return 1
			}
			by = cmp.Compare(x.Value, y.Value)
		}
		return cmp.Or(way*by, fleet.ByPlace(a, b))
	})
}

// Search finds drives, pools, hosts and bays by any part of their names: the best twenty, those that end in q first.
func (s *Service) Search(q string) []api.Hit {
	s.mu.Lock()
	defer s.mu.Unlock()
	type scored struct {
		api.Hit
		score int
	}
	want := strings.Fields(strings.ToUpper(q))
	var hits []scored
	// Each word must be in one of the names; a name that begins or ends with one counts more.
	add := func(h api.Hit, names ...string) {
		score := 0
		for _, w := range want {
			best := 0
			for _, name := range names {
				name = strings.ToUpper(name)
				switch {
				case strings.HasSuffix(name, w) || strings.HasPrefix(name, w):
					best = 2
				case strings.Contains(name, w):
					best = max(best, 1)
				}
			}
			if best == 0 {
				return
			}
			score += best
		}
		if score > 0 {
			hits = append(hits, scored{h, score})
		}
	}
	verdicts := s.judging.Judge()
	for _, p := range s.fleet.Pools {
		add(api.Hit{Kind: api.HitKindPool, Title: p.Name, Detail: "pool, " + p.Kind, To: "/pools/" + p.Name}, p.Name)
	}
	places := s.judging.Places()
	for name, host := range s.fleet.Hosts {
		add(
			api.Hit{
				Kind:   api.HitKindHost,
				Title:  name,
				Detail: strings.TrimSuffix("host, "+host.Room, ", "),
				To:     "/bays/" + name,
			},
			name,
			host.Room,
		)
	}
	for key, d := range s.fleet.Drives {
		detail := d.Desc.Serial + " · " + fleet.PlaceWords(d)
		if v := verdicts[key].Verdict; v != health.Sound {
			detail += " · " + string(v)
		}
		h := api.Hit{Kind: api.HitKindDrive, Title: d.Tail(), Detail: detail, To: "/drives/" + key}
		pool := ""
		if p := places[key].Pool; p != nil && len(want) > 1 {
			pool = p.Name // alone, a pool's name means the pool
		}
		add(h, d.Desc.Serial, d.Desc.WWN, d.BayName(), d.Desc.Model, pool)
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
